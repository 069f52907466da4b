package blocks

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
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

// herald tells a program of the computer before something is frozen and afterwards, however that comes, in the same way.
const herald = `trap "" HUP INT TERM
"$1" before "$3" >&2 || exit 1
echo told
timeout "$2" cat >/dev/null
"$1" after "$3" >&2`

// word tells a program of the computer something, and does not wait for it for ever.
const word = `timeout "$2" "$1" "$3" "$4" </dev/null >&2`

// toldIn is for how long a program is waited for.
const toldIn = time.Minute

// Tell runs a program in Hooks of the computer with a word and the path of a disk.
func (f *Folder) Tell(ctx context.Context, name, program, what string) error {
	d, err := f.find("tell", name)
	if err != nil {
		return err
	}
	runs, ok := f.computer.(scripts)
	if !ok {
		return fmt.Errorf("running %s: %w", program, errors.ErrUnsupported)
	}
	s, err := runs.Start(word, path.Join(Hooks, program), strconv.Itoa(int(toldIn.Seconds())), what, d.Path)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = s.In.Close() })
	defer stop()
	_, err = io.Copy(io.Discard, s.Out)
	if err = errors.Join(err, s.Wait(), context.Cause(ctx)); err != nil {
		return fmt.Errorf("telling %s on the computer of the disk: %w", path.Join(Hooks, program), err)
	}
	return nil
}

// Hooks is the folder of a computer with the programs that can be told: an operator puts them there.
const Hooks = "/etc/bagaglio/hooks"

// longer is how much longer a program has to wait than a filesystem.
const longer = time.Minute

// ErrThawed is the error for filesystems that did not stay frozen.
var ErrThawed = errors.New("the filesystems were thawed before all was read, since their time was over: let them be frozen for longer")

// frozen is a filesystem that a watchdog has, or a program that was told.
type frozen struct {
	back  string // what lets go on by hand
	in    io.Closer
	ended chan struct{}
	err   error // once ended
}

// Freeze has nothing written to a disk any more: each filesystem on it that is mounted for writing is frozen, for longest at most. The folder that it
// returns reads the disk as one that is not in use; thaw lets go on, and fails with ErrThawed where somebody could have written before. Where nothing is
// mounted for writing, thaw is nil. tell, unless it is empty, names a program in Hooks that is run before and afterwards.
func (f *Folder) Freeze(
	ctx context.Context,
	name string,
	longest time.Duration,
	tell string,
) (still storage.Folder, thaw func() error, err error) {
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
		for _, z := range slices.Backward(all) {
			err = errors.Join(err, z.thaw())
		}
		return err
	}
	if tell != "" {
		z, err := watch(ctx, runs, "told", herald, path.Join(Hooks, tell), longest+longer, d.Path)
		if err != nil {
			return nil, nil, fmt.Errorf("telling %s on the computer of the disk: %w", path.Join(Hooks, tell), err)
		}
		z.back = fmt.Sprintf("run %s after %s", path.Join(Hooks, tell), d.Path)
		all = append(all, z)
	}
	for _, at := range mounts {
		z, err := watch(ctx, runs, "frozen", watchdog, at, longest)
		if err != nil {
			return nil, nil, errors.Join(fmt.Errorf("freezing %s: %w", at, err), thaw())
		}
		z.back = "run fsfreeze --unfreeze " + at
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

// watch starts a script, and returns when it says the word that it has begun.
func watch(ctx context.Context, on scripts, word, script, of string, longest time.Duration, more ...string) (*frozen, error) {
	s, err := on.Start(script, append([]string{of, strconv.Itoa(int(longest.Seconds()))}, more...)...)
	if err != nil {
		return nil, err
	}
	z := &frozen{in: s.In, ended: make(chan struct{})}
	said := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(s.Out).ReadString('\n') // nothing where it ended
		said <- line
		z.err = s.Wait()
		close(z.ended)
	}()
	select {
	case line := <-said:
		if strings.TrimSpace(line) == word {
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
		return fmt.Errorf("letting go on: %w; %s", z.err, z.back)
	}
	return nil
}

// Heedless reads disks also while somebody writes to them.
func (f *Folder) Heedless() storage.Folder {
	return &Folder{computer: f.computer, closed: f.closed, why: f.why, heedless: true}
}
