//go:build torture

package points

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// BAGAGLIO_KILL_AT names a point and how often it is passed before the process kills itself: "rename after:2". With
// BAGAGLIO_POINTS each point that is passed is written to that file.
var (
	at, count = func() (string, int) {
		name, n, _ := strings.Cut(os.Getenv("BAGAGLIO_KILL_AT"), ":")
		k, _ := strconv.Atoi(n)
		return name, k
	}()
	list = os.Getenv("BAGAGLIO_POINTS")

	mu     sync.Mutex
	passed = map[string]int{}
)

func pass(name string) {
	mu.Lock()
	defer mu.Unlock()
	passed[name]++
	if list != "" {
		f, err := os.OpenFile(list, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err == nil {
			fmt.Fprintln(f, name)
			f.Close()
		}
	}
	if name == at && passed[name] == count {
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {}
	}
}

// around passes the points before and after what is done.
func around(name string, do func() error) error {
	pass(name + " before")
	err := do()
	pass(name + " after")
	return err
}

// Folder returns a folder with points around what changes names or reaches stable storage.
func Folder(f storage.Folder) storage.Folder { return folder{f} }

type folder struct{ storage.Folder }

func (f folder) Create(name string) (storage.File, error) { return wrap(f.Folder.Create(name)) }
func (f folder) Reopen(name string) (storage.File, error) { return wrap(f.Folder.Reopen(name)) }
func (f folder) Rename(a, b string) error {
	return around("rename", func() error { return f.Folder.Rename(a, b) })
}
func (f folder) Exchange(a, b string) error {
	return around("exchange", func() error { return f.Folder.Exchange(a, b) })
}
func (f folder) Remove(name string) error {
	return around("remove", func() error { return f.Folder.Remove(name) })
}
func (f folder) Sync(dir string) error {
	return around("folder sync", func() error { return f.Folder.Sync(dir) })
}
func (f folder) MoveIn(from storage.Folder, a, b string) error {
	m, ok := storage.As[storage.Mover](f.Folder)
	if !ok {
		return errors.ErrUnsupported
	}
	return around("move", func() error { return m.MoveIn(from, a, b) })
}

func (f folder) Moves(from storage.Folder, a, b string) bool {
	m, ok := storage.As[storage.Mover](f.Folder)
	return ok && m.Moves(from, a, b)
}

// Unwrap is for everything else that the folder can do.
func (f folder) Unwrap() storage.Folder { return f.Folder }

func wrap(f storage.File, err error) (storage.File, error) {
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

// file keeps what a file of a folder can do.
type file struct{ storage.File }

func (f file) Sync() error { return around("sync", f.File.Sync) }
func (f file) Truncate(n int64) error {
	return around("truncate", func() error { return f.File.Truncate(n) })
}
func (f file) Range(off int64) (int64, bool, error) { return f.File.(storage.RangeFinder).Range(off) }
func (f file) Allocate(off, n int64) error          { return f.File.(storage.Allocator).Allocate(off, n) }
func (f file) MakeHole(off, n int64) error          { return f.File.(storage.HoleMaker).MakeHole(off, n) }

// Guests returns a host of machines with points around what changes there.
func Guests(g step.Guests) step.Guests { return guests{g} }

type guests struct{ step.Guests }

func (g guests) Start(ctx context.Context, m host.Machine) error {
	return around("start", func() error { return g.Guests.Start(ctx, m) })
}

func (g guests) ShutDown(ctx context.Context, m host.Machine) error {
	return around("shut down", func() error { return g.Guests.ShutDown(ctx, m) })
}

func (g guests) CutOff(ctx context.Context, m host.Machine) error {
	return around("cut off", func() error { return g.Guests.CutOff(ctx, m) })
}

func (g guests) Suspend(ctx context.Context, m host.Machine) error {
	return around("suspend", func() error { return g.Guests.Suspend(ctx, m) })
}

func (g guests) Define(ctx context.Context, definition []byte) (m host.Machine, err error) {
	err = around("define", func() error { m, err = g.Guests.Define(ctx, definition); return err })
	return m, err
}

func (g guests) Forget(ctx context.Context, m host.Machine) error {
	return around("forget machine", func() error { return g.Guests.Forget(ctx, m) })
}

func (g guests) Take(ctx context.Context, m host.Machine, t host.Taking) error {
	return around("take", func() error { return g.Guests.Take(ctx, m, t) })
}

func (g guests) GoBack(ctx context.Context, m host.Machine, name string) error {
	return around("go back", func() error { return g.Guests.GoBack(ctx, m, name) })
}

func (g guests) Drop(ctx context.Context, m host.Machine, name string) error {
	return around("drop", func() error { return g.Guests.Drop(ctx, m, name) })
}

func (g guests) Attach(ctx context.Context, m host.Machine, d machine.Disk) error {
	return around("attach", func() error { return g.Guests.Attach(ctx, m, d) })
}

func (g guests) Detach(ctx context.Context, m host.Machine, slot string) error {
	return around("detach", func() error { return g.Guests.Detach(ctx, m, slot) })
}

func (g guests) Cover(ctx context.Context, m host.Machine, layers map[string]string, atRest bool) (halted time.Duration, err error) {
	err = around("cover", func() error { halted, err = g.Guests.Cover(ctx, m, layers, atRest); return err })
	return halted, err
}

func (g guests) Merge(ctx context.Context, m host.Machine, slot, into string) (halted time.Duration, err error) {
	err = around("merge", func() error { halted, err = g.Guests.Merge(ctx, m, slot, into); return err })
	return halted, err
}

func (g guests) Save(ctx context.Context, m host.Machine, file string) error {
	return around("save", func() error { return g.Guests.Save(ctx, m, file) })
}

func (g guests) Restore(ctx context.Context, m host.Machine, file string, is machine.Machine) error {
	return around("restore", func() error { return g.Guests.Restore(ctx, m, file, is) })
}

func (g guests) Borrow(ctx context.Context, definition []byte, disks map[string]host.Export) (m host.Machine, err error) {
	err = around("borrow", func() error { m, err = g.Guests.Borrow(ctx, definition, disks); return err })
	return m, err
}

func (g guests) Fold(ctx context.Context, m host.Machine, slot, from, into string) error {
	return around("fold", func() error { return g.Guests.Fold(ctx, m, slot, from, into) })
}

func (g guests) Mirror(ctx context.Context, m host.Machine, slot string, to machine.Disk) (halted time.Duration, err error) {
	err = around("mirror", func() error { halted, err = g.Guests.Mirror(ctx, m, slot, to); return err })
	return halted, err
}

// Records returns records with points around what they keep.
func Records(r step.Records) step.Records { return records{r} }

type records struct{ step.Records }

func (r records) Keep(ctx context.Context, j step.Journal, mark *step.Mark) error {
	begun := j.Subjects[plan.FirstDisk].Begun
	if of := j.Subjects[plan.MachineSubject].Begun; of != "" {
		begun += " " + of
	}
	return around("checkpoint "+begun, func() error { return r.Records.Keep(ctx, j, mark) })
}

func (r records) Forget(ctx context.Context, subject string, j step.Journal) error {
	return around("forget", func() error { return r.Records.Forget(ctx, subject, j) })
}
