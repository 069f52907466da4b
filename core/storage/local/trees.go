//go:build linux && !elsewhere

package local

import (
	"context"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/storage/tree"
)

// Tree looks through a folder.
func (f *Folder) Tree(ctx context.Context, name string) (storage.Tree, error) {
	at, err := f.folderAt(name)
	if err != nil {
		return storage.Tree{}, err
	}
	return tree.Look(ctx, shell, at)
}

// Pack writes what lies in a folder as one archive.
func (f *Folder) Pack(ctx context.Context, name string, to io.Writer, fresh bool) error {
	at, err := f.folderAt(name)
	if err != nil {
		return err
	}
	return tree.Pack(ctx, shell, at, to, fresh)
}

// Unpack makes a folder of an archive.
func (f *Folder) Unpack(ctx context.Context, name string, from io.Reader) error {
	name, err := storage.Clean(name)
	if err != nil {
		return err
	}
	if err := f.root.leads(name); err != nil {
		return err
	}
	return tree.Unpack(ctx, shell, f.whole(name), from)
}

// folderAt is the path of a folder on this computer.
func (f *Folder) folderAt(name string) (string, error) {
	info, err := f.Stat(name)
	if err != nil {
		return "", err
	}
	if !info.IsDir {
		return "", fmt.Errorf("%s is no folder", name)
	}
	return f.whole(info.Name), nil
}

// maxSaid bounds what is kept of what a command says of itself, in bytes.
const maxSaid = 1000

// shell runs a command on this computer.
func shell(ctx context.Context, command string, in io.Reader, out io.Writer) error {
	cmd := exec.CommandContext(ctx, "sh", "-c", command)
	said := &said{}
	cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.WaitDelay = in, out, said, time.Second
	err := cmd.Run()
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case err != nil && len(said.text) > 0:
		return fmt.Errorf("%w: %s", err, storage.Printable(strings.TrimSpace(string(said.text))))
	}
	return err
}

// said keeps the beginning of what is written to it.
type said struct{ text []byte }

func (s *said) Write(p []byte) (int, error) {
	s.text = append(s.text, p[:min(len(p), maxSaid-len(s.text))]...)
	return len(p), nil
}
