package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"testing"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func request() Request {
	return Request{
		Kind:        Convert,
		Source:      Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &Place{Pool: "lighthouse-store", Path: "ticketing.qcow2"},
		As:          "qcow2",
	}
}

const gib = 1 << 30

func facts() Facts {
	stored := disk.Stored{}
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			for _, u := range l.Units(40*gib, disk.Options{}) {
				stored[u] = max(u, 1<<30)
			}
		}
	}
	return Facts{
		Source: SourceFacts{
			Description: disk.Description{Format: "raw", Layout: "thin", VirtualSize: 40 * gib}, Allocated: gib, FileSize: 40 * gib,
		},
		Destination: DestinationFacts{Space: storage.Space{Kind: "ext4", Total: 100 * gib, Free: 50 * gib, Holes: true}, Stored: stored},
	}
}

// onBase asks for an overlay on a raw disk.
func onBase(r *Request, f *Facts) {
	r.Layout, r.Base = "overlay", "base.raw"
	f.Destination.Base = &BaseFacts{Description: disk.Description{Format: "raw", Layout: "thin", VirtualSize: 40 * gib}}
}

func find(p Plan, name string, s Severity) *Check {
	for i, c := range p.Checks {
		if c.Name == name && c.Severity == s {
			return &p.Checks[i]
		}
	}
	return nil
}

// TestChecks: each row changes the request or the facts, and names the check that it has to bring up.
func TestChecks(t *testing.T) {
	for _, c := range []struct {
		name     string
		change   func(*Request, *Facts)
		check    string
		severity Severity
		says     string
		remedies []string
	}{
		{"all is well", func(*Request, *Facts) {}, "room", Informs, "needs 1.0 GiB", nil},
		{"does not open", func(_ *Request, f *Facts) { f.Source.Problem = disk.Damaged("the tables disagree") }, "source", Blocks, "tables disagree", nil},
		{"claims another format", func(_ *Request, f *Facts) { f.Source.Problem = &disk.MismatchError{Claimed: "raw", Found: "qcow2"} },
			"source", Blocks, "looks like qcow2", []string{`{"source":{"format":"raw"}}`, `{"source":{"format":"qcow2"}}`}},
		{"empty", func(_ *Request, f *Facts) { f.Source.Description.VirtualSize = 0 }, "source", Blocks, "empty", nil},
		{"dirty", func(_ *Request, f *Facts) { f.Source.Description.Warnings = []string{"was not closed"} }, "source-state", Warns, "Was not closed.", nil},
		{"two sizes", func(_ *Request, f *Facts) { f.Source.Description.OtherSize = 39 * gib }, "geometry", Informs, "saw only 39 GiB", []string{`{"source":{"by_geometry":true}}`}},
		{"the smaller size", func(_ *Request, f *Facts) { f.Source.Description.OtherSize = 41 * gib }, "geometry", Warns, "of 41 GiB", []string{`{"source":{"by_geometry":null}}`}},
		{"cut", func(_ *Request, f *Facts) { f.Source.Inside = []string{"the disk was cut"} }, "inside", Warns, "The disk was cut.", nil},
		{"a piece is missing", func(_ *Request, f *Facts) { f.Source.Lacks = []string{"a.raw.002 is missing"} }, Incomplete, Blocks, "a.raw.002 is missing", []string{`{"as_it_is":true}`}},
		{"a piece is missing, never mind", func(r *Request, f *Facts) { f.Source.Lacks, r.AsItIs = []string{"a.raw.002 is missing"}, true }, Incomplete, Warns, "a.raw.002 is missing", nil},
		{"has a tag", func(_ *Request, f *Facts) { f.Source.Tag = &TagFacts{Name: "ticketing.raw.bagtag"} }, "tag", Informs, "the job stops", []string{`{"as_it_is":true}`}},
		{"has an older tag", func(_ *Request, f *Facts) { f.Source.Tag = &TagFacts{Name: "ticketing.raw.bagtag", Older: true} }, "tag", Informs, "older than the files", nil},
		{"has a damaged tag", func(_ *Request, f *Facts) { f.Source.Tag = &TagFacts{Problem: disk.ErrDamaged} }, "tag", Warns, "nothing is compared with it", nil},
		{"has a tag with doubts", func(_ *Request, f *Facts) { f.Source.Tag = &TagFacts{Doubts: []string{"it was cut"}} }, "tag", Warns, "it was cut", nil},
		{"is taken as it is", func(r *Request, f *Facts) { f.Source.Tag, r.AsItIs = &TagFacts{}, true }, "tag", Warns, "does not stop the job", []string{`{"as_it_is":null}`}},
		{"others stand on what is replaced", func(r *Request, f *Facts) {
			f.Destination.Exists, r.Replace, f.Destination.Standing = true, true, []string{"top.qcow2"}
		}, "destination", Blocks, "top.qcow2 stand(s) on what would be replaced", []string{`{"destination":{"path":""}}`}},
		{"compresses to what is free", func(r *Request, f *Facts) {
			r.Layout, f.Destination.Space.Free, f.Destination.Shrinks = "compressed", gib/2, 0.3
		}, "room", Warns, "by a sample of the content", nil},
		{"compresses to more than is free", func(r *Request, f *Facts) {
			r.Layout, f.Destination.Space.Free, f.Destination.Shrinks = "compressed", gib/2, 0.9
		}, "room", Blocks, "are free", nil},
		{"no holes there", func(r *Request, f *Facts) {
			r.As, r.Destination.Path, f.Destination.Space.Holes, f.Destination.Space.Free = "raw", "copy.raw", false, 10*gib
		}, "room", Blocks, "needs 40 GiB", nil},
		{"exists", func(_ *Request, f *Facts) { f.Destination.Exists, f.Destination.OtherName = true, "ticketing-2.qcow2" },
			"destination", Blocks, "exists already", []string{`{"destination":{"path":"ticketing-2.qcow2"}}`, `{"replace":true}`}},
		{"is replaced", func(r *Request, f *Facts) { f.Destination.Exists, r.Replace = true, true }, "destination", Warns, "until the new one is complete and proven", nil},
		{"is the source", func(_ *Request, f *Facts) { f.Destination.Exists, f.Destination.SameFile = true, "ticketing.raw" }, "destination", Blocks, "same file", []string{`{"destination":{"path":""}}`}},
		{"read-only", func(_ *Request, f *Facts) { f.Destination.Space.ReadOnly = true }, "destination", Blocks, "read-only", nil},
		{"not reachable", func(_ *Request, f *Facts) { f.Destination.Obstructed = errors.New("no such folder") }, "destination", Blocks, "no such folder", nil},
		{"no room", func(_ *Request, f *Facts) { f.Destination.Space.Free = gib / 2 }, "room", Blocks, "512 MiB", nil},
		{"no room for thick", func(r *Request, f *Facts) { r.Layout, f.Destination.Space.Free = "thick", 20*gib }, "room", Blocks, "make room", []string{`{"layout":"thin"}`}},
		{"thin needs little room", func(_ *Request, f *Facts) { f.Destination.Space.Free = 2 * gib }, "room", Informs, "2.0 GiB", nil},
		{"file too large", func(r *Request, f *Facts) {
			r.As, r.Destination.Path, f.Destination.Space.LargestFile, f.Destination.Space.Kind = "raw", "ticketing.raw", 4*gib-1, "fat"
		}, "largest-file", Blocks, "holds files of at most 4.0 GiB", []string{`{"as":"qcow2","destination":{"path":"ticketing.qcow2"},"layout":null}`, `{"as":"vhd","destination":{"path":"ticketing.vhd"},"layout":null}`}},
		{"disk too large", func(r *Request, f *Facts) {
			r.As, r.Destination.Path, f.Source.Description.VirtualSize = "vhd", "ticketing.vhd", 3000*gib
		}, "largest-disk", Blocks, "holds at most", []string{`{"as":"raw","destination":{"path":"ticketing.raw"},"layout":null}`, `{"as":"qcow2","destination":{"path":"ticketing.qcow2"},"layout":null}`}},
		{"rounded", func(_ *Request, f *Facts) { f.Source.Description.VirtualSize = 1000 }, "size", Warns, "rounded up from 1000 bytes to 1.0 KiB (1,024 bytes)", nil},
		{"snapshots", func(_ *Request, f *Facts) { f.Source.Description.Snapshots = []string{"before"} }, "loss", Warns, "1 snapshot(s) kept inside the source (before)", []string{`{"source":{"snapshot":"before"}}`}},
		{"of a snapshot", func(r *Request, f *Facts) {
			f.Source.Description.Snapshots, r.Source.Snapshot = []string{"before"}, "before"
		}, "snapshot", Informs, "not the present one", []string{`{"source":{"snapshot":null}}`}},
		{"rounded as asked", func(r *Request, f *Facts) { f.Source.Description.VirtualSize, r.RoundTo = 1<<20, 3<<19 }, "size", Warns, "to a multiple of 1.5 MiB", nil},
		{"other sectors", func(r *Request, _ *Facts) {
			r.As, r.Destination.Path, r.Options.SectorSize = "vhdx", "ticketing.vhdx", 4096
		}, "sectors", Warns, "sectors of 4096 bytes instead of 512", nil},
		{"too large for small clusters", func(r *Request, f *Facts) { r.Options.BlockSize, f.Source.Description.VirtualSize = 512, 200*gib },
			"largest-disk", Blocks, "with these options", []string{`{"as":"vhdx","destination":{"path":"ticketing.vhdx"},"layout":null,"options":null}`}},
		{"pieces fit", func(r *Request, f *Facts) {
			r.As, r.Layout, r.Destination.Path, f.Destination.Space.LargestFile = "raw", "pieces", "ticketing.raw", 4*gib-1
		}, "room", Informs, "1.0 GiB", nil},
		{"pieces do not fit", func(r *Request, f *Facts) {
			r.As, r.Layout, r.Destination.Path, f.Destination.Space.LargestFile, r.Options.PieceSize = "raw", "pieces", "ticketing.raw", 4*gib-1, 5*gib
		}, "largest-file", Blocks, "5.0 GiB", []string{`{"as":"vmdk","destination":{"path":"ticketing.vmdk"},"layout":"split-sparse","options":null}`}},
		{"has files that the new one has not", func(r *Request, f *Facts) {
			f.Destination.Exists, r.Replace, f.Destination.Others, f.Destination.OtherName = true, true, []string{"ticketing-s001.vmdk"}, "ticketing-2.qcow2"
		}, "destination", Warns, "is replaced", nil},
		{"made anew in its place", func(r *Request, f *Facts) {
			f.Destination.Exists, f.Destination.SameFile, r.Replace, r.Destination.Pool = true, "ticketing.raw", true, r.Source.Pool
		}, "destination", Warns, "made anew in its place", nil},
		{"others stand on it", func(r *Request, f *Facts) {
			f.Destination.Exists, f.Destination.SameFile, r.Replace, r.Destination.Pool = true, "ticketing.raw", true, r.Source.Pool
			f.Source.Standing = []string{"overlay.qcow2"}
		}, "destination", Blocks, "overlay.qcow2", nil},
		{"removable", func(_ *Request, f *Facts) { f.Destination.Space.Removable = true }, "removable", Informs, "safe to unplug", nil},
		{"room not told", func(_ *Request, f *Facts) { f.Destination.Space.Free = storage.Unknown }, "room", Warns, "does not tell", nil},
		{"files without holes", func(r *Request, f *Facts) {
			r.As, r.Destination.Path, f.Destination.Space.Holes = "raw", "ticketing.raw", false
		}, "holes", Warns, "take 40 GiB", nil},
		{"would take more in", func(r *Request, f *Facts) {
			f.Destination.Leftover, f.Destination.OtherName = []string{"ticketing.raw.009"}, "ticketing-2.qcow2"
		}, "destination", Blocks, "ticketing.raw.009", []string{`{"destination":{"path":"ticketing-2.qcow2"}}`}},
		{"base does not open", func(r *Request, f *Facts) {
			onBase(r, f)
			f.Destination.Base.Problem = disk.Damaged("it was cut")
		}, "base", Blocks, "it was cut", []string{`{"base":null,"layout":null}`}},
		{"base would be written", func(r *Request, f *Facts) {
			onBase(r, f)
			f.Destination.Base.Written = true
		}, "base", Blocks, "its own base", nil},
		{"base of any format", onBase, "base", Informs, "keep both", nil},
		{"base of another format", func(r *Request, f *Facts) {
			onBase(r, f)
			r.As, r.Layout, r.Destination.Path = "vhd", "differencing", "ticketing.vhd"
		}, "base", Blocks, "base.raw is raw", []string{`{"base":null,"layout":null}`}},
		{"base of another size", func(r *Request, f *Facts) {
			onBase(r, f)
			r.As, r.Layout, r.Destination.Path, f.Destination.Base.Description.Format = "vhd", "differencing", "ticketing.vhd", "vhd"
			f.Destination.Base.Description.VirtualSize = 39 * gib
		}, "base", Blocks, "39 GiB", []string{`{"base":null,"layout":null}`}},
		{"chain", func(_ *Request, f *Facts) { f.Source.Description.Base = "base.raw" }, "chain", Informs, "stands alone", nil},
		{"name", func(r *Request, _ *Facts) { r.Destination.Path = "ticketing.vhd" }, "name", Blocks, "claims vhd", []string{`{"destination":{"path":"ticketing.qcow2"}}`, `{"as":"vhd","layout":null}`}},
		{"held in the way", func(_ *Request, f *Facts) { f.Destination.Space.Free, f.Destination.Held = gib/2, gib }, "room", Blocks, "make room", []string{`{"clear_held":true}`}},
		{"held goes", func(r *Request, f *Facts) {
			f.Destination.Space.Free, f.Destination.Held, r.ClearHeld = gib/2, gib, true
		}, "held", Warns, "removed for good", []string{`{"clear_held":null}`}},
		{"in use", func(_ *Request, f *Facts) { f.Source.InUse = errors.New("a machine has it open") }, "in-use", Blocks, "A machine has it open", nil},
		{"no proof", func(r *Request, _ *Facts) { r.NoProof = true }, "proof", Warns, "unproven", []string{`{"no_proof":null}`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, f := request(), facts()
			c.change(&r, &f)
			p, err := made(r, f)
			require.NoError(t, err)
			check := find(p, c.check, c.severity)
			require.NotNil(t, check, "%+v", p.Checks)
			assert.Contains(t, check.Message, c.says)
			assert.Equal(t, c.severity == Blocks, p.Blocked(), "%+v", p.Checks)
			var remedies []string
			for _, m := range check.Remedies {
				remedies = append(remedies, string(m.Change))
			}
			if c.remedies == nil {
				assert.Empty(t, remedies)
			} else { // formats that come later offer themselves too
				assert.Subset(t, remedies, c.remedies)
			}
		})
	}
}

func TestFigures(t *testing.T) {
	f := facts()
	f.Speeds = map[string]float64{StepFill: gib, StepProve: gib}
	p, err := made(request(), f)
	require.NoError(t, err)
	assert.Equal(t, int64(2*gib), p.BytesToRead, "the source, and the new image once more")
	assert.Equal(t, int64(gib), p.BytesToWrite)
	assert.InDelta(t, 2, p.EstimatedSeconds, 0.01)
	assert.Equal(t, int64(40*gib), p.After[0].VirtualSize)
	assert.Equal(t, int64(gib), p.After[0].AllocatedSize)
	assert.Greater(t, p.After[0].FileSize, int64(gib))
	assert.Less(t, p.After[0].FileSize, int64(gib+gib/100))
	var names []string
	for _, s := range p.Steps {
		names = append(names, s.Kind)
	}
	assert.Equal(t, []string{StepLook, StepFill, StepSecure, StepProve, StepPublish}, names)

	r := request()
	r.NoProof, r.Layout = true, "thick"
	p, err = made(r, f)
	require.NoError(t, err)
	assert.Len(t, p.Steps, 4)
	assert.Equal(t, int64(gib), p.After[0].AllocatedSize, "it takes more room, and has no more allocated")
	b, err := json.Marshal(p)
	require.NoError(t, err)
	assert.NotRegexp(t, `"(steps|checks)":null`, string(b), "programs get lists, never null")
}

func TestRequestsThatMakeNoSense(t *testing.T) {
	for name, change := range map[string]func(*Request){
		"no kind":        func(r *Request) { r.Kind = "" },
		"no source":      func(r *Request) { r.Source.Path = "" },
		"no destination": func(r *Request) { r.Destination = nil },
		"no format":      func(r *Request) { r.As = "" },
		"bad format":     func(r *Request) { r.As = "floppy" },
		"bad layout":     func(r *Request) { r.Layout = "fluffy" },
		"no base":        func(r *Request) { r.Layout = "overlay" },
		"base of thin":   func(r *Request) { r.Base = "base.raw" },
		"not an option":  func(r *Request) { r.Options.Adapter = "ide" },
		"not a value":    func(r *Request) { r.Options.BlockSize = 1000 },
		"not a length":   func(r *Request) { r.As, r.Layout, r.Options.PieceSize = "raw", "pieces", 1000 },
		"rounding":       func(r *Request) { r.RoundTo = -1 },
		"into snapshot":  func(r *Request) { r.Destination.Snapshot = "before" },
		"bad source":     func(r *Request) { r.Source.Format = "floppy" },
		"against":        func(r *Request) { r.Against = "bf1-" },
		"prove to":       func(r *Request) { r.Kind = Prove },
		"prove against":  func(r *Request) { *r = Request{Kind: Prove, Source: r.Source, Against: "42"} },
	} {
		r := request()
		change(&r)
		_, err := made(r, facts())
		require.ErrorIs(t, err, ErrRequest, name)
	}
}

// made is the plan of a request, with what it makes.
func made(r Request, f Facts) (Plan, error) {
	var err error
	if f.Target, err = r.TargetOf(f.Source.Description); err != nil {
		return Plan{}, fmt.Errorf("%w: %w", ErrRequest, err)
	}
	return Make(r, f)
}
