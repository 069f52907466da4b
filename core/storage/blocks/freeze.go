package blocks

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/device"
	"bagaglio/core/storage"
)

// Script is a program that runs on a computer. Its standard input ends when whoever started it does, however that comes.
type Script struct {
	In   io.WriteCloser
	Out  io.Reader
	Wait func() error
}

// scripts is a computer that runs scripts of its own shell.
type scripts interface {
	Start(script string, args ...string) (Script, error)
}

// watchdog freezes a filesystem, and thaws it when it is told so, when whoever froze it is gone, or when its time is over. It is a process of its own,
// on the computer that has the filesystem, so that nothing but its own end keeps it from that.
const watchdog = `PATH=$PATH:/usr/sbin:/sbin; run=; [ "$(id -u)" = 0 ] || run="sudo -n"
trap "" HUP INT TERM
$run fsfreeze --freeze "$1" || exit 1
echo frozen
timeout "$2" cat >/dev/null
$run fsfreeze --unfreeze "$1"`

// ErrThawed is the error for filesystems that did not stay frozen.
var ErrThawed = errors.New("the filesystems were thawed before all was read, since their time was over: let them be frozen for longer")

// frozen is a filesystem that a watchdog has.
type frozen struct {
	at    string
	in    io.Closer
	ended chan struct{}
	err   error // once ended
}

// Freeze has nothing written to a disk any more: each filesystem on it that is mounted for writing is frozen, for longest at most. The folder that it
// returns reads the disk as one that is not in use; thaw lets go on, and fails with ErrThawed where somebody could have written before. Where nothing is
// mounted for writing, thaw is nil.
func (f *Folder) Freeze(ctx context.Context, name string, longest time.Duration) (still storage.Folder, thaw func() error, err error) {
	d, err := f.find("freeze", name)
	if err != nil {
		return nil, nil, err
	}
	runs, ok := f.computer.(scripts)
	if !ok {
		return nil, nil, fmt.Errorf("freezing what is on %s: %w", d.Path, errors.ErrUnsupported)
	}
	mounts, err := freezable(d)
	if err != nil {
		return nil, nil, err
	}
	if len(mounts) == 0 { // nobody writes to it
		return f, nil, nil
	}
	var all []*frozen
	thaw = func() (err error) {
		for _, z := range all {
			err = errors.Join(err, z.thaw())
		}
		return err
	}
	for _, at := range mounts {
		z, err := freeze(ctx, runs, at, longest)
		if err != nil {
			return nil, nil, errors.Join(fmt.Errorf("freezing %s: %w", at, err), thaw())
		}
		all = append(all, z)
	}
	return &Folder{computer: f.computer, closed: f.closed, why: f.why, heedless: true}, thaw, nil
}

// freezable are the mount points that have to be frozen, or why that does not do.
func freezable(d device.Device) (mounts []string, err error) {
	for _, u := range d.Uses {
		switch {
		case !u.Writes:
		case u.By != device.Mounted:
			return nil, fmt.Errorf("%s: that cannot be frozen%s", u, u.Remedy())
		case u.Where == "/":
			return nil, fmt.Errorf("%s: a system cannot freeze what it runs from", u)
		case !slices.Contains(mounts, u.Where):
			mounts = append(mounts, u.Where)
		}
	}
	return mounts, nil
}

func freeze(ctx context.Context, on scripts, at string, longest time.Duration) (*frozen, error) {
	s, err := on.Start(watchdog, at, strconv.Itoa(int(longest.Seconds())))
	if err != nil {
		return nil, err
	}
	z := &frozen{at: at, in: s.In, ended: make(chan struct{})}
	said := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(s.Out).ReadString('\n') // nothing where it ended
		said <- line
		z.err = s.Wait()
		close(z.ended)
	}()
	select {
	case line := <-said:
		if strings.TrimSpace(line) == "frozen" {
			return z, nil
		}
		<-z.ended
		return nil, fmt.Errorf("the system refused it: %w", z.err)
	case <-ctx.Done():
		return nil, errors.Join(context.Cause(ctx), z.thaw())
	}
}

// thaw lets go on.
func (z *frozen) thaw() error {
	early := false
	select {
	case <-z.ended:
		early = true
	default:
	}
	_ = z.in.Close() // that is what it waits for
	<-z.ended
	switch {
	case early:
		return ErrThawed
	case z.err != nil:
		return fmt.Errorf("thawing %s: %w; run fsfreeze --unfreeze %s", z.at, z.err, z.at)
	}
	return nil
}

// Heedless reads disks also while somebody writes to them.
func (f *Folder) Heedless() storage.Folder {
	return &Folder{computer: f.computer, closed: f.closed, why: f.why, heedless: true}
}
