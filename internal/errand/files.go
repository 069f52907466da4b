package errand

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"bagaglio/core/fingerprint"
	"bagaglio/core/host"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// Files asks for something to be done in the folder that the source of a subject lies in, on the computer of another porter: the service does it there.
const Files = "files"

// What is done in a folder.
const (
	DoStat   = "stat"
	DoList   = "list"
	DoRename = "rename"
	DoRemove = "remove"
	DoCreate = "create" // a small file, with its content
	DoSync   = "sync"
	DoSpace  = "space"
	DoOwn    = "own" // give it to an owner, with a mode
)

// MaxContent bounds a file that is made there, in bytes: a note beside what is held, a tag, or an image that covers a disk.
const MaxContent = 4 << 20

// Deed is what is to be done.
type Deed struct {
	Number  Number
	Subject string
	Pool    string `json:",omitempty"` // of the old disks of a machine that goes away while it runs, instead of a subject
	Do      string
	Name    string
	To      string `json:",omitempty"` // the new name
	Content Content
	Owner   string `json:",omitempty"`
	Mode    string `json:",omitempty"`
}

// Changes tells whether something is another one afterwards, so that it may be done once only.
func (d Deed) Changes() bool {
	return slices.Contains([]string{DoRename, DoRemove, DoCreate, DoOwn}, d.Do)
}

// Found is what was found there.
type Found struct {
	Infos []storage.Info `json:",omitempty"`
	Space *storage.Space `json:",omitempty"`
}

// In does it in a folder.
func (d Deed) In(folder storage.Folder) (f Found, err error) {
	switch d.Do {
	case DoStat:
		info, err := folder.Stat(d.Name)
		return Found{Infos: []storage.Info{info}}, err
	case DoList:
		f.Infos, err = folder.List(d.Name)
	case DoRename:
		err = folder.Rename(d.Name, d.To)
	case DoRemove:
		err = folder.Remove(d.Name)
	case DoSync:
		err = folder.Sync(d.Name)
	case DoSpace:
		space, err := folder.Space()
		return Found{Space: &space}, err
	case DoOwn:
		if o, ok := storage.As[storage.Owner](folder); ok {
			err = o.Own(d.Name, d.Owner, d.Mode)
		}
	case DoCreate:
		err = create(folder, d.Name, d.Content)
	default:
		err = fmt.Errorf("%q is nothing that is done in a folder: the porter is of another version", d.Do)
	}
	return f, err
}

// Content is that of a file, of which zeros are not sent: the blocks that have others, by their numbers.
type Content struct {
	Size   int64            `json:",omitempty"` // in bytes
	Blocks map[int64][]byte `json:",omitempty"`
}

// block is the size of one, in bytes; the last one is shorter.
const block = 4096

// ContentOf is a content as it is sent.
func ContentOf(b []byte) Content {
	c := Content{Size: int64(len(b)), Blocks: map[int64][]byte{}}
	for off := 0; off < len(b); off += block {
		if part := b[off:min(off+block, len(b))]; !fingerprint.IsZero(part) {
			c.Blocks[int64(off/block)] = part
		}
	}
	return c
}

func create(folder storage.Folder, name string, c Content) error {
	if c.Size < 0 || c.Size > MaxContent {
		return fmt.Errorf("%s is too large to be made so: %d bytes", name, c.Size)
	}
	f, err := folder.Create(name)
	if err != nil {
		return err
	}
	err = f.Truncate(c.Size)
	for n, part := range c.Blocks {
		if err == nil && (n < 0 || n*block+int64(len(part)) > c.Size) {
			err = fmt.Errorf("%s is not as long as what is in it", name)
		}
		if err == nil {
			_, err = f.WriteAt(part, n*block)
		}
	}
	return errors.Join(err, f.Sync(), f.Close())
}

// Exists is the error for a name that is taken.
func Exists(name string) error { return &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist} }

// kinds are the kinds of errors that are known by their names at the other end. Of one that is of several, the first counts.
var kinds = []struct {
	name string
	err  error
}{
	{"gone", host.ErrGone},
	{"no-machine", host.ErrNoMachine},
	{"refused", host.ErrRefused},
	{"in-use", step.ErrInUse},
	{"exists", fs.ErrExist},
	{"missing", fs.ErrNotExist},
	{"forbidden", fs.ErrPermission},
	{"outside", storage.ErrOutside},
	{"unsupported", errors.ErrUnsupported},
}

// kindOf is the name of an error's kind, empty where it has none.
func kindOf(err error) string {
	for _, k := range kinds {
		if errors.Is(err, k.err) {
			return k.name
		}
	}
	return ""
}

// kindNamed is the kind of that name, nil for none.
func kindNamed(name string) error {
	for _, k := range kinds {
		if k.name == name {
			return k.err
		}
	}
	return nil
}
