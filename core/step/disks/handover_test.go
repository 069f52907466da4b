package disks

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"bagaglio/core/machine"
	_ "bagaglio/core/machine/all"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/faulty"
	"bagaglio/core/storage/volumes"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	oldDefinition = "displayName = \"tide-board\"\nscsi0:0.fileName = \"tide-board.vmdk\"\nmemsize = \"512\"\n"
	newDefinition = "displayName = \"tide-board\"\nscsi0:0.fileName = \"/srv/lamp-room/tide-board.vmdk\"\nmemsize = \"512\"\n"
)

// text is what a file of a folder says, empty when it is not there.
func text(t *testing.T, folder storage.Folder, name string) string {
	b, err := machine.Text(folder, name)
	if err != nil {
		require.ErrorIs(t, err, os.ErrNotExist)
	}
	return string(b)
}

// TestDefinitionsSurvivePowerCuts: behind every single operation there is the old definition or the new one, or what goes on makes it so,
// and the old one is held whenever the new one is there.
func TestDefinitionsSurvivePowerCuts(t *testing.T) {
	for _, simple := range []bool{false, true} {
		t.Run(fmt.Sprintf("simple %t", simple), func(t *testing.T) {
			r := rand.New(rand.NewPCG(3, 4))
			pool := faulty.New(simple)
			file, err := pool.Create("tide/tide-board.vmx")
			require.NoError(t, err)
			_, err = file.WriteAt([]byte(oldDefinition), 0)
			require.NoError(t, errors.Join(err, file.Sync(), file.Close(), pool.Sync("tide"), pool.Sync(".")))
			begin := pool.Len()
			h := plan.Handover{
				Machine: "tide-board",
				Pool:    "quay-store",
				Path:    "tide/tide-board.vmx",
				Names:   map[string]string{"tide-board.vmdk": "/srv/lamp-room/tide-board.vmdk"},
			}
			follow := func(folder storage.Folder) error {
				job := step.Job{ID: "test-1", Ends: step.Ends{Definitions: map[string]storage.Folder{"quay-store": folder}}, Hold: HoldFor, By: "job 7"}
				return (&work{Job: job}).follow(h, h.Change(), "test")
			}
			require.NoError(t, follow(pool))
			for n := begin; n <= pool.Len(); n++ {
				cut, _ := pool.Cut(n, r)
				got := text(t, cut, h.Path)
				require.Contains(t, []string{oldDefinition, newDefinition, ""}, got, "behind operation %d", n)
				require.True(t, got != "" || simple, "behind operation %d: storage that can swap files always has it", n)
				require.NoError(t, follow(cut), "going on behind operation %d", n)
				assert.Equal(t, newDefinition, text(t, cut, h.Path), "behind operation %d", n)
				held, err := ListHeld(cut)
				require.NoError(t, err)
				require.Len(t, held, 1, "behind operation %d", n)
				assert.Equal(t, "the definition of tide-board, changed by job 7", held[0].Why)
				_, err = Restore(cut, held[0].ID, true, HoldFor)
				require.NoError(t, err)
				assert.Equal(t, oldDefinition, text(t, cut, h.Path), "behind operation %d", n)
				_, err = cut.Stat(StagingFolder)
				assert.ErrorIs(t, err, os.ErrNotExist, "behind operation %d something is left", n)
			}
		})
	}
}

// TestMovesHandOver: copied or renamed, the definition follows; where it cannot, the source stays.
func TestMovesHandOver(t *testing.T) {
	for _, c := range []struct {
		name            string
		renames, fails  bool
		interrupted     bool // by the host of the definition being lost, once
		wantHeld        int  // in the source's pool: the source
		wantRemark      string
		wantSourceThere bool
	}{
		{name: "copied", wantHeld: 1, wantRemark: "names the disk in its new place"},
		{name: "renamed", renames: true, wantRemark: "names the disk in its new place"},
		{name: "copied, interrupted", interrupted: true, wantHeld: 1, wantRemark: "names the disk in its new place"},
		{name: "renamed, interrupted", renames: true, interrupted: true, wantRemark: "names the disk in its new place"},
		{name: "copied, changed meanwhile", fails: true, wantRemark: "could not be changed", wantSourceThere: true},
		{name: "renamed, changed meanwhile", renames: true, fails: true, wantRemark: "could not be changed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			if !c.renames {
				w.ends.Destination = apart{w.ends.Destination}
			}
			dir := t.TempDir()
			definitions := w.folder(dir)
			file := filepath.Join(dir, "kiosk.xml")
			require.NoError(
				t,
				os.WriteFile(
					file,
					[]byte("<domain><name>kiosk</name><devices><disk><source file='/srv/quay/gate-kiosk.raw'/></disk></devices></domain>"),
					0o640,
				),
			)
			known := step.Known{
				SourceRoot: volumes.Ground{Folder: "/srv/quay"},
				Root:       volumes.Ground{Folder: "/srv/lighthouse"},
				Users: func(context.Context, []string) ([]plan.User, error) {
					return []plan.User{
						{
							Name:   "kiosk",
							Pool:   "definitions",
							Path:   "kiosk.xml",
							Format: "domain-xml",
							Folder: "/etc/machines",
							Files:  []string{"/srv/quay/gate-kiosk.raw"},
						},
					}, nil
				},
			}
			request := plan.Request{
				Kind:        plan.Copy,
				Release:     true,
				Source:      plan.Place{Path: "gate-kiosk.raw"},
				Destination: &plan.Place{Path: "deck/kiosk.raw"},
			}
			p, err := Prepare(t.Context(), w.ends, request, known)
			require.NoError(t, err)
			require.False(t, p.Blocked(), "%+v", p.Checks)
			require.Len(t, p.Bodies[0].Handovers, 1)
			require.Equal(t, c.renames, p.Bodies[0].Renames)
			if c.fails {
				require.NoError(t, os.WriteFile(file, []byte("<domain><name>kiosk</name></domain>"), 0o640))
			}
			w.ends.Definitions = map[string]storage.Folder{"definitions": definitions}
			task := solo{ID: "test-1", Ends: w.ends, Plan: p, Hold: HoldFor, By: "job 7", Records: &notebook{marks: map[string][][]byte{}}}
			if c.interrupted {
				broken := task
				broken.Ends.Definitions = map[string]storage.Folder{"definitions": lost{definitions}}
				_, err := broken.Run(t.Context())
				require.ErrorIs(t, err, storage.ErrLost)
				require.True(t, step.CanWait(err))
			}
			done, err := task.Run(t.Context())
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, done.Outcome)
			assert.Contains(t, fmt.Sprint(done.Remarks), c.wantRemark)
			held, err := ListHeld(w.ends.Source)
			require.NoError(t, err)
			assert.Len(t, held, c.wantHeld)
			_, err = w.ends.Source.Stat("gate-kiosk.raw")
			assert.Equal(t, c.wantSourceThere, err == nil)
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			if c.fails {
				assert.Contains(t, string(b), "<name>kiosk</name></domain>")
				return
			}
			assert.Contains(t, string(b), "file='/srv/lighthouse/deck/kiosk.raw'")
			info, err := os.Stat(file)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "whoever could read it can do so still")

			// A move on one storage that is called off behind that gives names and definition back.
			if c.renames && c.interrupted {
				again := task
				old, err := task.Records.Load(t.Context())
				require.NoError(t, err)
				require.Equal(t, "disk1.hand-over", old.Subjects[plan.FirstDisk].Begun)
				_, err = again.task().CallOff(t.Context())
				require.NoError(t, err)
				b, err := os.ReadFile(file)
				require.NoError(t, err)
				assert.Contains(t, string(b), "file='/srv/quay/gate-kiosk.raw'")
				_, err = w.ends.Source.Stat("gate-kiosk.raw")
				assert.NoError(t, err)
			}
		})
	}
}

// lost is a folder on a host that cannot be reached at present.
type lost struct{ storage.Folder }

func (lost) Open(string) (storage.File, error) { return nil, storage.ErrLost }

// TestDefinitionsGoAlong: with the first of the disks of a machine that leave a pool, whichever that is, and come to name all of them
// where they are, at every moment; the old definition is held.
func TestDefinitionsGoAlong(t *testing.T) {
	const definition = "displayName = \"tide-board\"\nscsi0:0.fileName = \"a.raw\"\nscsi0:1.fileName = \"b.raw\"\n"
	for _, c := range []struct {
		name        string
		order       []string
		same        bool // storage
		interrupted bool
	}{
		{"one after the other", []string{"a", "b"}, false, false}, {"the other way round", []string{"b", "a"}, false, false},
		{"interrupted", []string{"a", "b"}, false, true}, {"renamed", []string{"a", "b"}, true, false}, {"renamed, interrupted", []string{"b", "a"}, true, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			from, to := t.TempDir(), t.TempDir()
			quay, lighthouse := w.folder(from), w.folder(to)
			w.ends = step.Ends{Source: quay, Destination: lighthouse}
			if !c.same {
				w.ends.Destination = apart{lighthouse}
			}
			require.NoError(t, os.Mkdir(filepath.Join(from, "tide"), 0o700))
			for name, text := range map[string]string{"tide.vmx": definition, "a.raw": strings.Repeat("a", 1024), "b.raw": strings.Repeat("b", 1024)} {
				require.NoError(t, os.WriteFile(filepath.Join(from, "tide", name), []byte(text), 0o640))
			}
			w.ends.Definitions = map[string]storage.Folder{"quay": quay, "lighthouse": lighthouse}
			user := plan.User{
				Name:   "tide-board",
				Pool:   "quay",
				Path:   "tide/tide.vmx",
				Format: "vmx",
				Folder: from + "/tide",
				Files:  []string{"a.raw", "b.raw"},
			}
			known := step.Known{
				SourceRoot: volumes.Ground{Folder: from},
				Root:       volumes.Ground{Folder: to},
				Users:      func(context.Context, []string) ([]plan.User, error) { return []plan.User{user}, nil },
			}
			var plans []plan.Plan // all are made before any is run, as those of a group
			for _, disk := range c.order {
				r := plan.Request{
					Kind:            plan.Copy,
					Release:         true,
					TakeDefinitions: true,
					Source:          plan.Place{Pool: "quay", Path: "tide/" + disk + ".raw"},
					Destination:     &plan.Place{Pool: "lighthouse", Path: "tide/" + disk + ".raw"},
				}
				p, err := Prepare(t.Context(), w.ends, r, known)
				require.NoError(t, err)
				require.False(t, p.Blocked(), "%+v", p.Checks)
				require.NotNil(t, p.Bodies[0].Handovers[0].To)
				plans = append(plans, p)
			}
			for i, p := range plans {
				task := solo{ID: fmt.Sprintf("job-%d", i), Ends: w.ends, Plan: p, Hold: HoldFor, By: "job 7", Records: &notebook{}}
				task.Known = func(context.Context) (step.Known, error) { // the definition may have gone along with the other disk
					now := known
					now.Users = func(context.Context, []string) ([]plan.User, error) {
						at := user
						if _, err := quay.Stat(at.Path); err != nil {
							at.Pool = "lighthouse"
						}
						return []plan.User{at}, nil
					}
					return now, nil
				}
				if c.interrupted {
					broken := task
					broken.Ends.Definitions = map[string]storage.Folder{"quay": quay, "lighthouse": lostOnce{lighthouse}}
					_, err := broken.Run(t.Context())
					require.ErrorIs(t, err, storage.ErrLost)
				}
				r, err := task.Run(t.Context())
				require.NoError(t, err)
				assert.Equal(t, receipt.Proven, r.Outcome)
				assert.Contains(t, fmt.Sprint(r.Remarks), "names the disk in its new place")
				assert.NoFileExists(t, filepath.Join(from, "tide/tide.vmx"))
				now, err := machine.Open(lighthouse, "tide/tide.vmx")
				require.NoError(t, err)
				for _, file := range now.Uses(to + "/tide") {
					assert.FileExists(t, file, "what it names is there")
				}
			}
			assert.Equal(t, definition, text(t, lighthouse, "tide/tide.vmx"), "in the end it is as it was, beside its disks")
			info, err := lighthouse.Stat("tide/tide.vmx")
			require.NoError(t, err)
			assert.Equal(t, "0640", info.Mode)
			held, err := ListHeld(quay)
			require.NoError(t, err)
			i := slices.IndexFunc(held, func(h Held) bool { return h.Path == "tide/tide.vmx" })
			require.GreaterOrEqual(t, i, 0)
			_, err = Restore(quay, held[i].ID, false, HoldFor)
			require.NoError(t, err)
			assert.Equal(t, definition, text(t, quay, "tide/tide.vmx"))
		})
	}
}

// lostOnce is a folder on a host that is lost when a file is to get its name.
type lostOnce struct{ storage.Folder }

func (lostOnce) Rename(string, string) error   { return storage.ErrLost }
func (lostOnce) Exchange(string, string) error { return storage.ErrLost }
