package disk

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// maxChain bounds how many images may stand on each other.
const maxChain = 256

// Origin is the place of an image that is being opened.
type Origin struct {
	Folder   storage.Folder
	Name     string
	Snapshot string // kept inside of the image, to be opened instead of the present state
	// ByGeometry takes the size that the geometry gives, in a format that has both, when it is less than the other.
	ByGeometry bool
	// Home is the folder in which the image will lie, when it is opened elsewhere while it is being made: its base is there.
	Home  string
	above []string // identities of the images that stand on this one
}

// Base opens the image that the one at o says it stands on. The name comes out of an image and is data: it is taken
// relative to the image and never leads out of the folder, and a chain that comes back to itself is found. With an empty
// format the base is recognised by its content.
func (o Origin) Base(ctx context.Context, name, format string) (Reader, error) {
	at, r, err := o.base(ctx, name, format)
	if err == nil {
		return r, nil
	}
	var broken *ChainError
	if !errors.As(err, &broken) { // of a long chain, the link that fails is enough
		broken = &ChainError{name: name, err: err}
		err = broken
	}
	if at != "" {
		broken.Reached = slices.Insert(broken.Reached, 0, at)
	}
	return nil, err
}

// ChainError is the error for an image of which something below does not open. Reached are the names in the folder of what it stands on, down to that.
type ChainError struct {
	Reached []string
	name    string // as the image that stands on it says
	err     error
}

func (e *ChainError) Error() string { return fmt.Sprintf("opening the base %q: %v", e.name, e.err) }

// Unwrap returns why it does not open.
func (e *ChainError) Unwrap() error { return e.err }

// base opens it, and says by which name.
func (o Origin) base(ctx context.Context, name, format string) (at string, r Reader, err error) {
	home := o
	if o.Home != "" {
		home.Name = path.Join(o.Home, path.Base(o.Name))
	}
	if at, err = home.Beside(name); err != nil {
		return "", nil, err
	}
	self, err := o.identity()
	if err != nil {
		return at, nil, err
	}
	next := Origin{Folder: o.Folder, Name: at, above: append(slices.Clone(o.above), self)}
	id, err := next.identity()
	if err != nil {
		return at, nil, err
	}
	if slices.Contains(next.above, id) {
		return at, nil, Damaged("the chain of bases comes back to itself")
	}
	if len(next.above) >= maxChain {
		return at, nil, Unsupported("more than %d images stand on each other", maxChain)
	}
	r, err = next.Open(ctx, format)
	return at, r, err
}

// Beside returns the name in the folder that an image means by name, which it gives relative to itself, or as a path of the computer that leads
// into the folder.
func (o Origin) Beside(name string) (string, error) {
	if strings.Contains(name, "://") || strings.HasPrefix(name, "json:") {
		return "", fmt.Errorf("%w: it is not the name of a file", ErrUnsupported)
	}
	if path.IsAbs(name) {
		if ground, ok := storage.As[storage.Grounded](o.Folder); ok {
			if inside, ok := ground.NameOf(name); ok {
				return storage.Clean(storage.ShownName(inside))
			}
		}
		return "", &OutsideError{path.Clean(name)}
	}
	at := path.Join(path.Dir(o.Name), storage.ShownName(name))
	clean, err := storage.Clean(at)
	if errors.Is(err, storage.ErrOutside) {
		err = &OutsideError{at}
	}
	return clean, err
}

// OutsideError is the error for an image that names a file outside of its folder, which is not opened. At is a path of the computer, or one as seen from the folder.
type OutsideError struct{ At string }

func (e *OutsideError) Error() string {
	return fmt.Sprintf("%s: %v", storage.Printable(e.At), storage.ErrOutside)
}

// Unwrap returns storage.ErrOutside.
func (e *OutsideError) Unwrap() error { return storage.ErrOutside }

func (o Origin) identity() (string, error) {
	info, err := o.Folder.Stat(o.Name)
	if err != nil {
		return "", err
	}
	if info.ID != "" {
		return info.ID, nil
	}
	return o.Name, nil
}

// Open opens the disk in folder/name. With an empty format it is recognised by its content, and the content has to be
// what the name claims: whoever owns a guest can write any header into a raw disk, and a damaged image must not pass as
// raw. A format that is named is believed.
func Open(ctx context.Context, folder storage.Folder, name, format string) (Reader, error) {
	r, err := Origin{Folder: folder, Name: name}.Open(ctx, format)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", name, err)
	}
	return r, nil
}

// Open is like the function of that name.
func (o Origin) Open(ctx context.Context, format string) (Reader, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	o.Name = FirstPiece(o.Folder, o.Name)
	if format == "" {
		var err error
		if format, err = Recognise(o.Folder, o.Name); err != nil {
			return nil, err
		}
	}
	f, err := Lookup(format)
	if err != nil {
		return nil, err
	}
	r, err := f.Open(ctx, o)
	if err != nil || o.Snapshot == "" || f.Snapshots {
		return r, err
	}
	return nil, errors.Join(Unsupported("snapshots kept inside a %s image", format), r.Close())
}

// Recognise tells the format of folder/name by its content, or fails with a MismatchError when the name claims another one.
func Recognise(folder storage.Folder, name string) (string, error) {
	name = FirstPiece(folder, name)
	p, err := probe(folder, name)
	if err != nil {
		return "", err
	}
	var found []string
	for _, f := range formats {
		if f.Sniff != nil && f.Sniff(p) {
			found = append(found, f.Name)
		}
	}
	claimed := Claim(name)
	switch {
	case slices.Contains(found, claimed):
		return claimed, nil // whatever other marks a guest has written into it
	case len(found) > 1:
		return "", fmt.Errorf("%w: the content has the marks of %s; say which one is right (--from)", ErrFormat, strings.Join(found, " and of "))
	case len(found) == 0 && p.Head == nil:
		return "", fmt.Errorf("%w: %s is a folder, and not one that holds a disk: name the file of an image", ErrFormat, name)
	case len(found) == 0:
		found = []string{"raw"} // what has no marks of any format
	}
	if claimed == "" || claimed == found[0] {
		return found[0], nil
	}
	return "", &MismatchError{Claimed: claimed, Found: found[0]}
}

// FirstPiece returns the name of the file that opens a disk: of the first piece, when a name is only that of all together.
func FirstPiece(folder storage.Folder, name string) string {
	first := name + ".001"
	if _, err := folder.Stat(name); errors.Is(err, fs.ErrNotExist) {
		if _, err := folder.Stat(first); err == nil {
			return first
		}
	}
	return name
}

// MismatchError is the error for a file whose name claims another format than its content is.
type MismatchError struct {
	Claimed, Found string // names of formats; Found is raw for a content without the marks of any
}

func (e *MismatchError) Error() string {
	if e.Found == "raw" {
		return fmt.Sprintf("the name says %s, but the content has no marks of %s: the file may be damaged or incomplete. "+
			"Fetch it again, or name its format (--from raw) if you know that it is a raw disk", e.Claimed, e.Claimed)
	}
	return fmt.Sprintf("the name says %s, but the content looks like %s; a guest can write such marks into its own raw disk. "+
		"Say which one is right (--from %s or --from %s)", e.Claimed, e.Found, e.Claimed, e.Found)
}

// Claim returns the format that a file name claims, empty when it claims none. A number behind it is that of a piece.
func Claim(name string) string {
	ext := path.Ext(name)
	if strings.Trim(ext, ".0123456789") == "" && namedFormats[strings.ToLower(path.Ext(strings.TrimSuffix(name, ext)))] == "raw" {
		return "raw"
	}
	return namedFormats[strings.ToLower(ext)]
}
