package upload

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"path"
	"sync"

	"bagaglio/core/fingerprint"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
)

// Upload is a file that is coming. It is safe for concurrent use.
type Upload struct {
	About
	folder storage.Folder

	ending sync.RWMutex // held for reading by who puts pieces
	mu     sync.Mutex
	sums   []Sum // zero for what is not here
	// content and noted, which are the digests, are nil while nobody writes.
	content, noted storage.File
	arrived        bool // whole, without a name; it is not any more when a piece is put
}

// Open takes up an upload that was begun earlier. It fails with fs.ErrNotExist where there is none.
func Open(folder storage.Folder, id string) (*Upload, error) {
	a, err := about(folder, id)
	if err != nil {
		return nil, err
	}
	if _, err := folder.Stat(a.Content()); err != nil {
		return nil, err
	}
	noted, err := folder.Open(path.Join(disks.ArrivingFolder, id, sumsFile))
	if err != nil {
		return nil, err
	}
	defer noted.Close()
	u := &Upload{About: a, folder: folder, sums: make([]Sum, a.Pieces())}
	_, arrivedErr := folder.Stat(u.mark())
	u.arrived = arrivedErr == nil
	for n := range u.sums {
		if _, err := noted.ReadAt(u.sums[n][:], int64(n)*sha256.Size); err != nil && !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("reading what is here of the upload %s: %w", id, err)
		}
	}
	return u, nil
}

// open opens the files for writing.
func (u *Upload) open() (err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.content == nil {
		if u.content, err = u.folder.Reopen(u.Content()); err != nil {
			u.content = nil
			return err
		}
	}
	if u.noted == nil {
		if u.noted, err = u.folder.Reopen(path.Join(disks.ArrivingFolder, u.ID, sumsFile)); err != nil {
			u.noted = nil
		}
	}
	return err
}

// mark is the file that tells that it has arrived.
func (u *Upload) mark() string { return path.Join(disks.ArrivingFolder, u.ID, disks.ArrivedFile) }

// Arrived tells that it is there as a whole, and waits for a job to read it.
func (u *Upload) Arrived() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.arrived
}

// setArrived says so, or that it is not whole any more.
func (u *Upload) setArrived(is bool) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.arrived == is {
		return nil
	}
	var err error
	if is {
		err = storage.WriteFile(u.folder, u.mark(), nil)
	} else {
		err = u.folder.Remove(u.mark())
	}
	if err == nil {
		u.arrived = is
	}
	return err
}

// Rest lets go of the files until somebody writes again; what came stays.
func (u *Upload) Rest() error {
	u.ending.Lock()
	defer u.ending.Unlock()
	return u.rest()
}

// rest does so for who holds ending.
func (u *Upload) rest() (err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, f := range []storage.File{u.content, u.noted} {
		if f != nil {
			err = errors.Join(err, f.Close())
		}
	}
	u.content, u.noted = nil, nil
	return err
}

// Drop removes what came.
func (u *Upload) Drop() error {
	return errors.Join(u.Rest(), storage.RemoveAll(u.folder, path.Join(disks.ArrivingFolder, u.ID)))
}

// Here returns the digests of the pieces that are here; the others are zero.
func (u *Upload) Here() []Sum {
	u.mu.Lock()
	defer u.mu.Unlock()
	return append([]Sum{}, u.sums...)
}

// Put writes a piece, whose digest is known. A piece without any bytes is one of zeros. It may be put again, also with another content.
func (u *Upload) Put(piece int, content []byte, sum Sum) error {
	if piece < 0 || piece >= len(u.sums) {
		return fmt.Errorf("%w: there is no piece %d: the file has %d, counted from 0", ErrRefused, piece, len(u.sums))
	}
	empty := len(content) == 0
	if empty {
		content = make([]byte, u.Length(piece))
	}
	if int64(len(content)) != u.Length(piece) {
		return fmt.Errorf("%w: piece %d has %d bytes, and %d came", ErrPiece, piece, u.Length(piece), len(content))
	}
	if !is(content, sum) {
		return fmt.Errorf("piece %d: %w", piece, ErrPiece)
	}
	u.ending.RLock()
	defer u.ending.RUnlock()
	if err := u.open(); err != nil {
		return err
	}
	u.mu.Lock()
	was := u.sums[piece]
	u.mu.Unlock()
	if was == sum && sum != (Sum{}) { // it is here
		return nil
	}
	if err := u.setArrived(false); err != nil {
		return err
	}
	if !empty || was != (Sum{}) {
		if err := u.note(piece, Sum{}); err != nil { // until it is written, nothing is here
			return err
		}
		if _, err := u.content.WriteAt(content, int64(piece)*PieceSize); err != nil {
			return fmt.Errorf("writing piece %d: %w", piece, err)
		}
	}
	return u.note(piece, sum)
}

// note says what is here of a piece.
func (u *Upload) note(piece int, sum Sum) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.sums[piece] = sum
	if _, err := u.noted.WriteAt(sum[:], int64(piece)*sha256.Size); err != nil {
		u.sums[piece] = Sum{}
		return fmt.Errorf("noting piece %d: %w", piece, err)
	}
	return nil
}

// End reads back what came, from its storage, and gives the file its name when it is what was sent: all of its pieces are here, each is what its
// digest says, and root is the digest of them. read is told how many bytes were compared since the last time. What differs is not here any more:
// it is sent again, and the upload is ended again. Where it gets no name, it stays where it is until it is dropped.
func (u *Upload) End(ctx context.Context, root Sum, read func(n int64)) error {
	u.ending.Lock()
	defer u.ending.Unlock()
	sums := u.Here()
	for n, s := range sums {
		if s == (Sum{}) {
			return fmt.Errorf("%w: piece %d of %d", ErrLacks, n, len(sums))
		}
	}
	if Root(sums) != root {
		return ErrOther
	}
	if err := u.setArrived(false); err != nil { // until it is known again
		return err
	}
	if err := u.open(); err != nil {
		return err
	}
	if err := u.content.Sync(); err != nil {
		return fmt.Errorf("writing %s out: %w", u.Content(), err)
	}
	err := u.compare(ctx, sums, read)
	if err = errors.Join(err, u.rest()); err != nil {
		return err
	}
	if u.Path == "" {
		return u.setArrived(true)
	}
	if err := u.folder.Rename(u.Content(), u.Path); err != nil {
		return err
	}
	err = u.folder.Sync(path.Dir(u.Path))
	return errors.Join(err, storage.RemoveAll(u.folder, path.Join(disks.ArrivingFolder, u.ID)))
}

// zeros is the digest of a whole piece of zeros.
var zeros = sync.OnceValue(func() Sum { return sha256.Sum256(make([]byte, PieceSize)) })

// Zeros is the digest of a piece of n zeros.
func Zeros(n int64) Sum {
	if n == PieceSize {
		return zeros()
	}
	return sha256.Sum256(make([]byte, n))
}

// is tells whether a piece is what its digest says. Zeros are looked for, which takes less.
func is(piece []byte, sum Sum) bool {
	if sum == zeros() {
		return len(piece) == PieceSize && fingerprint.IsZero(piece)
	}
	return sha256.Sum256(piece) == sum
}

// compare reads all pieces from the storage, not from what this computer still has in memory, and compares them with their digests.
func (u *Upload) compare(ctx context.Context, sums []Sum, read func(n int64)) error {
	file, err := storage.Fresh(u.folder).Open(u.Content())
	if err != nil {
		return err
	}
	defer file.Close()
	p, differ := make([]byte, PieceSize), 0
	for n, s := range sums {
		if err := ctx.Err(); err != nil {
			return err
		}
		p = p[:u.Length(n)]
		if got, err := file.ReadAt(p, int64(n)*PieceSize); got < len(p) {
			return fmt.Errorf("reading piece %d back: %w", n, err)
		}
		if !is(p, s) {
			differ++
			if err := u.note(n, Sum{}); err != nil {
				return err
			}
		}
		read(int64(len(p)))
	}
	if differ > 0 {
		return fmt.Errorf("%w: %d of %d are not on the storage as they came: send them again", ErrLacks, differ, len(sums))
	}
	return nil
}
