//go:build linux && !elsewhere

package adapt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// tool is how the system writes files of a kind of filesystem, and checks it.
type tool struct {
	programs []string // that it takes
	write    func(ctx context.Context, s *served, dir string, changes []Change) error
	check    func(ctx context.Context, file string) error
}

var tools = map[string]tool{
	"ext2": ext, "ext3": ext, "ext4": ext,
	"xfs":   {[]string{"xfs_repair"}, mount("xfs", "nouuid"), checks("xfs_repair", "-n")},
	"btrfs": {[]string{"btrfs"}, mount("btrfs", ""), checks("btrfs", "check", "--readonly")},
	"ntfs":  {[]string{"ntfs-3g", "ntfsfix"}, writeNTFS, checks("ntfsfix", "-n")},
	"fat12": fat, "fat16": fat, "fat32": fat,
}

var (
	ext = tool{[]string{"e2fsck"}, mount("ext4", "errors=remount-ro"), checks("e2fsck", "-f", "-n")}
	fat = tool{[]string{"mcopy", "mmd", "mren", "mtype", "fsck.fat"}, writeFAT, checks("fsck.fat", "-n")}
)

func toolFor(kind string) (tool, error) {
	t, ok := tools[kind]
	if !ok {
		return t, fmt.Errorf("files of %s are not written", kind)
	}
	return t, nil
}

// Able tells why files of a filesystem of a kind cannot be written by what this computer has, nil when they can.
func Able(kind string) error {
	t, err := toolFor(kind)
	if err != nil {
		return err
	}
	if os.Geteuid() != 0 {
		return errors.New("files inside of a copy are written while it is mounted, which takes root where the service runs")
	}
	for _, device := range []string{"/dev/fuse", "/dev/loop-control"} {
		if _, err := os.Stat(device); err != nil {
			return fmt.Errorf("files inside of a copy are written through %s, which the computer of the service does not have", device)
		}
	}
	for _, p := range t.programs {
		if _, err := exec.LookPath(p); err != nil {
			return fmt.Errorf("writing files of %s takes the program %s, which is not installed where the service runs", kind, p)
		}
	}
	return nil
}

// mount writes through the kernel's own driver.
func mount(kind, options string) func(context.Context, *served, string, []Change) error {
	return func(ctx context.Context, s *served, dir string, changes []Change) error {
		return s.mounted(dir, kind, options, func(root *os.Root) error { return changeAll(ctx, root, changes) })
	}
}

func changeAll(ctx context.Context, root *os.Root, changes []Change) error {
	for _, c := range changes {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err := c.change(root); err != nil {
			return err
		}
	}
	return nil
}

func checks(name string, args ...string) func(context.Context, string) error {
	return func(ctx context.Context, file string) error {
		_, err := run(ctx, nil, name, append(args, file)...)
		return err
	}
}

// mountsIn is for how long a program may take to mount.
const mountsIn = 30 * time.Second

// writeNTFS writes through ntfs-3g(8), which works in this process's stead and is waited for: what it has not written yet, it writes as it ends.
func writeNTFS(ctx context.Context, s *served, dir string, changes []Change) (err error) {
	at, err := os.MkdirTemp(dir, "mounted-")
	if err != nil {
		return err
	}
	defer os.Remove(at)
	cmd := exec.CommandContext(ctx, "ntfs-3g", "-o", "no_detach,nosuid,nodev,noexec,noatime", s.path, at)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for until := time.Now().Add(mountsIn); ; {
		var fs unix.Statfs_t
		if err := unix.Statfs(at, &fs); err == nil && fs.Type == fuseMagic {
			break
		}
		select {
		case err := <-ended:
			return fmt.Errorf(
				"ntfs-3g: %w: %s",
				errors.Join(errors.New("it did not mount it"), err),
				strings.Join(strings.Fields(said.String()), " "),
			)
		case <-time.After(10 * time.Millisecond):
		}
		if time.Now().After(until) {
			return errors.Join(fmt.Errorf("ntfs-3g did not mount it within %s", mountsIn), cmd.Process.Kill())
		}
	}
	root, err := os.OpenRoot(at)
	if err == nil {
		err = changeAll(ctx, root, changes)
		err = errors.Join(err, root.Close())
	}
	if outErr := unix.Unmount(at, 0); outErr != nil {
		return errors.Join(err, fmt.Errorf("unmounting it: %w", outErr), cmd.Process.Kill())
	}
	return errors.Join(err, <-ended)
}

// fuseMagic is what statfs(2) says of a filesystem that a program serves.
const fuseMagic = 0x65735546

// writeFAT writes through mtools(1): many kernels have no driver of their own for it.
func writeFAT(ctx context.Context, s *served, _ string, changes []Change) error {
	for _, c := range changes {
		if err := c.inFAT(ctx, s.path); err != nil {
			return err
		}
	}
	return nil
}

func (c Change) inFAT(ctx context.Context, file string) error {
	at := "::/" + c.Path
	content := c.content
	if c.Was != "" || c.How == Appends {
		old, err := run(ctx, nil, "mtype", "-i", file, at)
		if err != nil {
			return err
		}
		if c.Was != "" && sum(old) != c.Was {
			return fmt.Errorf("%s is not what it was when this was planned: plan it again", c.Path)
		}
		if c.How == Appends {
			content = append(old, content...)
		}
	}
	if c.How == Removes {
		_, err := run(ctx, nil, "mren", "-i", file, at, "::/"+c.Path+Aside)
		return err
	}
	if c.Was == "" && c.How == Writes {
		for dir := range folders(c.Path) {
			if _, err := run(ctx, nil, "mdir", "-b", "-i", file, "::/"+dir); err == nil {
				continue
			}
			if _, err := run(ctx, nil, "mmd", "-i", file, "::/"+dir); err != nil {
				return err
			}
		}
	}
	_, err := run(ctx, bytes.NewReader(content), "mcopy", "-o", "-i", file, "-", at)
	return err
}

// folders are those that a path lies in, the outermost first.
func folders(name string) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		parts := strings.Split(path.Dir(name), "/")
		for i := range parts {
			if dir := path.Join(parts[:i+1]...); dir != "." && !yield(dir) {
				return
			}
		}
	}
}

// most bounds how much of what a program says is told.
const most = 600

// run runs a program of the system, and returns what it says.
func run(ctx context.Context, in *bytes.Reader, name string, args ...string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C", "MTOOLS_SKIP_CHECK=1", "MTOOLSRC="+os.DevNull)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	if in != nil {
		cmd.Stdin = in
	}
	err := cmd.Run()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if err != nil {
		text := strings.Join(strings.Fields(said.String()+" "+out.String()), " ")
		return nil, fmt.Errorf("%s: %w: %s", name, err, text[max(0, len(text)-most):])
	}
	return out.Bytes(), nil
}
