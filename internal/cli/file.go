package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"sync"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/step"
	"bagaglio/core/storage"

	"github.com/spf13/cobra"
)

func (a *app) file() *cobra.Command {
	return group("file", "Files and folders of pools: what is no disk, or is brought here and there as it is",
		a.fileList(), a.fileMake(), a.fileRename(), a.fileRemove(), a.fileSend(), a.fileFetch())
}

// inPool reads POOL:PATH, or POOL: for the pool itself.
func inPool(arg string) (pool, name string, err error) {
	if n := len(arg); n > 1 && arg[n-1] == ':' {
		return arg[:n-1], ".", nil
	}
	at, err := place(arg)
	if err == nil && (isHere(at) || at.IsDevice()) {
		err = usage("%q lies in no pool: write POOL:PATH", arg)
	}
	return at.Pool, at.Path, err
}

func (a *app) fileList() *cobra.Command {
	c := &cobra.Command{
		Use: "list POOL:FOLDER", Short: "List what lies in a folder of a pool at this moment", Args: exactly(1),
		Example: "  bagaglio file list quay-store:\n  bagaglio file list quay-store:brought",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			pool, name, err := inPool(args[0])
			if err != nil {
				return err
			}
			all := []api.FileEntry{}
			for cursor := ""; ; {
				page, err := service.Files(cmd.Context(), pool, name, cursor)
				if err != nil {
					return err
				}
				if all = append(all, page.Items...); page.Next == nil {
					break
				}
				cursor = *page.Next
			}
			if a.json {
				return a.printJSON(all)
			}
			rows := [][]string{{"NAME", "SIZE", "ROOM", "MODIFIED", "BELONGS TO"}}
			for _, e := range all {
				row := []string{path.Base(e.Path), size(e.Size), "", e.Modified.Local().Format("2006-01-02 15:04"), deref(e.Disk)}
				if e.Room != nil {
					row[2] = size(*e.Room)
				}
				if e.Folder {
					row[0], row[1], row[2] = row[0]+"/", "", ""
				}
				rows = append(rows, row)
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}

// fileAct is a command that does something with a name in a pool.
func (a *app) fileAct(
	c *cobra.Command,
	done string,
	do func(ctx context.Context, s *client.Service, pool, name string, rest []string) error,
) *cobra.Command {
	c.RunE = a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
		pool, name, err := inPool(args[0])
		if err != nil {
			return err
		}
		if err := do(cmd.Context(), service, pool, name, args[1:]); err != nil {
			return err
		}
		return a.did(map[string]string{"pool": pool, "path": name}, done, args[0])
	})
	a.jsonFlag(c)
	return c
}

func (a *app) fileMake() *cobra.Command {
	return a.fileAct(&cobra.Command{
		Use: "make POOL:FOLDER", Short: "Make a folder in a pool", Args: exactly(1), Example: "  bagaglio file make quay-store:brought",
	}, "%s is there.", func(ctx context.Context, s *client.Service, pool, name string, _ []string) error {
		return s.MakeFolder(ctx, pool, name)
	})
}

func (a *app) fileRename() *cobra.Command {
	return a.fileAct(&cobra.Command{
		Use:   "rename POOL:PATH NEW",
		Short: "Give a file or a folder of a pool another name, which is its new path in it",
		Args:  exactly(2),
		Long: `Gives a file or a folder of a pool another name, which is its new path in the pool. A disk, and a folder with one in it, is moved (bagaglio move),
so that what stands on it and what names it goes along.`,
		Example: "  bagaglio file rename quay-store:notes.txt papers/notes.txt",
	}, "%s has its new name.", func(ctx context.Context, s *client.Service, pool, name string, rest []string) error {
		return s.RenameFile(ctx, pool, name, rest[0])
	})
}

func (a *app) fileRemove() *cobra.Command {
	return a.fileAct(&cobra.Command{
		Use:   "remove POOL:PATH",
		Short: "Take a file or a folder out of a pool; it is held for a while",
		Args:  exactly(1),
		Long: `Takes a file or a folder out of a pool. Files are held for a while, and can be restored (bagaglio held restore). A disk, and a folder with one in it,
is removed as such (bagaglio remove).`,
		Example: "  bagaglio file remove quay-store:papers",
	}, "%s is gone, and held for a while.", func(ctx context.Context, s *client.Service, pool, name string, _ []string) error {
		return s.RemoveFile(ctx, pool, name)
	})
}

func (a *app) fileSend() *cobra.Command {
	c := &cobra.Command{
		Use:   "send PATH POOL:PATH",
		Short: "Send a file of this computer into a pool, as it is",
		Long: `Sends a file of this computer into a pool, as it is, in pieces. What came is read back from its storage and compared with what was read here before it gets its
name. A line that was cut goes on where it was when the same command is given again. A disk gets another format on the way, and a tag, with bagaglio convert.`,
		Example: "  bagaglio file send ./installer.iso quay-store:media/",
		Args:    exactly(2),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			pool, name, err := inPool(args[1])
			if err != nil {
				return err
			}
			if isFolder(args[1]) {
				name = path.Join(name, filepath.Base(args[0]))
			}
			file, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer file.Close()
			before, err := file.Stat()
			if err != nil {
				return err
			}
			u, err := service.BeginUpload(cmd.Context(), pool, api.NewUpload{Path: &name, Size: before.Size()})
			if err != nil {
				return err
			}
			watch := a.watcher()
			p := step.Progress{Step: "send", Title: "Send the file, which is read back there", Number: 1, Steps: 1, Total: 2 * u.Size}
			var mu sync.Mutex
			u, err = service.Send(cmd.Context(), u, file, func(here, there int64) {
				mu.Lock()
				defer mu.Unlock()
				p.Done += here + there
				watch(p)
			}, nil)
			if err != nil {
				return err
			}
			if after, err := file.Stat(); err != nil || after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
				return errors.Join(
					err,
					fmt.Errorf("%s was written to while it was sent: what lies at %s:%s may be neither what it was nor what it is", args[0], pool, name),
				)
			}
			return a.did(u, "%s lies at %s, and is what was sent.", args[0], pool+":"+name)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) fileFetch() *cobra.Command {
	c := &cobra.Command{
		Use:   "fetch POOL:PATH OUT",
		Short: "Fetch a file out of a pool, as it is",
		Long: `Fetches a file out of a pool, as it is. OUT is a file that is not there yet, or a folder. The SHA-256 of what was written here is compared with what the service
reads where the file lies.`,
		Example: "  bagaglio file fetch quay-store:media/installer.iso ./",
		Args:    exactly(2),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			pool, name, err := inPool(args[0])
			if err != nil {
				return err
			}
			out := args[1]
			if info, err := os.Stat(out); err == nil && info.IsDir() {
				out = filepath.Join(out, path.Base(name))
			}
			from, err := service.Folder(cmd.Context(), pool).Open(name)
			if err != nil {
				return err
			}
			if err := a.fetch(from, out); err != nil {
				return err
			}
			sum, err := sumOf(out)
			if err != nil {
				return err
			}
			theirs, err := service.SumFile(cmd.Context(), pool, name)
			if err != nil {
				return fmt.Errorf("%s is here, and what it is there could not be read: %w", out, err)
			}
			if theirs.Sha256 != sum {
				return fmt.Errorf("%w: %s has SHA-256 %s here, and %s where it lies", step.ErrNotProven, out, sum, theirs.Sha256)
			}
			return a.did(theirs, "%s is what lies at %s: SHA-256 %s.", out, args[0], sum)
		}),
	}
	a.jsonFlag(c)
	return c
}

// fetch writes a file that is not there yet. What is cut off is removed.
func (a *app) fetch(from storage.File, out string) (err error) {
	total, err := from.Size()
	if err != nil {
		return err
	}
	file, err := os.OpenFile(out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, file.Close()); err != nil {
			err = errors.Join(err, os.Remove(out))
		}
	}()
	watch := a.watcher()
	p := step.Progress{Step: "fetch", Title: "Fetch the file", Number: 1, Steps: 1, Total: total}
	block := make([]byte, 4<<20)
	for p.Done < total {
		n, err := from.ReadAt(block[:min(int64(len(block)), total-p.Done)], p.Done)
		if n == 0 && err != nil {
			return err
		}
		if _, err := file.Write(block[:n]); err != nil {
			return err
		}
		p.Done += int64(n)
		watch(p)
	}
	return file.Sync()
}

// sumOf is the SHA-256 of a file of this computer.
func sumOf(name string) (string, error) {
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return "", fmt.Errorf("reading %s back: %w", name, err)
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}
