package storage

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"net"
	"path"
	"strings"
)

// Wrapper is a folder in front of another one, with the same names in it.
type Wrapper interface {
	Folder
	Unwrap() Folder
}

// Adder is a folder in front of another one that it gives an ability which that may lack.
type Adder interface {
	Wrapper
	Adds() (ability any)
}

// As returns an ability of a folder, such as Owner: its own, or that of the folder that it is in front of. Whoever wants one asks here, and
// never by a type assertion: a folder in front of another one may have methods for what that cannot do.
func As[A any](f Folder) (ability A, ok bool) {
	switch front := f.(type) {
	case *sub: // which has other names, and methods for every ability
		if _, ok := As[A](front.Folder); !ok {
			return ability, false
		}
	case Adder:
		if own, has := front.Adds().(A); has {
			return own, true
		}
		return As[A](front.Unwrap())
	case Wrapper:
		below, ok := As[A](front.Unwrap())
		if own, has := f.(A); ok && has {
			return own, true
		}
		return below, ok
	}
	ability, ok = f.(A)
	return ability, ok
}

// Sub returns the part of f below dir as a Folder of its own. dir need not exist yet.
func Sub(f Folder, dir string) Folder {
	if dir == "." || dir == "" {
		return f
	}
	return &sub{Folder: f, dir: dir}
}

type sub struct {
	Folder
	dir string
}

func (s *sub) name(n string) (string, error) {
	c, err := Clean(n)
	return path.Join(s.dir, c), err
}

func (s *sub) Open(n string) (File, error) {
	c, err := s.name(n)
	if err != nil {
		return nil, err
	}
	return s.Folder.Open(c)
}

func (s *sub) Create(n string) (File, error) {
	c, err := s.name(n)
	if err != nil {
		return nil, err
	}
	return s.Folder.Create(c)
}

func (s *sub) Reopen(n string) (File, error) {
	c, err := s.name(n)
	if err != nil {
		return nil, err
	}
	return s.Folder.Reopen(c)
}

func (s *sub) Rename(from, to string) error { return s.both(s.Folder.Rename, from, to) }
func (s *sub) Exchange(a, b string) error   { return s.both(s.Folder.Exchange, a, b) }

func (s *sub) both(do func(a, b string) error, a, b string) error {
	ca, errA := s.name(a)
	cb, errB := s.name(b)
	if err := errors.Join(errA, errB); err != nil {
		return err
	}
	return do(ca, cb)
}

func (s *sub) Remove(n string) error {
	c, err := s.name(n)
	if err != nil {
		return err
	}
	return s.Folder.Remove(c)
}

func (s *sub) Stat(n string) (Info, error) {
	c, err := s.name(n)
	if err != nil {
		return Info{}, err
	}
	info, err := s.Folder.Stat(c)
	info.Name = strings.TrimPrefix(info.Name, s.dir+"/")
	return info, err
}

func (s *sub) List(dir string) ([]Info, error) {
	c, err := s.name(dir)
	if err != nil {
		return nil, err
	}
	infos, err := s.Folder.List(c)
	for i := range infos {
		infos[i].Name = strings.TrimPrefix(infos[i].Name, s.dir+"/")
	}
	return infos, err
}

func (s *sub) Sync(dir string) error {
	c, err := s.name(dir)
	if err != nil {
		return err
	}
	return s.Folder.Sync(c)
}

// What follows are abilities, which As gives only where the folder below has them.

func (s *sub) InUse(n string) (string, error) {
	return onSub(s, n, func(u Usage, n string) (string, error) { return u.InUse(n) })
}

func (s *sub) Overwrite(n string) (File, error) {
	return onSub(s, n, func(o Overwriter, n string) (File, error) { return o.Overwrite(n) })
}

func (s *sub) Disks(n string) ([]string, error) {
	return onSub(s, n, func(l Lying, n string) ([]string, error) { return l.Disks(n) })
}

func (s *sub) NameOf(at string) (string, bool) {
	above, has := As[Grounded](s.Folder)
	if !has {
		return "", false
	}
	name, ok := above.NameOf(at)
	if !ok {
		return "", false
	}
	return Under("/"+s.dir, "/"+name)
}

func (s *sub) Version(n string) (string, error) {
	return onSub(s, n, func(v Versioner, n string) (string, error) { return v.Version(n) })
}

func (s *sub) Written(n string) (string, error) {
	return onSub(s, n, func(c WriteCounter, n string) (string, error) { return c.Written(n) })
}

func (s *sub) Lease(n string) (Lease, error) {
	return onSub(s, n, func(l Leaser, n string) (Lease, error) { return l.Lease(n) })
}

func (s *sub) Link(n string) (string, error) {
	return onSub(s, n, func(l Linker, n string) (string, error) { return l.Link(n) })
}

func (s *sub) Labels(n string) (map[string][]byte, error) {
	return onSub(s, n, func(l Labeler, n string) (map[string][]byte, error) { return l.Labels(n) })
}

func (s *sub) SetLabels(n string, labels map[string][]byte) error {
	_, err := onSub(s, n, func(l Labeler, n string) (any, error) { return nil, l.SetLabels(n, labels) })
	return err
}

func (s *sub) Own(n, owner, mode string) error {
	_, err := onSub(s, n, func(o Owner, n string) (any, error) { return nil, o.Own(n, owner, mode) })
	return err
}

func (s *sub) Gives(owner string) bool {
	o, ok := As[Owner](s.Folder)
	return ok && o.Gives(owner)
}

func (s *sub) Sums() bool {
	x, ok := As[Summer](s.Folder)
	return ok && x.Sums()
}

func (s *sub) SHA256(ctx context.Context, n string) ([sha256.Size]byte, error) {
	return onSub(s, n, func(x Summer, n string) ([sha256.Size]byte, error) { return x.SHA256(ctx, n) })
}

func (s *sub) Tree(ctx context.Context, n string) (Tree, error) {
	return onSub(s, n, func(t Trees, n string) (Tree, error) { return t.Tree(ctx, n) })
}

func (s *sub) Pack(ctx context.Context, n string, to io.Writer, fresh bool) error {
	_, err := onSub(s, n, func(t Trees, n string) (any, error) { return nil, t.Pack(ctx, n, to, fresh) })
	return err
}

func (s *sub) Unpack(ctx context.Context, n string, from io.Reader) error {
	_, err := onSub(s, n, func(t Trees, n string) (any, error) { return nil, t.Unpack(ctx, n, from) })
	return err
}

func (s *sub) MoveIn(from Folder, a, b string) error {
	from, a, err := under(from, a)
	if err == nil {
		_, err = onSub(s, b, func(m Mover, b string) (any, error) { return nil, m.MoveIn(from, a, b) })
	}
	return err
}

func (s *sub) Moves(from Folder, a, b string) bool {
	from, a, err := under(from, a)
	if err != nil {
		return false
	}
	moves, err := onSub(s, b, func(m Mover, b string) (bool, error) { return m.Moves(from, a, b), nil })
	return err == nil && moves
}

func (s *sub) Fresh() Folder { return Sub(Fresh(s.Folder), s.dir) }

func (s *sub) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	d, ok := As[Dialer](s.Folder)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	return d.Dial(ctx, network, address)
}

// Listen likewise.
func (s *sub) Listen(ctx context.Context, network, address string) (net.Listener, error) {
	d, ok := As[Dialer](s.Folder)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	return d.Listen(ctx, network, address)
}

func (s *sub) Caveats() []string {
	if c, ok := As[Careful](s.Folder); ok {
		return c.Caveats()
	}
	return nil
}

// onSub uses an ability of the folder below for a name.
func onSub[A, R any](s *sub, name string, do func(A, string) (R, error)) (none R, err error) {
	c, err := s.name(name)
	if err != nil {
		return none, err
	}
	a, ok := As[A](s.Folder)
	if !ok {
		return none, errors.ErrUnsupported
	}
	return do(a, c)
}

// under is a name in the folder that a part is of.
func under(f Folder, name string) (Folder, string, error) {
	for {
		s, ok := f.(*sub)
		if !ok {
			return f, name, nil
		}
		c, err := s.name(name)
		if err != nil {
			return f, name, err
		}
		f, name = s.Folder, c
	}
}

// Close leaves the folder that this one is a part of open.
func (s *sub) Close() error { return nil }
