// Package upload takes a file into a folder in pieces, from somebody who reads it elsewhere and whose line may be cut. Each piece comes with its
// digest; when all are there, the file is read back from its storage and compared with them before it gets its name. What came stays over a
// restart, and over a power cut what was lost of it is asked for again.
//
// An upload lies in a folder of its own, below the one that is ours in a pool (docs/formats.md, "Uploads").
package upload

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
)

const (
	// PieceSize is that of all pieces but the last one, in bytes.
	PieceSize = 4 << 20
	// MaxSize bounds a file, in bytes.
	MaxSize = 16 << 40

	// waitFor is for how long an upload waits for its next piece.
	waitFor = 7 * 24 * time.Hour

	aboutFile = "about.json"
	sumsFile  = "sums"
	// contentFile has the extension of what can be read as it is, whatever comes.
	contentFile = "disk.raw"
	maxAbout    = 64 << 10
)

// Sum is a SHA-256.
type Sum = [sha256.Size]byte

// Errors of what is sent.
var (
	ErrRefused = errors.New("this cannot be uploaded")
	ErrPiece   = errors.New("the piece is not what its digest says: send it again")
	ErrLacks   = errors.New("not all pieces are there")
	ErrOther   = errors.New("the file is not the one that was sent: it was changed meanwhile, or the end of the upload is for another one")
)

// About is what an upload is.
type About struct {
	ID    string    `json:"id"`
	Key   string    `json:"key,omitempty"`  // by which whoever sends it finds it again
	Path  string    `json:"path,omitempty"` // that the file gets, in the pool; empty when it stays where it has arrived, for a job to read
	Size  int64     `json:"size"`           // of the file, in bytes
	By    string    `json:"by"`
	Begun time.Time `json:"begun"`
}

// Pieces is how many there are.
func (a About) Pieces() int { return int((a.Size + PieceSize - 1) / PieceSize) }

// Length is that of a piece, in bytes.
func (a About) Length(piece int) int64 { return min(PieceSize, a.Size-int64(piece)*PieceSize) }

// Content is the name of what has come, in the folder of the pool.
func (a About) Content() string { return path.Join(disks.ArrivingFolder, a.ID, contentFile) }

// Root is the digest of a file: that of the digests of its pieces, one behind the other.
func Root(sums []Sum) Sum {
	h := sha256.New()
	for _, s := range sums {
		_, _ = h.Write(s[:]) // never fails (hash.Hash)
	}
	return Sum(h.Sum(nil))
}

// goodID keeps IDs from being paths.
var goodID = regexp.MustCompile(`^[a-z0-9-]{1,64}$`)

// check fails for what cannot be an upload.
func (a About) check() error {
	name, err := storage.Clean(a.Path)
	switch {
	case err != nil:
		return err
	case a.Path != "" && (name == "." || strings.HasSuffix(a.Path, "/")):
		return fmt.Errorf("%w: %q is a folder: name the file in it", storage.ErrName, a.Path)
	case slices.Contains(strings.Split(name, "/"), disks.OwnFolder):
		return fmt.Errorf("%w: %s is for the service itself", storage.ErrName, disks.OwnFolder)
	case !goodID.MatchString(a.ID):
		return fmt.Errorf("%w: %q is no upload", storage.ErrName, a.ID)
	case a.Size < 0 || a.Size > MaxSize:
		return fmt.Errorf("%w: a file of %d bytes: it may have up to %d", ErrRefused, a.Size, int64(MaxSize))
	}
	return nil
}

// Begin prepares a folder for a file. Nothing may lie where it is to come: then the error is fs.ErrExist.
func Begin(folder storage.Folder, a About) (*Upload, error) {
	if err := a.check(); err != nil {
		return nil, err
	}
	if _, err := folder.Stat(a.Path); a.Path != "" && err == nil {
		return nil, &fs.PathError{Op: "upload", Path: a.Path, Err: fs.ErrExist}
	} else if a.Path != "" && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	b, err := json.MarshalIndent(a, "", "  ")
	if err != nil {
		return nil, err
	}
	u := &Upload{About: a, folder: folder, sums: make([]Sum, a.Pieces())}
	if u.content, err = folder.Create(a.Content()); err != nil {
		u.content = nil
		return nil, err
	}
	if err = u.content.Truncate(a.Size); err == nil {
		if u.noted, err = folder.Create(path.Join(disks.ArrivingFolder, a.ID, sumsFile)); err != nil {
			u.noted = nil
		}
	}
	if err == nil {
		err = u.noted.Truncate(int64(len(u.sums)) * sha256.Size)
	}
	if err == nil { // it is one from here on
		err = storage.WriteFile(folder, path.Join(disks.ArrivingFolder, a.ID, aboutFile), append(b, '\n'))
	}
	if err == nil {
		err = disks.CloseOurs(folder)
	}
	if err = errors.Join(err, u.Rest()); err != nil {
		return nil, errors.Join(err, u.Drop())
	}
	return u, nil
}

// List returns the uploads of a folder, the oldest first, as far as they can be read.
func List(folder storage.Folder) ([]About, error) {
	infos, err := folder.List(disks.ArrivingFolder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var all []About
	for _, i := range infos {
		if a, err := about(folder, path.Base(i.Name)); err == nil {
			all = append(all, a)
		}
	}
	slices.SortFunc(all, func(a, b About) int { return a.Begun.Compare(b.Begun) })
	return all, err
}

// DropExpired removes what nobody went on with for long enough.
func DropExpired(folder storage.Folder, now time.Time) error {
	infos, err := folder.List(disks.ArrivingFolder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, i := range infos {
		last := i
		for _, file := range []string{sumsFile, aboutFile} {
			if f, err := folder.Stat(path.Join(i.Name, file)); err == nil && f.Modified.After(last.Modified) {
				last = f
			}
		}
		if now.Sub(last.Modified) > waitFor {
			err = errors.Join(err, storage.RemoveAll(folder, i.Name))
		}
	}
	return err
}

// about reads what an upload is.
func about(folder storage.Folder, id string) (a About, err error) {
	if !goodID.MatchString(id) {
		return a, &fs.PathError{Op: "upload", Path: id, Err: fs.ErrNotExist}
	}
	file, err := folder.Open(path.Join(disks.ArrivingFolder, id, aboutFile))
	if err != nil {
		return a, err
	}
	defer file.Close()
	size, err := file.Size()
	if err != nil || size > maxAbout {
		return a, errors.Join(err, fmt.Errorf("what the upload %s is has %d bytes", id, size))
	}
	b := make([]byte, size)
	if n, err := file.ReadAt(b, 0); n < len(b) {
		return a, err
	}
	if err = json.Unmarshal(b, &a); err == nil {
		err = a.check()
	}
	if err == nil && a.ID != id {
		err = fmt.Errorf("the upload %s says that it is %s", id, a.ID)
	}
	return a, err
}
