package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"bagaglio/core/storage"
	"bagaglio/core/storage/tree"

	"golang.org/x/crypto/ssh"
)

// Tree looks through a folder.
func (f *Folder) Tree(ctx context.Context, name string) (t storage.Tree, err error) {
	at, run, err := f.folderAt(ctx, name)
	if err != nil {
		return t, err
	}
	return tree.Look(ctx, run, at)
}

// Pack writes what lies in a folder as one archive.
func (f *Folder) Pack(ctx context.Context, name string, to io.Writer, fresh bool) error {
	at, run, err := f.folderAt(ctx, name)
	if err != nil {
		return err
	}
	return tree.Pack(ctx, run, at, to, fresh)
}

// Unpack makes a folder of an archive.
func (f *Folder) Unpack(ctx context.Context, name string, from io.Reader) error {
	at, run, err := f.spotOf(ctx, name)
	if err != nil {
		return err
	}
	return tree.Unpack(ctx, run, at.full, from)
}

// folderAt is the path of a folder on the host, and what runs commands there.
func (f *Folder) folderAt(ctx context.Context, name string) (string, tree.Shell, error) {
	at, run, err := f.spotOf(ctx, name)
	if err == nil {
		err = at.err
	}
	if err == nil && !at.info.IsDir() {
		err = fmt.Errorf("%s is no folder", name)
	}
	return at.full, run, err
}

// spotOf is likewise for a name that need not be there.
func (f *Folder) spotOf(ctx context.Context, name string) (found spot, run tree.Shell, err error) {
	if !f.tools.has("tar") {
		return found, nil, fmt.Errorf("the host runs no tar(1) for us: %w", errors.ErrUnsupported)
	}
	c, err := f.client(ctx)
	if err != nil {
		return found, nil, err
	}
	err = f.at(name, func(_ *client, at spot) error {
		found = at
		return nil
	})
	return found, c.stream, err
}

// stream runs a command with what goes in and comes out of it, which may take hours.
func (c *client) stream(ctx context.Context, command string, in io.Reader, out io.Writer) error {
	session, err := newSession(c.wires[0])
	if err != nil {
		return err
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() })
	defer stop()
	said := &bounded{left: maxSaid, full: func() {}}
	session.Stdin, session.Stdout, session.Stderr = in, out, said
	err = session.Run(command)
	var exit *ssh.ExitError
	switch text := storage.Printable(strings.TrimSpace(said.String())); {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.As(err, &exit) && text != "":
		return fmt.Errorf("the host says: %s", text)
	case err != nil:
		return plain(err)
	}
	return nil
}
