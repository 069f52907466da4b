package disks

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"time"

	"bagaglio/core/storage"

	"github.com/google/uuid"
)

// HeldFolder holds what was replaced, each in a folder of its own, with a file that says what it is.
const HeldFolder = OwnFolder + "/held"

// HoldFor is for how long what was replaced is usually kept.
const HoldFor = 7 * 24 * time.Hour

const (
	heldNote  = "held.json"
	heldFiles = "files"
)

// Held is what was replaced or released, and is kept for a while. Sizes are in bytes.
type Held struct {
	ID    string    `json:"id"`
	Path  string    `json:"path"`  // that opened it
	Files []string  `json:"files"` // all of it, where they lay, the one that makes it openable first
	Size  int64     `json:"size"`  // lengths of the files
	Room  int64     `json:"room"`  // what they take of the storage
	Why   string    `json:"why"`
	Since time.Time `json:"since"`
	Until time.Time `json:"until"`
	// Moved is where the copy lies of a disk that has moved, and Definitions are those that name it there and are held as they were.
	Moved       string           `json:"moved,omitempty"`
	Definitions []HeldDefinition `json:"definitions,omitempty"`
	// Machine is the one that moved with the disk, as it was.
	Machine *HeldMachine `json:"machine,omitempty"`
}

// HeldMachine is a machine that moved, with the text of its definition as its old host had it.
type HeldMachine struct {
	Machine    string `json:"machine"`
	File       string `json:"file"` // a name that such a definition may have
	Definition string `json:"definition"`
}

// HeldDefinition is a definition of a machine as it was before a disk moved.
type HeldDefinition struct {
	Machine string `json:"machine"`
	Pool    string `json:"pool"`
	Path    string `json:"path"`
	ID      string `json:"id"` // under which it is held in that pool
}

// hold holds files under an ID. now tells where a file lies at present. It may be done again after it was interrupted.
func hold(folder storage.Folder, h Held, now func(file string) string) error {
	dir := path.Join(HeldFolder, h.ID)
	if _, err := readHeld(folder, h.ID); err != nil { // or it was cut off while it was written
		if err := errors.Join(storage.RemoveAll(folder, path.Join(dir, heldNote)), h.note(folder, now)); err != nil {
			return err
		}
	}
	if err := CloseOurs(folder); err != nil {
		return err
	}
	for _, at := range []string{dir, HeldFolder, OwnFolder, "."} { // nothing goes where nobody knows of it
		if err := folder.Sync(at); err != nil {
			return err
		}
	}
	for i, file := range h.Files {
		err := folder.Rename(now(file), path.Join(dir, heldFiles, file))
		if err == nil && i == 0 { // it makes the others openable, and goes before them
			err = errors.Join(folder.Sync(path.Dir(path.Join(dir, heldFiles, file))), folder.Sync(path.Dir(now(file))))
		}
		if err != nil {
			return err
		}
	}
	return errors.Join(folder.Sync(dir), folder.Sync(HeldFolder))
}

// HoldFiles holds files that are no disk.
func HoldFiles(folder storage.Folder, h Held) error {
	h.ID = heldID(h.Path + time.Now().String())
	return hold(folder, h, itself)
}

// note writes what is held, before it is.
func (h Held) note(folder storage.Folder, now func(file string) string) error {
	h.Since = time.Now().Truncate(time.Second)
	for _, file := range h.Files {
		info, err := folder.Stat(now(file))
		if err != nil {
			return err
		}
		size, room := sizeOf(context.Background(), folder, info)
		h.Size, h.Room = h.Size+size, h.Room+room
	}
	b, err := json.MarshalIndent(h, "", "  ")
	if err != nil {
		return err
	}
	return storage.WriteFile(folder, path.Join(HeldFolder, h.ID, heldNote), b)
}

// ListHeld returns what a pool holds, the oldest first.
func ListHeld(folder storage.Folder) ([]Held, error) {
	infos, err := folder.List(HeldFolder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("looking for what is held: %w", err)
	}
	var held []Held
	for _, i := range infos {
		h, err := readHeld(folder, path.Base(i.Name))
		if err != nil {
			continue // being made, or not ours
		}
		held = append(held, h)
	}
	slices.SortFunc(held, func(a, b Held) int { return a.Since.Compare(b.Since) })
	return held, nil
}

// maxNote bounds the file that says what is held, in bytes.
const maxNote = 4 << 20

// readHeld reads what is said of one. Anybody may have written it: names in it are only used inside of the folder.
func readHeld(folder storage.Folder, id string) (h Held, err error) {
	if path.Base(id) != id || id == "." || id == ".." {
		return h, fs.ErrNotExist
	}
	file, err := folder.Open(path.Join(HeldFolder, id, heldNote))
	if err != nil {
		return h, err
	}
	defer file.Close()
	size, err := file.Size()
	if err != nil || size > maxNote {
		return h, errors.Join(err, fmt.Errorf("%s is too long", heldNote))
	}
	b := make([]byte, size)
	if _, err := file.ReadAt(b, 0); err != nil {
		return h, err
	}
	err = json.Unmarshal(b, &h)
	h.ID = id
	return h, err
}

// Restore gives what is held its names back. What has them now is held in its place when swap is set; otherwise that is an error.
func Restore(folder storage.Folder, id string, swap bool, holdFor time.Duration) (Held, error) {
	h, err := HeldAs(folder, id)
	if err != nil {
		return h, err
	}
	var taken, back []string // back are those that have not been restored by an earlier time
	for _, file := range h.Files {
		_, heldErr := folder.Stat(path.Join(HeldFolder, id, heldFiles, file))
		_, thereErr := folder.Stat(file)
		switch {
		case heldErr == nil:
			back = append(back, file)
			if thereErr == nil {
				taken = append(taken, file)
			}
		case thereErr != nil:
			return h, fmt.Errorf("%s is neither held nor where it was: what is held under %s is not whole any more", file, id)
		}
	}
	if len(taken) > 0 && !swap {
		return h, fmt.Errorf("%w: %s is there: move it away first, or let it be held instead (swap)", fs.ErrExist, taken[0])
	}
	if err := freeToGo(folder, taken); err != nil {
		return h, fmt.Errorf("holding what is there: %w", err)
	}
	if len(taken) > 0 {
		now := Held{
			ID:    uuid.NewString()[:8],
			Path:  h.Path,
			Files: taken,
			Why:   "swapped for what was held as " + id,
			Until: time.Now().Add(holdFor),
		}
		if err := hold(folder, now, itself); err != nil {
			return h, fmt.Errorf("holding what is there: %w", err)
		}
	}
	for _, file := range slices.Backward(back) { // the one that makes it openable last, when the others are there for good
		err := folder.Rename(path.Join(HeldFolder, id, heldFiles, file), file)
		if err == nil {
			err = folder.Sync(path.Dir(file))
		}
		if err != nil {
			return h, fmt.Errorf("restoring %s: %w", file, err)
		}
	}
	return h, DropHeld(folder, id)
}

// HeldAs returns what is held under an ID.
func HeldAs(folder storage.Folder, id string) (Held, error) {
	h, err := readHeld(folder, id)
	if err != nil {
		err = fmt.Errorf("nothing is held under %q: %w", id, err)
	}
	return h, err
}

// DropHeld removes what is held for good.
func DropHeld(folder storage.Folder, id string) error {
	if _, err := HeldAs(folder, id); err != nil {
		return err
	}
	dir := path.Join(HeldFolder, id)
	err := storage.RemoveAll(folder, path.Join(dir, heldFiles)) // what says what it is goes last
	if err = errors.Join(err, storage.RemoveAll(folder, dir)); err != nil {
		return fmt.Errorf("removing what is held under %s: %w", id, err)
	}
	tidy(folder)
	return nil
}

// clearHeld makes room by removing all that is held in the destination's pool.
func (w *work) clearHeld() error {
	held, err := ListHeld(w.Ends.Destination)
	if err != nil {
		return err
	}
	for _, h := range held {
		if err := DropHeld(w.Ends.Destination, h.ID); err != nil {
			return err
		}
		w.remark(fmt.Sprintf("what was held of %s was removed to make room", h.Path))
	}
	return nil
}

// DropExpired removes what has been held for as long as it should be, and returns it.
func DropExpired(folder storage.Folder, now time.Time) ([]Held, error) {
	held, err := ListHeld(folder)
	if err != nil {
		return nil, err
	}
	var dropped []Held
	for _, h := range held {
		if now.Before(h.Until) {
			continue
		}
		if err := DropHeld(folder, h.ID); err != nil {
			return dropped, err
		}
		dropped = append(dropped, h)
	}
	return dropped, nil
}
