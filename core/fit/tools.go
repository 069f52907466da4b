package fit

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
)

// tool is how the system changes filesystems of a kind that lie in a file.
type tool struct {
	programs []string // that it takes
	smaller  bool     // they can become smaller too
	root     bool     // it has to be mounted for that
	// run makes the filesystem in a file take so many bytes. The file is that long, or longer where it becomes smaller.
	run func(ctx context.Context, file string, size int64, smaller bool) error
}

var tools = map[string]tool{
	"ext2": ext, "ext3": ext, "ext4": ext,
	"ntfs": {programs: []string{"ntfsresize"}, smaller: true, run: resizeNTFS},
	"xfs":  {programs: []string{"xfs_growfs", "mount", "umount"}, root: true, run: growXFS},
}

var ext = tool{programs: []string{"e2fsck", "resize2fs"}, smaller: true, run: resizeExt}

// Able tells why filesystems of a kind cannot be made smaller or larger by what this computer has, nil when they can.
func Able(kind string, smaller bool) error {
	t, ok := tools[kind]
	switch {
	case !ok && smaller:
		return fmt.Errorf("%s is not made smaller by any tool that is used", kind)
	case !ok:
		return fmt.Errorf("%s is not made larger by any tool that is used", kind)
	case smaller && !t.smaller:
		return fmt.Errorf("%s cannot become smaller: make a new filesystem and copy its files, or give the disk more room", kind)
	case t.root && os.Geteuid() != 0:
		return fmt.Errorf("%s is made larger while it is mounted, which takes root", kind)
	}
	for _, p := range t.programs {
		if _, err := exec.LookPath(p); err != nil {
			return fmt.Errorf("%s takes the program %s, which is not installed where the service runs", kind, p)
		}
	}
	return nil
}

func resizeExt(ctx context.Context, file string, size int64, _ bool) error {
	if err := run(ctx, 1, "e2fsck", "-f", "-p", file); err != nil { // 1: what was small was corrected
		return err
	}
	if err := run(ctx, 0, "resize2fs", file, strconv.FormatInt(size/sector, 10)+"s"); err != nil {
		return err
	}
	return run(ctx, 0, "e2fsck", "-f", "-n", file)
}

func resizeNTFS(ctx context.Context, file string, size int64, _ bool) error {
	text := strconv.FormatInt(size, 10)
	if err := run(ctx, 0, "ntfsresize", "--no-action", "--no-progress-bar", "--size", text, file); err != nil {
		return err
	}
	return run(ctx, 0, "ntfsresize", "--force", "--force", "--no-progress-bar", "--size", text, file)
}

func growXFS(ctx context.Context, file string, _ int64, _ bool) (err error) {
	at, err := os.MkdirTemp("", "bagaglio-fit-")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(at) }() // empty, or still mounted
	if err := run(ctx, 0, "mount", "-o", "loop,nouuid", file, at); err != nil {
		return err
	}
	err = run(ctx, 0, "xfs_growfs", "-d", at)
	if out := run(context.WithoutCancel(ctx), 0, "umount", at); err == nil {
		err = out
	}
	return err
}

// most bounds how much of what a program says is told.
const most = 600

// run runs a program of the system, which may end with exit codes up to one.
func run(ctx context.Context, upTo int, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.CombinedOutput()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err == nil || cmd.ProcessState != nil && cmd.ProcessState.Exited() && cmd.ProcessState.ExitCode() <= upTo {
		return nil
	}
	text := strings.Join(strings.Fields(string(out)), " ")
	return fmt.Errorf("%s: %w: %s", name, err, text[max(0, len(text)-most):])
}
