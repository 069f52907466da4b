package inspect

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/fingerprint"
)

// SameFiles compares two filesystems: names, what they are, their mode, when they were changed, and every byte of every file, whatever lies where.
// Owners, lists of who may what and other attributes are not looked at. It returns how many files and folders there are, and fails at the first that
// differs, and for folders that lie more than maxDepth deep.
func SameFiles(ctx context.Context, a, b *Volume) (int, error) {
	return SameBut(ctx, a, b, func(string) bool { return false }, nil)
}

// SameBut compares all but files of some names, and when the folders of some names were changed. touched tells which bytes of the filesystem may be others, counted from its start;
// the content of files that lie as they did, in what was not touched, is not read. It is nil where nothing is known of that.
func SameBut(ctx context.Context, a, b *Volume, but func(name string) bool, touched func(off, length int64) bool) (int, error) {
	c := &comparing{a: a, b: b, but: but, touched: touched, seen: map[uint64]bool{}}
	err := c.folders(ctx, a.Root(), b.Root(), "", 0)
	return c.count, err
}

type comparing struct {
	a, b    *Volume
	but     func(name string) bool
	touched func(off, length int64) bool
	seen    map[uint64]bool
	count   int
}

func (c *comparing) folders(ctx context.Context, x, y uint64, name string, depth int) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if c.seen[x] {
		return nil
	}
	if depth > maxDepth {
		return fmt.Errorf("%s: %w", name, errDeep)
	}
	c.seen[x] = true
	in, err := sorted(c.a, x)
	if err != nil {
		return fmt.Errorf("%s before: %w", or(name), err)
	}
	out, err := sorted(c.b, y)
	if err != nil {
		return fmt.Errorf("%s after: %w", or(name), err)
	}
	in, out = c.left(c.a, in, out, name), c.left(c.b, out, in, name)
	for i, e := range in {
		if i >= len(out) || e.Name != out[i].Name {
			return fmt.Errorf("%s is not there any more", path.Join(name, e.Name))
		}
		c.count++
		at := path.Join(name, e.Name)
		before, err := c.a.Stat(e.Node)
		if err != nil {
			return fmt.Errorf("%s before: %w", at, err)
		}
		after, err := c.b.Stat(out[i].Node)
		if err != nil {
			return fmt.Errorf("%s after: %w", at, err)
		}
		if before.Mode != after.Mode || !before.Modified.Equal(after.Modified) && !c.but(at) ||
			!before.Mode.IsDir() && before.Size != after.Size {
			return fmt.Errorf("%s is another one than before", at)
		}
		switch {
		case before.Mode.IsDir():
			err = c.folders(ctx, e.Node, out[i].Node, at, depth+1)
		case before.Mode.IsRegular() || before.Mode&fs.ModeSymlink != 0:
			err = c.content(ctx, e.Node, out[i].Node, before, at)
		}
		if err != nil {
			return err
		}
	}
	if len(out) > len(in) {
		return fmt.Errorf("%s was not there before", path.Join(name, out[len(in)].Name))
	}
	return nil
}

// left are the entries of a folder that are compared: of the names that are left out, those of folders that are in both.
func (c *comparing) left(v *Volume, all, others []Entry, name string) []Entry {
	return slices.DeleteFunc(slices.Clone(all), func(e Entry) bool {
		if !c.but(path.Join(name, e.Name)) {
			return false
		}
		info, err := v.Stat(e.Node)
		return err != nil || !info.Mode.IsDir() || !slices.ContainsFunc(others, func(o Entry) bool { return o.Name == e.Name })
	})
}

// lies tells whether a file lies as it did, in what was not touched.
func (c *comparing) lies(a, b []Piece) bool {
	same := func(a, b Piece) bool {
		return a.Off == b.Off && a.Len == b.Len && a.At == b.At && a.Data == nil && b.Data == nil && !c.touched(a.At, a.Len)
	}
	return c.touched != nil && slices.EqualFunc(a, b, same)
}

func or(name string) string {
	if name == "" {
		return "the filesystem's folder"
	}
	return name
}

func sorted(v *Volume, folder uint64) ([]Entry, error) {
	all, err := v.List(folder)
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return all, err
}

func (c *comparing) content(ctx context.Context, x, y uint64, info Info, name string) error {
	pieces, err := c.a.Pieces(x)
	if err != nil {
		return fmt.Errorf("%s before: %w", name, err)
	}
	before := &content{c.a, pieces}
	if pieces, err = c.b.Pieces(y); err != nil {
		return fmt.Errorf("%s after: %w", name, err)
	}
	after := &content{c.b, pieces}
	if c.lies(before.pieces, after.pieces) {
		return nil
	}
	was, is := make([]byte, 256<<10), make([]byte, 256<<10)
	for _, r := range stored(before, after) { // the rest is zeros in both
		for off := r.Offset; off < min(r.Offset+r.Length, info.Size); {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			n := min(r.Offset+r.Length, info.Size) - off
			n = min(n, int64(len(was)))
			if _, err := before.ReadAt(was[:n], off); err != nil {
				return fmt.Errorf("%s before: %w", name, err)
			}
			if _, err := after.ReadAt(is[:n], off); err != nil {
				return fmt.Errorf("%s after: %w", name, err)
			}
			if !bytes.Equal(was[:n], is[:n]) {
				return fmt.Errorf("%s has other content than before", name)
			}
			off += n
		}
	}
	return nil
}

// stored is what of a file is stored in at least one of two.
func stored(all ...*content) (out []fingerprint.Range) {
	for _, c := range all {
		for _, p := range c.pieces {
			out = append(out, fingerprint.Range{Offset: p.Off, Length: p.Len})
		}
	}
	slices.SortFunc(out, func(a, b fingerprint.Range) int { return cmp.Compare(a.Offset, b.Offset) })
	merged := out[:0]
	for _, r := range out {
		if n := len(merged); n > 0 && r.Offset <= merged[n-1].Offset+merged[n-1].Length {
			merged[n-1].Length = max(merged[n-1].Length, r.Offset+r.Length-merged[n-1].Offset)
			continue
		}
		merged = append(merged, r)
	}
	return merged
}
