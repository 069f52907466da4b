package fingerprint

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Tag travels beside an image and says what a guest sees on it, leaf by leaf (docs/formats.md, "Tag"): a line of JSON, and behind
// it the leaves in runs as a Zstandard frame.
type Tag struct {
	Version     int       `json:"bagtag"` // of the form of tags: 1
	Fingerprint string    `json:"fingerprint"`
	VirtualSize int64     `json:"virtual_size"` // in bytes
	LeafSize    int64     `json:"leaf_size"`    // in bytes
	Format      string    `json:"format"`
	Layout      string    `json:"layout"`
	Proven      bool      `json:"proven"` // the image was read back from storage and compared
	Made        time.Time `json:"made"`
	Receipt     string    `json:"receipt,omitempty"` // that of the job that made the image
	Origin      Origin    `json:"origin"`
	// History is what was known of the origin before it was read, the latest first: what its own tag said, and what that one came from.
	History []Origin `json:"history,omitempty"`
	// Doubts are what was known against the content when the tag was made, in sentences.
	Doubts []string `json:"doubts,omitempty"`
	// Called is what people call the disk, and Note what they note on it.
	Called string  `json:"called,omitempty"`
	Note   string  `json:"note,omitempty"`
	Files  []File  `json:"files"` // as they were when the tag was made
	Leaves *Leaves `json:"-"`
}

// Origin is what an image was made of.
type Origin struct {
	Disk        string `json:"disk"` // where it lay
	Format      string `json:"format"`
	Fingerprint string `json:"fingerprint,omitempty"`
	// For what a tag said: when it was made, by which job's receipt, and how what was read later differed from it.
	Made    *time.Time `json:"made,omitempty"`
	Receipt string     `json:"receipt,omitempty"`
	Differs string     `json:"differs,omitempty"`
}

// mostHistory bounds how far back a tag tells.
const mostHistory = 16

// Follow has the tag tell what another one, of its origin, said, and all that that one told. differs says how what was read differs from
// it, empty when it does not.
func (t *Tag) Follow(origin *Tag, disk, differs string) {
	made := origin.Made
	said := Origin{Disk: disk, Format: origin.Format, Fingerprint: origin.Fingerprint, Made: &made, Receipt: origin.Receipt, Differs: differs}
	t.History = append([]Origin{said, origin.Origin}, origin.History...)
	t.History = t.History[:min(len(t.History), mostHistory)]
}

// File is a file of an image. Its name is relative to the folder of the tag, its size in bytes.
type File struct {
	Name     string    `json:"name"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// TagExtension is what a tag's name has behind that of the image.
const TagExtension = ".bagtag"

// piece is the name of a piece of an image.
var piece = regexp.MustCompile(`^(.+)\.\d{2,}$`)

// TagName is the name of the tag of an image, by that of the file that opens it. That of an image in pieces does not begin as
// the pieces do: who joins NAME.* gets the pieces alone.
func TagName(image string) string {
	if m := piece.FindStringSubmatch(image); m != nil {
		image = m[1] + "-pieces"
	}
	return image + TagExtension
}

// tagVersion is the form of tags that is written and read.
const tagVersion = 1

// maxHead bounds the line of JSON, in bytes.
const maxHead = 4 << 20

// ErrTag is the error for a tag that cannot be believed.
var ErrTag = errors.New("the tag is damaged")

// WriteTo writes the tag. Version, fingerprint and sizes follow from its leaves.
func (t Tag) WriteTo(w io.Writer) (int64, error) {
	sum, err := t.Leaves.Sum()
	if err != nil {
		return 0, err
	}
	t.Version, t.Fingerprint, t.VirtualSize, t.LeafSize = tagVersion, sum.String(), t.Leaves.size, LeafSize
	head, err := json.Marshal(t)
	if err != nil {
		return 0, err
	}
	n, err := w.Write(append(head, '\n'))
	if err != nil {
		return int64(n), err
	}
	counted := &counter{w: w, n: int64(n)}
	z, err := zstd.NewWriter(counted, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20))
	if err != nil {
		return counted.n, err
	}
	buffered := bufio.NewWriterSize(z, 1<<16)
	_, err = t.Leaves.WriteTo(buffered)
	return counted.n, errors.Join(err, buffered.Flush(), z.Close())
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// HeadOnly is a size for ReadTag with which no leaves are read.
const HeadOnly = -1

// ReadTag reads the tag of a disk of that virtual size in bytes, and checks that its leaves make its fingerprint. One that is of a disk of
// another size has no leaves: what they would take is not bounded by anything.
func ReadTag(r io.Reader, size int64) (*Tag, error) {
	t := &Tag{}
	head := bufio.NewReader(r)
	line, err := readLine(head)
	if err == nil {
		err = json.Unmarshal(line, t)
	}
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrTag, err)
	case t.Version != tagVersion:
		return nil, fmt.Errorf("%w: it is of version %d, and only %d is known: use a later Bagaglio", ErrTag, t.Version, tagVersion)
	case t.LeafSize != LeafSize || t.VirtualSize < 0:
		return nil, fmt.Errorf("%w: its sizes make no sense", ErrTag)
	}
	if t.VirtualSize != size {
		return t, nil
	}
	z, err := zstd.NewReader(head, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20), zstd.WithDecoderLowmem(true))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrTag, err)
	}
	defer z.Close()
	t.Leaves = NewLeaves(t.VirtualSize)
	if err := t.Leaves.ReadRuns(bufio.NewReaderSize(z, 1<<16)); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrTag, err)
	}
	sum, err := t.Leaves.Sum()
	if err != nil || sum.String() != t.Fingerprint {
		return nil, fmt.Errorf("%w: its leaves do not make its fingerprint", ErrTag)
	}
	return t, nil
}

// Refile writes the tag that r reads to w, with what files makes of those that it speaks of: they were copied. Its leaves stay as they are.
func Refile(w io.Writer, r io.Reader, files func([]File) []File) error {
	return rewrite(w, r, func(t *Tag) { t.Files = files(t.Files) })
}

// Bounds of what people call a disk, and note on it, in bytes.
const MaxCalled, MaxNote = 200, 4000

// Rename writes the tag that r reads to w, of a disk that is called otherwise. Its leaves stay as they are.
func Rename(w io.Writer, r io.Reader, called, note string) error {
	return rewrite(w, r, func(t *Tag) { t.Called, t.Note = called, note })
}

// rewrite writes a tag with another head.
func rewrite(w io.Writer, r io.Reader, change func(*Tag)) error {
	var t Tag
	rest := bufio.NewReader(r)
	line, err := readLine(rest)
	if err == nil {
		err = json.Unmarshal(line, &t)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrTag, err)
	}
	change(&t)
	if line, err = json.Marshal(t); err != nil {
		return err
	}
	if _, err := w.Write(append(line, '\n')); err != nil {
		return err
	}
	_, err = io.Copy(w, rest)
	return err
}

// readLine reads a line that is not too long.
func readLine(r *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		line = append(line, part...)
		if err == nil {
			return bytes.TrimSuffix(line, []byte("\n")), nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) || len(line) > maxHead {
			return nil, fmt.Errorf("reading its first line: %w", err)
		}
	}
}
