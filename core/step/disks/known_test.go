package disks

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// flip changes a byte of a disk where it is stored, and leaves the time of the file as it was when still is set.
func (w *world) flip(dir, name string, off int64, still bool) {
	w.t.Helper()
	r, err := disk.Open(w.t.Context(), w.folder(dir), name, "")
	require.NoError(w.t, err)
	at, err := r.(disk.Locator).Locate(off)
	require.NoError(w.t, err)
	require.NoError(w.t, r.Close())
	file := filepath.Join(dir, at.File)
	info, err := os.Stat(file)
	require.NoError(w.t, err)
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(w.t, err)
	b := make([]byte, 1)
	_, err = f.ReadAt(b, at.At)
	require.NoError(w.t, err)
	b[0] ^= 0x40
	_, err = f.WriteAt(b, at.At)
	require.NoError(w.t, err)
	require.NoError(w.t, f.Close())
	changed := info.ModTime()
	if !still {
		changed = changed.Add(time.Minute)
	}
	require.NoError(w.t, os.Chtimes(file, changed, changed))
}

// TestRotIsNotLaundered: whoever reads a whole disk that has a tag compares with it. What differs although nothing has written to the
// files stops the job, and is told in the receipt and in the new tag when the disk is taken as it is.
func TestRotIsNotLaundered(t *testing.T) {
	for _, made := range []struct{ format, layout string }{{"raw", "thin"}, {"qcow2", "thin"}, {"vmdk", "split-flat"}, {"vhdx", "dynamic"}} {
		for _, how := range []string{"convert", "copy", "copy without proof", "move", "compact"} {
			if made.format != "raw" && how != "convert" && how != "copy" || testing.Short() && how != "copy" {
				continue // as for raw
			}
			t.Run(made.format+" "+how, func(t *testing.T) {
				w := newWorld(t)
				f, err := disk.Lookup(made.format)
				require.NoError(t, err)
				l, err := f.Layout(made.layout)
				require.NoError(t, err)
				name := "ticketing" + f.Extensions[0]
				dir := w.made(f, l, name)
				w.flip(dir, name, 5<<20, true)
				w.ends = step.Ends{Source: w.folder(dir), Destination: apart{w.folder(w.to)}}
				r := plan.Request{Kind: plan.Copy, Source: plan.Place{Path: name}, Destination: &plan.Place{Path: name}}
				switch how {
				case "copy without proof":
					r.NoProof, r.NoTag = true, true
				case "move":
					r.Release = true
				case "convert":
					r.Kind, r.As, r.Destination = plan.Convert, "vdi", &plan.Place{Path: "ticketing.vdi"}
				case "compact":
					r.Kind, r.As, r.Layout, r.Replace, w.ends.Destination = plan.Convert, made.format, made.layout, true, w.ends.Source
				}
				before, err := os.ReadDir(dir)
				require.NoError(t, err)
				p := w.plan(r)
				require.False(t, p.Blocked(), "%+v", p.Checks)
				done, err := w.run(t.Context(), p, nil)
				require.ErrorIs(t, err, step.ErrNotProven)
				require.ErrorContains(t, err, "although nothing has written to its files since")
				assert.Equal(t, []fingerprint.Range{{Offset: 5 << 20, Length: 1 << 20}}, done.Differences)
				after, err := os.ReadDir(dir)
				require.NoError(t, err)
				assert.Len(t, after, len(before), "the source stays, and nothing is held")
				placed, err := os.ReadDir(w.to)
				require.NoError(t, err)
				assert.Empty(t, placed)

				r.AsItIs = true
				done, err = w.run(t.Context(), w.plan(r), nil)
				require.NoError(t, err)
				require.NotNil(t, done.Earlier)
				assert.Equal(t, []fingerprint.Range{{Offset: 5 << 20, Length: 1 << 20}}, done.Earlier.Differences)
				assert.False(t, done.Earlier.Older)
				require.NotEmpty(t, done.Doubts)
				assert.Contains(t, done.Doubts[0], "was taken as it is")
				if r.NoTag {
					return
				}
				tag, err := inspect.TagHead(w.ends.Destination, done.Destination.Place.Path)
				require.NoError(t, err)
				assert.Equal(t, done.Doubts, tag.Doubts)
				require.Len(t, tag.History, 2, "what its own tag said, and what that was made of")
				assert.Equal(t, done.Earlier.Fingerprint, tag.History[0].Fingerprint)
				assert.Contains(t, tag.History[0].Differs, "1 range(s)")
				assert.Equal(t, "gate-kiosk.raw", tag.History[1].Disk)
				assert.NotEqual(t, tag.Fingerprint, tag.History[0].Fingerprint)

				prove := plan.Request{Kind: plan.Prove, Source: plan.Place{Path: done.Destination.Place.Path}, Tag: plan.TagBeside}
				w.ends = step.Ends{Source: w.ends.Destination}
				done, err = w.run(t.Context(), w.plan(prove), nil)
				require.NoError(t, err)
				assert.Equal(t, receipt.Proven, done.Outcome)
				require.NotEmpty(t, done.Doubts, "it is not content")
			})
		}
	}
}

// TestRotOfWhatComesAlong is not laundered either: bases and overlays have tags of their own.
func TestRotOfWhatComesAlong(t *testing.T) {
	for _, rotten := range []string{"base.qcow2", "top.qcow2"} {
		v := newVoyage(t, 1)
		v.make("qcow2", "thin", "base.qcow2", "")
		v.make("qcow2", "overlay", "middle.qcow2", "base.qcow2")
		v.make("qcow2", "overlay", "top.qcow2", "middle.qcow2")
		w := &world{t: t}
		w.flip(v.quay, rotten, v.storedIn(rotten), true)
		request := plan.Request{
			Kind:        plan.Copy,
			Source:      plan.Place{Pool: "quay", Path: "middle.qcow2"},
			Destination: &plan.Place{Pool: "seabag", Path: "middle.qcow2"},
			Family:      true,
		}
		_, err := v.run(v.plan(request), nil)
		require.ErrorIs(t, err, step.ErrNotProven, rotten)
		request.AsItIs = true
		done, err := v.run(v.plan(request), nil)
		require.NoError(t, err)
		assert.NotEmpty(t, done.Doubts)
	}
}

// TestOlderTag: a machine that ran changes its disk. That is told, and the new tag tells where its origin came from.
func TestOlderTag(t *testing.T) {
	w := newWorld(t)
	f, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	dir := w.made(f, f.Layouts[0], "ticketing.qcow2")
	w.flip(dir, "ticketing.qcow2", 5<<20, false)
	w.ends.Source = w.folder(dir)
	p := w.plan(
		plan.Request{Kind: plan.Convert, Source: plan.Place{Path: "ticketing.qcow2"}, Destination: &plan.Place{Path: "ticketing.vhd"}, As: "vhd"},
	)
	done, err := w.run(t.Context(), p, nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, done.Outcome)
	assert.Empty(t, done.Doubts, "that is as it should be")
	assert.True(t, done.Earlier.Older)
	assert.Contains(t, done.Remarks[len(done.Remarks)-1], "ticketing.qcow2 was written to after its tag was made")
	tag, err := inspect.TagHead(w.ends.Destination, "ticketing.vhd")
	require.NoError(t, err)
	require.Len(t, tag.History, 2)
	assert.NotEmpty(t, tag.History[0].Differs)
	assert.Equal(t, "gate-kiosk.raw", tag.History[1].Disk)
}

// TestARenameClaimsNothing that it did not look at: its fingerprint is the tag's and says so, and a tag older than its disk is held.
func TestARenameClaimsNothing(t *testing.T) {
	for _, older := range []bool{false, true} {
		w := newWorld(t)
		f, err := disk.Lookup("raw")
		require.NoError(t, err)
		dir := w.made(f, f.Layouts[0], "ticketing.raw")
		w.flip(dir, "ticketing.raw", 5<<20, !older)
		w.ends = step.Ends{Source: w.folder(dir), Destination: w.folder(dir)}
		old, err := os.ReadFile(filepath.Join(dir, "ticketing.raw.bagtag"))
		require.NoError(t, err)
		p := w.plan(
			plan.Request{Kind: plan.Copy, Source: plan.Place{Path: "ticketing.raw"}, Destination: &plan.Place{Path: "tickets.raw"}, Release: true},
		)
		require.True(t, p.Bodies[0].Renames)
		done, err := w.run(t.Context(), p, nil)
		require.NoError(t, err)
		assert.Contains(t, done.Compared, "its content was not read")
		held, err := ListHeld(w.ends.Source)
		require.NoError(t, err)
		if older {
			assert.Empty(t, done.Source.Fingerprint)
			assert.Empty(t, done.Destination.Fingerprint)
			require.Len(t, held, 1)
			assert.Equal(t, "ticketing.raw.bagtag", held[0].Path)
			kept, err := os.ReadFile(filepath.Join(dir, HeldFolder, held[0].ID, heldFiles, "ticketing.raw.bagtag"))
			require.NoError(t, err)
			assert.Equal(t, old, kept)
		} else {
			assert.Empty(t, held)
			assert.Equal(t, receipt.FromTag, done.Destination.FingerprintFrom)
			tag, err := inspect.TagHead(w.ends.Destination, "tickets.raw")
			require.NoError(t, err)
			assert.True(t, tag.Made.Equal(*done.Destination.FingerprintAt), "when it was read")
		}
		// Either way the tag went along, so that the damage is found under the new name.
		w.ends = step.Ends{Source: w.ends.Source}
		_, err = w.run(t.Context(), w.plan(plan.Request{Kind: plan.Prove, Source: plan.Place{Path: "tickets.raw"}, Tag: plan.TagBeside}), nil)
		require.ErrorIs(t, err, step.ErrNotProven)
	}
}

// TestCutIsNotWhole: what an inspection doubts is a check of every plan and stands in the receipt; files that are known to be missing or
// short block before a byte is written.
func TestCutIsNotWhole(t *testing.T) {
	cut := func(t *testing.T, tagged bool) *world {
		w := newWorld(t)
		f, err := disk.Lookup("raw")
		require.NoError(t, err)
		// A partition table whose partition ends where the disk does.
		copy(w.source, make([]byte, 1<<20))
		copy(w.source[446:], []byte{0, 0, 0, 0, 0x83, 0, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0})
		sectors := uint32(diskSize/512 - 2048)
		copy(w.source[458:], []byte{byte(sectors), byte(sectors >> 8), byte(sectors >> 16), byte(sectors >> 24)})
		w.source[510], w.source[511] = 0x55, 0xaa
		require.NoError(t, os.Chmod(filepath.Join(w.from, "gate-kiosk.raw"), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(w.from, "gate-kiosk.raw"), w.source, 0o600))
		dir := w.made(f, f.Layouts[0], "ticketing.raw")
		require.NoError(t, os.Truncate(filepath.Join(dir, "ticketing.raw"), diskSize-(3<<20)))
		if !tagged {
			require.NoError(t, os.Remove(filepath.Join(dir, "ticketing.raw.bagtag")))
		}
		w.ends.Source = w.folder(dir)
		return w
	}
	for _, kind := range []string{plan.Convert, plan.Copy} {
		r := plan.Request{Kind: kind, Source: plan.Place{Path: "ticketing.raw"}, Destination: &plan.Place{Path: "ticketing.raw"}}
		if kind == plan.Convert {
			r.As, r.Destination = "vhdx", &plan.Place{Path: "ticketing.vhdx"}
		}
		w := cut(t, false)
		p := w.plan(r)
		assert.True(t, p.Warned())
		done, err := w.run(t.Context(), p, nil)
		require.NoError(t, err)
		require.Len(t, done.Doubts, 1)
		assert.Contains(t, done.Doubts[0], "the disk was cut")

		w = cut(t, true)
		p = w.plan(r)
		require.True(t, p.Blocked())
		assert.Contains(t, p.Checks[2].Message, "ticketing.raw has")
		r.AsItIs = true
		done, err = w.run(t.Context(), w.plan(r), nil)
		require.NoError(t, err)
		assert.Len(t, done.Doubts, 2, "both")
	}
}

// TestPiecesThatAreNotWhole are named, by what lies beside them, before a byte is written.
func TestPiecesThatAreNotWhole(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(t *testing.T, dir string)
		want   string // empty where nothing is known
	}{
		{"whole", func(*testing.T, string) {}, ""},
		{"the last is missing, by the tag", func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, "a.raw.SHA256SUMS")))
			require.NoError(t, os.Remove(filepath.Join(dir, "a.raw.003")))
		}, "a.raw.003 is missing"},
		{"the last is missing, by the checksums", func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, "a.raw-pieces.bagtag")))
			require.NoError(t, os.Remove(filepath.Join(dir, "a.raw.003")))
		}, "a.raw.003 is missing"},
		{"one is short, by the others", func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, "a.raw-pieces.bagtag")))
			require.NoError(t, os.Truncate(filepath.Join(dir, "a.raw.002"), 1<<20))
		}, "a.raw.002 has 1048576 bytes and the first one 5242880"},
		{"the last is short, by the tag", func(t *testing.T, dir string) {
			require.NoError(t, os.Truncate(filepath.Join(dir, "a.raw.005"), 512))
		}, "a.raw.005 has 512 bytes, and should have"},
		{"all have other names, and the tag is of the old ones", func(t *testing.T, dir string) {
			for _, from := range []string{"a.raw.001", "a.raw.002", "a.raw.003", "a.raw.004", "a.raw.005", "a.raw-pieces.bagtag", "a.raw.SHA256SUMS"} {
				require.NoError(t, os.Rename(filepath.Join(dir, from), filepath.Join(dir, "b"+from[1:])))
			}
		}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			f, err := disk.Lookup("raw")
			require.NoError(t, err)
			l, err := f.Layout("pieces")
			require.NoError(t, err)
			dir := w.made(f, l, "a.raw")
			c.change(t, dir)
			first := "a.raw.001"
			if _, err := os.Stat(filepath.Join(dir, first)); err != nil {
				first = "b.raw.001"
			}
			w.ends.Source = w.folder(dir)
			p := w.plan(
				plan.Request{Kind: plan.Convert, Source: plan.Place{Path: first}, Destination: &plan.Place{Path: "joined.qcow2"}, As: "qcow2"},
			)
			assert.Equal(t, c.want != "", p.Blocked(), "%+v", p.Checks)
			report, err := inspect.File(t.Context(), disk.Origin{Folder: w.ends.Source, Name: first}, "")
			if c.want == "" {
				require.NoError(t, err)
				assert.Empty(t, report.Warnings)
				return
			}
			assert.Contains(t, p.Checks[len(p.Checks)-1].Message+p.Checks[min(1, len(p.Checks)-1)].Message, c.want)
			assert.Contains(t, fmt.Sprint(err, report.Warnings), c.want, "looking says so too")
		})
	}
}

// TestPiecesByTheirChecksums: without a tag, what lies beside the pieces is what was known of them.
func TestPiecesByTheirChecksums(t *testing.T) {
	w := newWorld(t)
	f, err := disk.Lookup("raw")
	require.NoError(t, err)
	l, err := f.Layout("pieces")
	require.NoError(t, err)
	dir := w.made(f, l, "a.raw")
	require.NoError(t, os.Remove(filepath.Join(dir, "a.raw-pieces.bagtag")))
	w.ends.Source = w.folder(dir)
	r := plan.Request{Kind: plan.Convert, Source: plan.Place{Path: "a.raw.001"}, Destination: &plan.Place{Path: "joined.qcow2"}, As: "qcow2"}
	done, err := w.run(t.Context(), w.plan(r), nil)
	require.NoError(t, err)
	assert.Contains(t, done.Remarks, "each piece of the source has the SHA-256 that a.raw.SHA256SUMS says")
	assert.Equal(t, plan.StepSums, done.Steps[3].Name, "its time is told")
	w.flip(dir, "a.raw.001", 7<<20, true)
	r.Destination.Path = "again.qcow2"
	_, err = w.run(t.Context(), w.plan(r), nil)
	require.ErrorIs(t, err, step.ErrNotProven)
	require.ErrorContains(t, err, "a.raw.002: not what a.raw.SHA256SUMS says")
	r.AsItIs = true
	done, err = w.run(t.Context(), w.plan(r), nil)
	require.NoError(t, err)
	assert.Len(t, done.Doubts, 1)
}

// TestRotUnderAnotherName: who renames an image by hand, with its tag, does not make its rot pass for the work of a machine.
func TestRotUnderAnotherName(t *testing.T) {
	w := newWorld(t)
	f, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	dir := w.made(f, f.Layouts[0], "ticketing.qcow2")
	w.flip(dir, "ticketing.qcow2", 5<<20, true)
	for _, ext := range []string{"", fingerprint.TagExtension} {
		require.NoError(t, os.Rename(filepath.Join(dir, "ticketing.qcow2"+ext), filepath.Join(dir, "tickets.qcow2"+ext)))
	}
	w.ends.Source = w.folder(dir)
	_, err = w.run(
		t.Context(),
		w.plan(
			plan.Request{Kind: plan.Convert, Source: plan.Place{Path: "tickets.qcow2"}, Destination: &plan.Place{Path: "tickets.vdi"}, As: "vdi"},
		),
		nil,
	)
	require.ErrorIs(t, err, step.ErrNotProven)
}

// TestARenameBelievesNoDamagedTag: a fingerprint that the leaves do not make is not told as the disk's.
func TestARenameBelievesNoDamagedTag(t *testing.T) {
	w := newWorld(t)
	f, err := disk.Lookup("raw")
	require.NoError(t, err)
	dir := w.made(f, f.Layouts[0], "ticketing.raw")
	tag := filepath.Join(dir, "ticketing.raw.bagtag")
	b, err := os.ReadFile(tag)
	require.NoError(t, err)
	b = bytes.Replace(b, []byte(`"fingerprint":"bf1-`), []byte(`"fingerprint":"bf1-00`), 1)
	require.NoError(t, os.WriteFile(tag, b, 0o600))
	w.ends = step.Ends{Source: w.folder(dir), Destination: w.folder(dir)}
	done, err := w.run(
		t.Context(),
		w.plan(
			plan.Request{Kind: plan.Copy, Source: plan.Place{Path: "ticketing.raw"}, Destination: &plan.Place{Path: "tickets.raw"}, Release: true},
		),
		nil,
	)
	require.NoError(t, err)
	assert.Empty(t, done.Source.Fingerprint)
	assert.Empty(t, done.Destination.Fingerprint)
}
