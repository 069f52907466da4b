package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/bootcode"
	"bagaglio/internal/guestd"
)

// writing is how many bytes a second the guest writes whose storage moves, and moves how often.
const writing, moves = 50 << 20, 5

// writer is the definition of a guest that writes all the time, at most so many bytes a second.
const writer = `<domain type="qemu"><name>writer</name><memory unit="MiB">64</memory><vcpu>1</vcpu>
<os><type arch="x86_64" machine="pc">hvm</type></os><features><acpi/></features><devices>
<disk type="file" device="disk"><driver name="qemu" type="raw"/><source file="%s"/><target dev="sda" bus="sata"/>
<iotune><write_bytes_sec>%d</write_bytes_sec></iotune></disk></devices></domain>`

// live measures the move of the storage of a guest that writes all the time: how long its writes stand still, as they are counted by its host, and how fast its disk is
// copied against the same disk at rest.
func live(b *bench) error {
	d, err := startDaemon()
	if err != nil {
		fmt.Printf("\na machine that runs: not measured, since none can be run here: %v\n", err)
		return nil
	}
	err = b.withService("live", func(s service) error { return moveWriting(s, b, d) })
	if err == nil {
		err = withMemory(b, d)
	}
	return errors.Join(err, d.Close())
}

// startDaemon starts one with the rights of an ordinary user.
func startDaemon() (*guestd.Daemon, error) {
	u, err := user.Current()
	if err == nil && u.Uid == "0" {
		u, err = user.Lookup("nobody")
	}
	if err != nil {
		return nil, err
	}
	return guestd.Start(u)
}

// reach connects to a daemon.
func reach(ctx context.Context, d *guestd.Daemon) (host.Host, error) {
	kind, err := host.Lookup("libvirt")
	if err != nil {
		return nil, err
	}
	return kind.Open(ctx, host.Address{Socket: d.Socket, Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}})
}

// rooms are the folders that the disk goes to and fro between.
var rooms = []string{"one", "two"}

func moveWriting(s service, b *bench, d *guestd.Daemon) error {
	ctx := context.Background()
	runs := "libvirt"
	if _, err := s.ChangeHost(ctx, "local", api.HostChange{Runs: &runs, Socket: &d.Socket}); err != nil {
		return err
	}
	uid, gid, err := owner(d.Owner)
	if err != nil {
		return err
	}
	for _, room := range rooms {
		folder := filepath.Join(d.Disks, room)
		if err := errors.Join(os.Mkdir(folder, 0o755), os.Chown(folder, uid, gid)); err != nil {
			return err
		}
		if _, err := s.AddPool(ctx, api.NewPool{Name: room, Folder: folder}); err != nil {
			return err
		}
		if _, err := s.ChangePool(ctx, room, api.PoolChange{Rules: plan.Rules{Owner: d.Owner, Mode: "0660"}}); err != nil {
			return err
		}
	}
	file := filepath.Join(d.Disks, rooms[0], "writer.raw")
	if err := fill(file, b.size, false); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(bootcode.Writer(), 0)
	if err = errors.Join(err, f.Close(), os.Chown(file, uid, gid)); err != nil {
		return err
	}
	other := filepath.Join(d.Disks, rooms[0], "other.raw")
	if err := fill(other, b.size, false); err != nil {
		return err
	}
	rest, err := copied(ctx, s, d, "writer.raw")
	if err != nil {
		return err
	}
	h, err := reach(ctx, d)
	if err != nil {
		return err
	}
	defer h.Close()
	m, err := h.(host.Definer).Define(ctx, fmt.Appendf(nil, writer, file, writing))
	if err == nil {
		err = h.(host.Power).Start(ctx, m)
	}
	if err != nil {
		return err
	}
	w := &watch{h: h.(host.Observer), m: m, of: map[string]time.Duration{}}
	if err := w.begun(ctx); err != nil {
		return err
	}
	idle, rate, err := w.longest(ctx, func() error { time.Sleep(5 * time.Second); return nil })
	if err != nil {
		return err
	}
	fmt.Printf(
		"\n%-60s %10s\n",
		fmt.Sprintf("a guest that writes %.0f MiB/s, its storage of %d MiB moves, %d times", rate/(1<<20), b.size>>20, moves),
		"",
	)
	fmt.Printf("%-60s %10.0f\n", "longest time between two of its writes, at rest, ms", idle.Seconds()*1000)
	var gaps, told, speeds []float64
	for i := range moves {
		var done receipt.Receipt
		gap, _, err := w.longest(ctx, func() (err error) { done, err = moveOnce(ctx, s, rooms[(i+1)%2], w.now); return err })
		if err != nil {
			return err
		}
		gaps, told = append(gaps, gap.Seconds()*1000), append(told, float64(done.StoppedMs))
		speeds = append(speeds, filling(done)...)
	}
	fmt.Printf("%-60s %10.0f\n", "likewise while it moves, median", median(gaps))
	fmt.Printf("%-60s %10.0f\n", "likewise, longest", slowest(gaps))
	for _, step := range slices.Sorted(maps.Keys(w.of)) {
		fmt.Printf("%-60s %10.0f\n", "  at the step "+step, w.of[step].Seconds()*1000)
	}
	fmt.Printf("%-60s %10.0f\n", "what the receipt says it stood still in all, ms, median", median(told))
	fmt.Printf("%-60s %10.2f\n", "speed of the copy to that of one at rest, median", median(speeds)/rest)
	beside, err := copied(ctx, s, d, "other.raw")
	if err != nil {
		return err
	}
	fmt.Printf("%-60s %10.2f\n", "speed of the copy to that of another disk, at rest, while", median(speeds)/beside)
	fmt.Printf("%-60s\n", "  the guest writes as much")
	if err := h.(host.Power).CutOff(ctx, m); err != nil {
		return err
	}
	return hasAll(ctx, s)
}

// hasAll fails where the disk that the guest wrote to last lacks one of its last blocks.
func hasAll(ctx context.Context, s service) error {
	m, err := s.Machine(ctx, "local", "writer")
	if err != nil {
		return err
	}
	f, err := os.Open(m.Is.Disks[0].File)
	if err != nil {
		return err
	}
	defer f.Close()
	last, ok, err := bootcode.WriterLast(func(p []byte, off int64) error { _, err := f.ReadAt(p, off); return err })
	if err == nil && !ok {
		err = fmt.Errorf("of %d blocks that the guest wrote, some are missing", last)
	}
	if err == nil {
		fmt.Printf("%-60s %10d\n", "blocks that its guest wrote, of which the last 512 are all there", last)
	}
	return err
}

func slowest(of []float64) (most float64) {
	for _, x := range of {
		most = max(most, x)
	}
	return most
}

func owner(text string) (uid, gid int, err error) {
	_, err = fmt.Sscanf(text, "%d:%d", &uid, &gid)
	return uid, gid, err
}

// copied is the speed of a copy of a disk that nobody writes to, in bytes a second: the median of some.
func copied(ctx context.Context, s service, d *guestd.Daemon, disk string) (float64, error) {
	var speeds []float64
	for range moves {
		done, err := does(ctx, s, plan.Request{
			Kind: plan.Convert, Source: plan.Place{Pool: rooms[0], Path: disk, Format: "raw"}, As: "raw",
			Destination: &plan.Place{Pool: rooms[1], Path: "copy.raw"}, NoTag: true,
		}, func(string) {})
		if err == nil {
			err = os.Remove(filepath.Join(d.Disks, rooms[1], "copy.raw"))
		}
		if err != nil {
			return 0, err
		}
		speeds = append(speeds, filling(done)...)
	}
	return median(speeds), nil
}

// filling are the speeds at which disks were copied, in bytes a second.
func filling(done receipt.Receipt) (speeds []float64) {
	for _, step := range done.Steps {
		if step.Name == plan.StepFill {
			speeds = append(speeds, step.BytesPerSecond)
		}
	}
	for _, part := range done.Parts {
		speeds = append(speeds, filling(part)...)
	}
	return speeds
}

// moveOnce moves the storage of the guest.
func moveOnce(ctx context.Context, s service, pool string, now func(step string)) (done receipt.Receipt, err error) {
	return does(ctx, s, plan.Request{
		Kind: plan.MoveMachine, Machine: "local:writer", To: "local", Destination: &plan.Place{Pool: pool}, As: "raw", Live: true,
	}, now)
}

// does has a job do something, which has to be proven.
func does(ctx context.Context, s service, r plan.Request, now func(step string)) (done receipt.Receipt, err error) {
	p, err := s.Plan(ctx, r)
	if err != nil {
		return done, err
	}
	j, err := s.Start(ctx, api.NewJob{Plan: p.Id})
	if err != nil {
		return done, err
	}
	for x, err := range s.Follow(ctx, j.Id) {
		if err != nil {
			return done, err
		}
		if x.Question != nil {
			return done, errors.New(x.Question.Text)
		}
		if x.Progress != nil {
			now(x.Progress.Step)
		}
	}
	if done, err = s.Receipt(ctx, j.Id); err == nil && done.Outcome != receipt.Proven {
		err = errors.New(done.Reason)
	}
	return done, err
}

// watch looks how much a guest has written.
type watch struct {
	h host.Observer
	m host.Machine

	step atomic.Pointer[string] // of the job
	of   map[string]time.Duration
}

// now notes which step the job is at.
func (w *watch) now(step string) { w.step.Store(&step) }

// begun waits until it writes.
func (w *watch) begun(ctx context.Context) error {
	for end := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Millisecond) {
		s, err := w.h.Signs(ctx, w.m)
		if err != nil || s.Written > 64<<20 {
			return err
		}
		if time.Now().After(end) {
			return errors.New("the guest writes nothing: " + strconv.FormatInt(s.Written, 10))
		}
	}
}

// longest is the longest time in which it wrote nothing, and how much it wrote a second, while something is done.
func (w *watch) longest(ctx context.Context, do func() error) (gap time.Duration, rate float64, err error) {
	done := make(chan error, 1)
	first, err := w.h.Signs(ctx, w.m)
	if err != nil {
		return 0, 0, err
	}
	begin := time.Now()
	go func() { done <- do() }()
	last, since := first.Written, begin
	for {
		select {
		case err := <-done:
			return gap, float64(last-first.Written) / time.Since(begin).Seconds(), err
		case <-time.After(5 * time.Millisecond):
		}
		s, err := w.h.Signs(ctx, w.m)
		if err != nil {
			return gap, 0, errors.Join(err, <-done)
		}
		now := time.Now()
		if s.Written != last {
			last, since = s.Written, now
		}
		gap = max(gap, now.Sub(since))
		if at := w.step.Load(); at != nil {
			w.of[*at] = max(w.of[*at], now.Sub(since))
		}
	}
}
