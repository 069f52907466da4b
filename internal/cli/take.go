package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/step"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
)

// taken is a file that comes out of a disk.
type taken struct {
	io.ReadCloser
	size     int64 // bytes
	modified time.Time
}

func (a *app) take() *cobra.Command {
	var flags plan.Place
	c := &cobra.Command{
		Use:   "take DISK PARTITION:PATH OUT",
		Short: "Take a file out of a disk, without mounting it",
		Long: "Take a file out of a disk, without mounting it. OUT is a file that is not there yet, a folder, or - for the standard output. " +
			"Where the whole disk is one filesystem, the partition is 0; a volume of LVM is named, as deck/root:/etc/hostname.",
		Args:              exactly(3),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := source(args[0], flags)
			if err != nil {
				return err
			}
			at, err := inspect.ParseSpot(args[1])
			if err != nil {
				return usage("%w", err)
			}
			w, err := a.worker(p)
			if err != nil {
				return err
			}
			t, err := w.take(cmd.Context(), p, at)
			if err != nil {
				return err
			}
			defer t.Close()
			if args[2] == "-" {
				return t.into(a.out)
			}
			out := args[2]
			if info, err := os.Stat(out); err == nil && info.IsDir() {
				out = filepath.Join(out, path.Base(at.Path))
			}
			if err := t.as(out); err != nil {
				return err
			}
			return a.did(map[string]any{"file": out, "size": t.size}, "%s: %s", out, plan.Bytes(t.size))
		},
	}
	a.sourceFlags(c.Flags(), &flags)
	a.jsonFlag(c)
	return c
}

// into copies all of it, or fails.
func (t taken) into(w io.Writer) error {
	n, err := io.Copy(w, t)
	if err == nil && n != t.size {
		err = fmt.Errorf("%d bytes came of %d", n, t.size)
	}
	return err
}

// as makes a file of it, which is whole or not there.
func (t taken) as(name string) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already, and nothing is overwritten", name)
	}
	if err != nil {
		return err
	}
	err = errors.Join(t.into(f), f.Sync(), f.Close())
	if err == nil {
		err = os.Chtimes(name, time.Time{}, t.modified)
	}
	if err != nil {
		return errors.Join(err, os.Remove(name))
	}
	return nil
}

// printFolder lists a folder of a disk.
func (a *app) printFolder(all []inspect.Found) error {
	rows := [][]string{{"NAME", "SIZE", "MODIFIED"}}
	for _, f := range all {
		name, size := f.Name, ""
		switch f.Kind {
		case "folder":
			name += "/"
		case "file":
			size = humanize.IBytes(uint64(f.Size))
		default:
			size = f.Kind
		}
		rows = append(rows, []string{name, size, plan.Clock(f.Modified)})
	}
	return table(a.out, rows)
}

func (s *spot) take(ctx context.Context, p plan.Place, at inspect.Spot) (taken, error) {
	folder, name, err := s.source(p)
	if err != nil {
		return taken{}, err
	}
	p.Path = name
	t, err := inspect.Take(ctx, p.Origin(folder), p.Format, at)
	if err != nil {
		return taken{}, errors.Join(step.Explain(err), folder.Close())
	}
	return taken{both{t, folder}, t.Size, t.Modified}, nil
}

// both is read, and closed with what it is read from.
type both struct {
	io.ReadCloser
	of io.Closer
}

func (b both) Close() error { return errors.Join(b.ReadCloser.Close(), b.of.Close()) }

func (s *spot) inside(ctx context.Context, p plan.Place, at inspect.Spot) ([]inspect.Found, error) {
	folder, name, err := s.source(p)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	p.Path = name
	all, err := inspect.Folder(ctx, p.Origin(folder), p.Format, at)
	return all, step.Explain(err)
}

func (r *remote) take(ctx context.Context, p plan.Place, at inspect.Spot) (taken, error) {
	body, size, modified, err := r.service.Take(ctx, p, at)
	return taken{body, size, modified}, err
}

func (r *remote) inside(ctx context.Context, p plan.Place, at inspect.Spot) ([]inspect.Found, error) {
	return r.service.Inside(ctx, p, at)
}
