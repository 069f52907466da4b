package sftp

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/pkg/sftp"
)

// The protocol does not tell holes. Where the host has GNU tar, an archive of the file that has only just begun does: it begins with the
// map of the file's data (GNU tar manual, "PAX Format, Version 1.0"), which tar learns from the filesystem without reading the file.

// usualMap is enough of an archive for the maps of most files, and largestMap for any that is taken, in bytes. The former fits into what a
// command says, in base64.
const usualMap, largestMap = 45 << 10, 16 << 20

// readFile is a file open for reading on a host that tells its holes.
type readFile struct {
	*file
	size func() (int64, error) // asked for once
	data func() []run          // likewise: in order; nil when nothing is known
}

func (f *file) forReading() *readFile {
	r := &readFile{file: f, size: sync.OnceValues(f.Size)}
	r.data = sync.OnceValue(func() []run {
		size, err := r.size()
		if err != nil {
			return nil
		}
		return f.client.dataOf(f.file, size)
	})
	return r
}

// Size is the length that the file had when it was first asked for.
func (f *readFile) Size() (int64, error) { return f.size() }

// run is a range of a file that holds data.
type run struct{ off, end int64 }

// Range returns the end of the run that starts at off, and whether it holds data. What is not known is data.
func (f *readFile) Range(off int64) (end int64, data bool, err error) {
	size, err := f.size()
	if err != nil {
		return 0, false, err
	}
	if off >= size {
		return 0, false, io.EOF
	}
	runs := f.data()
	if runs == nil {
		return size, true, nil
	}
	i, _ := slices.BinarySearchFunc(runs, off, func(r run, off int64) int {
		if r.end <= off {
			return -1
		}
		return 1
	})
	switch {
	case i == len(runs):
		return size, false, nil
	case runs[i].off > off:
		return runs[i].off, false, nil
	}
	return runs[i].end, true, nil
}

// dataOf asks for the runs of data of an open file, nil when the host does not tell, or has none that are holes.
func (c *client) dataOf(f *sftp.File, size int64) []run {
	if size < usualMap {
		return nil
	}
	dir, name := path.Split(f.Name())
	full := quote(f.Name())
	thin := "[ $(( $(stat -c %b -- " + full + ") * $(stat -c %B -- " + full + ") )) -lt $(stat -c %s -- " + full + ") ] && "
	tar := "tar -c -f - --format=posix --sparse --sparse-version=1.0 --hole-detection=seek -C " + quote(
		dir,
	) + " -- " + quote(
		"./"+name,
	) + " 2>/dev/null | head -c "
	said, err := c.shell(thin + tar + strconv.Itoa(usualMap) + " | base64 -w 0; echo")
	if err != nil {
		return nil
	}
	begin, err := base64.StdEncoding.DecodeString(strings.TrimSpace(said))
	if err != nil {
		return nil
	}
	runs, err := sparseMap(begin, size)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		said, err = c.run(context.Background(), tar+strconv.Itoa(largestMap), largestMap)
		if err == nil {
			runs, err = sparseMap([]byte(said), size)
		}
	}
	if err != nil || !c.isStill(f) {
		return nil
	}
	return runs
}

// isStill tells whether an open file is what lies under its name, as far as the protocol tells: the map is that of the name.
func (c *client) isStill(f *sftp.File) bool {
	open, errOpen := f.Stat()
	named, errNamed := c.sftp.Lstat(f.Name())
	return errOpen == nil && errNamed == nil && alike(open, named)
}

// block is the unit of an archive in bytes, typeAt and sizeAt where a header of it has the type of the entry and its length, in octal
// (POSIX, pax, "ustar Interchange Format").
const block, typeAt, sizeAt, sizeLen = 512, 156, 124, 12

// sparseMap reads the runs of data from the beginning of an archive of a file of that size. It fails with io.ErrUnexpectedEOF when the map
// goes on behind that.
func sparseMap(archive []byte, size int64) ([]run, error) {
	if len(archive) < block || archive[typeAt] != 'x' {
		return nil, errNoMap
	}
	n, err := strconv.ParseInt(strings.Trim(string(archive[sizeAt:sizeAt+sizeLen]), " \x00"), 8, 32)
	records := block + (n+block-1)/block*block
	if err != nil || n < 0 || records+block > int64(len(archive)) {
		return nil, errNoMap
	}
	for _, record := range []string{"GNU.sparse.major=1\n", "GNU.sparse.minor=0\n", fmt.Sprintf("GNU.sparse.realsize=%d\n", size)} {
		if !bytes.Contains(archive[block:block+n], []byte(record)) {
			return nil, errNoMap
		}
	}
	rest := archive[records+block:] // behind the header of the file itself
	number := func() (x int64, err error) {
		digits, after, ok := bytes.Cut(rest, []byte("\n"))
		if !ok {
			return 0, io.ErrUnexpectedEOF
		}
		rest = after
		return strconv.ParseInt(string(digits), 10, 64)
	}
	count, err := number()
	if err != nil {
		return nil, err
	}
	runs, end := []run{}, int64(0)
	for range count {
		off, errOff := number()
		length, errLen := number()
		if err := errors.Join(errOff, errLen); err != nil {
			return nil, err
		}
		if off < end || length < 0 || length > size-off {
			return nil, errNoMap
		}
		if end = off + length; length > 0 { // the last one may only tell where the file ends
			runs = append(runs, run{off, end})
		}
	}
	if end != size {
		return nil, errNoMap
	}
	return runs, nil
}

var errNoMap = errors.New("it is no map of this file")
