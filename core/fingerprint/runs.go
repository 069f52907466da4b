package fingerprint

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Leaves are written as runs, each of three parts: how many leaves of zeros come, how many others, both as unsigned LEB128, and
// the digests of the others (docs/formats.md, "Tag").

// WriteTo writes the leaves, from the first of l on.
func (l *Leaves) WriteTo(w io.Writer) (int64, error) {
	var written int64
	put := func(b []byte) error {
		n, err := w.Write(b)
		written += int64(n)
		return err
	}
	for i := 0; i < len(l.runs); i++ {
		zeros, digests := l.runs[i].zeros, l.runs[i].digests
		if zeros > 0 && i+1 < len(l.runs) {
			i++
			digests = l.runs[i].digests
		}
		head := binary.AppendUvarint(binary.AppendUvarint(nil, uint64(zeros)), uint64(len(digests)))
		if err := put(head); err != nil {
			return written, err
		}
		for _, d := range digests {
			if err := put(d[:]); err != nil {
				return written, err
			}
		}
	}
	return written, nil
}

// byteReader is what reading runs takes.
type byteReader interface {
	io.Reader
	io.ByteReader
}

// ReadRuns adds the leaves that are written in r, up to its end. More than the disk has are an error.
func (l *Leaves) ReadRuns(r byteReader) error {
	for {
		zeros, err := binary.ReadUvarint(r)
		if errors.Is(err, io.EOF) {
			return nil
		}
		count, err2 := binary.ReadUvarint(r)
		if err = errors.Join(err, err2); err != nil {
			return fmt.Errorf("reading the leaves: %w", err)
		}
		if left := uint64(l.Total() - l.n); zeros > left || count > left-zeros {
			return fmt.Errorf("reading the leaves: there are more than the %d of the disk", l.Total())
		}
		if zeros > 0 {
			l.AppendZeros(int64(zeros))
		}
		for range count {
			var d Digest
			if _, err := io.ReadFull(r, d[:]); err != nil {
				return fmt.Errorf("reading the leaves: %w", err)
			}
			l.Append(d)
		}
	}
}
