package storage

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"github.com/dustin/go-humanize"
)

// Tried is one thing that was tried of a folder.
type Tried struct {
	Name    string  `json:"name"`
	Worked  bool    `json:"worked"`
	Said    string  `json:"said"` // what was found out, or why it did not work
	Seconds float64 `json:"seconds"`
}

// Facts are what a trial found out about a folder. Speeds are in bytes a second, 0 where they were not measured.
type Facts struct {
	Filesystem    string    `json:"filesystem"`
	Holes         bool      `json:"holes"`          // files may have them
	Clones        bool      `json:"clones"`         // whole files can share their blocks
	Swaps         bool      `json:"swaps"`          // two files can swap their names at one instant
	CaseSensitive bool      `json:"case_sensitive"` // names that differ in case only are different
	Removable     bool      `json:"removable"`
	Mounted       bool      `json:"mounted,omitempty"` // on a filesystem that is not the computer's own
	MountPoint    string    `json:"mount_point,omitempty"`
	ReadOnly      bool      `json:"read_only"`
	LargestFile   int64     `json:"largest_file,omitempty"`
	ReadSpeed     float64   `json:"read_speed,omitempty"`
	WriteSpeed    float64   `json:"write_speed,omitempty"`
	Caveats       []string  `json:"caveats,omitempty"` // what a proof cannot promise there
	At            time.Time `json:"at"`
}

// take notes what is known without trying anything.
func (f *Facts) take(s Space) {
	f.Filesystem, f.Removable, f.ReadOnly, f.LargestFile = s.Kind, s.Removable, s.ReadOnly, s.LargestFile
	f.Mounted, f.MountPoint = s.Mounted, s.MountPoint
}

// Hold tells whether they speak of storage as it is now.
func (f *Facts) Hold(s Space) bool {
	now := *f
	now.take(s)
	return now.Filesystem == f.Filesystem && now.Removable == f.Removable && now.Mounted == f.Mounted && now.MountPoint == f.MountPoint &&
		now.ReadOnly == f.ReadOnly && now.LargestFile == f.LargestFile
}

// Careful is a Folder of which something has to be known that is not so elsewhere.
type Careful interface {
	// Caveats say in words what cannot be promised.
	Caveats() []string
}

// trialSize is how much a trial of the speed writes and reads, in bytes.
const trialSize = 64 << 20

// Trial tries a folder out, step by step, in a folder of its own below within, which it removes again. tell gets each step as it ends. It
// goes on behind a step that does not work, as far as that makes sense. Speeds are measured when speed is set.
func Trial(ctx context.Context, f Folder, within string, speed bool, tell func(Tried)) Facts {
	random := make([]byte, 8)
	_, _ = rand.Read(random) // never fails (crypto/rand)
	t := &trial{ctx: ctx, folder: f, dir: path.Join(within, "trial-"+hex.EncodeToString(random)), tell: tell, facts: Facts{At: time.Now()}}
	if c, ok := As[Careful](f); ok {
		t.facts.Caveats = c.Caveats()
	}
	t.step("list", t.list)
	t.step("free space", t.space)
	if t.facts.ReadOnly {
		return t.facts
	}
	if t.step("write", t.write) {
		t.step("rename", t.rename)
		t.step("sync", t.sync)
		t.step("holes", t.holes)
		t.step("names", t.names)
		t.step("sharing", t.clone)
		if speed {
			t.step("speed", t.speed)
		}
	}
	t.step("clear up", t.clear)
	return t.facts
}

type trial struct {
	ctx    context.Context
	folder Folder
	dir    string
	tell   func(Tried)
	facts  Facts
}

func (t *trial) step(name string, do func() (string, error)) bool {
	start := time.Now()
	err := t.ctx.Err()
	said := ""
	if err == nil {
		said, err = do()
	}
	if err != nil {
		said = err.Error()
	}
	t.tell(Tried{name, err == nil, said, time.Since(start).Seconds()})
	return err == nil
}

func (t *trial) list() (string, error) {
	infos, err := t.folder.List(".")
	if errors.Is(err, errors.ErrUnsupported) {
		return "", err
	}
	return fmt.Sprintf("%d names", len(infos)), err
}

func (t *trial) space() (string, error) {
	s, err := t.folder.Space()
	if err != nil {
		return "", err
	}
	t.facts.take(s)
	switch {
	case s.ReadOnly && !s.Served:
		return "", fmt.Errorf("%s: it is read-only, for the user that runs Bagaglio at least", s.Kind)
	case s.ReadOnly:
		return s.Kind + ": it is there to be read from", nil
	case s.Free == Unknown:
		return s.Kind + ": the storage does not tell how much room it has", nil
	}
	return fmt.Sprintf("%s: %s of %s are free", s.Kind, humanize.IBytes(uint64(s.Free)), humanize.IBytes(uint64(s.Total))), nil
}

// put makes a file.
func (t *trial) put(name string, content []byte) error {
	file, err := t.folder.Create(path.Join(t.dir, name))
	if err != nil {
		return err
	}
	_, err = file.WriteAt(content, 0)
	return errors.Join(err, file.Close())
}

// get reads a file from storage.
func (t *trial) get(name string, n int) ([]byte, error) {
	file, err := Fresh(t.folder).Open(path.Join(t.dir, name))
	if err != nil {
		return nil, err
	}
	p := make([]byte, n)
	_, err = file.ReadAt(p, 0)
	return p, errors.Join(err, file.Close())
}

func (t *trial) write() (string, error) {
	content := bytes.Repeat([]byte("bagaglio "), 100_000)
	if err := t.put("a", content); err != nil {
		return "", err
	}
	back, err := t.get("a", len(content))
	if err == nil && !bytes.Equal(back, content) {
		err = errors.New("what was read back is not what was written: do not use this storage")
	}
	return fmt.Sprintf("%d bytes written and read back", len(content)), err
}

func (t *trial) rename() (string, error) {
	a, b := path.Join(t.dir, "a"), path.Join(t.dir, "b")
	if err := t.folder.Rename(a, b); err != nil {
		return "", err
	}
	if err := t.put("a", nil); err != nil {
		return "", err
	}
	if err := t.folder.Rename(a, b); !errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("renaming replaces what is there (%w): do not use this storage", err)
	}
	if err := t.folder.Exchange(a, b); err == nil {
		t.facts.Swaps = true
		return "files are renamed and swapped", t.folder.Exchange(a, b)
	}
	return "files are renamed; they cannot be swapped, so that what is replaced goes aside first", nil
}

func (t *trial) sync() (string, error) {
	file, err := t.folder.Reopen(path.Join(t.dir, "b"))
	if err == nil {
		err = errors.Join(file.Sync(), file.Close(), t.folder.Sync(t.dir))
	}
	return "files and names reach stable storage", err
}

func (t *trial) holes() (string, error) {
	const size, off = 16 << 20, 8 << 20
	file, err := t.folder.Create(path.Join(t.dir, "thin"))
	if err != nil {
		return "", err
	}
	err = file.Truncate(size)
	if err == nil {
		_, err = file.WriteAt([]byte{1}, off)
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return "", err
	}
	if file, err = t.folder.Open(path.Join(t.dir, "thin")); err != nil {
		return "", err
	}
	finder, tells := file.(RangeFinder)
	if tells {
		end, data, rangeErr := finder.Range(0)
		t.facts.Holes = rangeErr == nil && !data && end > 1<<20
	}
	if err := file.Close(); err != nil {
		return "", err
	}
	if info, err := t.folder.Stat(path.Join(t.dir, "thin")); err == nil && info.Room != Unknown && !t.facts.Holes && info.Room < size/2 {
		t.facts.Holes = true
		return "files may have holes; reading them, they cannot be told from data", nil
	}
	if !tells {
		space, err := t.folder.Space()
		t.facts.Holes = err == nil && space.Holes
		return "files may have holes, as far as is known; reading them, they cannot be told from data", nil
	}
	return map[bool]string{true: "files may have holes", false: "files have no holes: thin raw disks take all of their room"}[t.facts.Holes], nil
}

func (t *trial) names() (string, error) {
	_, err := t.folder.Stat(path.Join(t.dir, "THIN"))
	t.facts.CaseSensitive = errors.Is(err, fs.ErrNotExist)
	if !t.facts.CaseSensitive {
		return "names that differ in case only are the same", nil
	}
	return "names that differ in case only are different", nil
}

func (t *trial) clone() (string, error) {
	from, err := t.folder.Open(path.Join(t.dir, "b"))
	if err != nil {
		return "", err
	}
	defer from.Close()
	to, err := t.folder.Create(path.Join(t.dir, "clone"))
	if err != nil {
		return "", err
	}
	defer to.Close()
	if c, ok := to.(Cloner); ok && c.Clone(from) == nil {
		t.facts.Clones = true
		return "whole files can share their blocks: copies inside of the pool take no time", nil
	}
	return "files cannot share blocks", nil
}

func (t *trial) speed() (string, error) {
	content := make([]byte, trialSize)
	_, _ = rand.Read(content)
	start := time.Now()
	file, err := t.folder.Create(path.Join(t.dir, "speed"))
	if err != nil {
		return "", err
	}
	_, err = file.WriteAt(content, 0)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return "", err
	}
	t.facts.WriteSpeed = trialSize / time.Since(start).Seconds()
	start = time.Now()
	if _, err := t.get("speed", trialSize); err != nil {
		return "", err
	}
	t.facts.ReadSpeed = trialSize / time.Since(start).Seconds()
	return fmt.Sprintf("written with %.0f and read with %.0f MiB/s", t.facts.WriteSpeed/(1<<20), t.facts.ReadSpeed/(1<<20)), nil
}

func (t *trial) clear() (string, error) {
	err := RemoveAll(t.folder, t.dir)
	_ = t.folder.Remove(path.Dir(t.dir)) // not empty, or not ours
	return "nothing of the trial is left", err
}
