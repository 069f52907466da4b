package hive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/disk"
)

// Edit gives a number of 32 bits another value where it lies in the file: nothing moves.
type Edit struct {
	Off      int64 // in the file, in bytes
	Was, Now uint32
}

// ErrUnfinished is the error for a file whose last write did not end: part of it may be in a log beside it.
var ErrUnfinished = errors.New("its registry was not written to the end: start it once more, and shut it down")

// SetNumber is what gives a value another number. It fails as Number does.
func (k Key) SetNumber(name string, now uint32) (Edit, error) {
	was, err := k.Number(name)
	if err != nil {
		return Edit{}, err
	}
	v, err := k.value(name)
	return Edit{v.at, was, now}, err
}

// Apply returns the content of a file with edits made: those numbers, the numbers of the last write, and the checksum are all that differs. It fails with ErrUnfinished, and with
// disk.ErrDamaged for what is no file of the registry, or has something else where a number is to be.
func Apply(content []byte, edits []Edit) ([]byte, error) {
	h, err := Open(bytes.NewReader(content), int64(len(content)))
	switch {
	case err != nil:
		return nil, err
	case h.Unfinished:
		return nil, ErrUnfinished
	}
	out := slices.Clone(content)
	for _, e := range edits {
		if e.Off < baseBlock || e.Off > int64(len(out))-4 {
			return nil, disk.Damaged("a number of the registry outside of its file, at %d", e.Off)
		}
		if binary.LittleEndian.Uint32(out[e.Off:]) != e.Was {
			return nil, fmt.Errorf("%w: a number of the registry is another one by now, at %d", disk.ErrDamaged, e.Off)
		}
		binary.LittleEndian.PutUint32(out[e.Off:], e.Now)
	}
	for _, at := range []int{atSequence, atSequence + 4} {
		binary.LittleEndian.PutUint32(out[at:], binary.LittleEndian.Uint32(out[at:])+1)
	}
	binary.LittleEndian.PutUint32(out[atChecksum:], sumOf(out))
	return out, nil
}
