package demo

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
)

// Options say how to show.
type Options struct {
	Out     io.Writer
	Binary  string // of Bagaglio, to run the service with
	Listen  string // address of the service
	Present func(io.Writer, plan.Plan) error
	// Stay keeps the service running until ctx ends.
	Stay bool
}

// show is a demo that is under way.
type show struct {
	Options
	dir     string
	service *client.Service
	link    string
	done    []receipt.Receipt
	device  string // that was connected, empty where none was
}

// Show makes the demo world in a temporary folder, runs the main job on it through a service of its own, and takes
// everything away again. An error means that something was not proven.
func Show(ctx context.Context, o Options) (err error) {
	if err := CheckTools(); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "isola-ferries-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	s := &show{Options: o, dir: dir}
	s.say("Isola Ferries is moving from the server cupboard at the quay to the lighthouse.")
	for _, m := range machines {
		s.say("Making the disk of %s: %d MiB, with a partition table, two filesystems and files.", m.name, m.mib)
		quay := s.makeFolder("quay-store")
		_, err := m.make(ctx, quay)
		if err == nil {
			_, err = Define(quay, m.name)
		}
		if err != nil {
			return err
		}
	}
	stop, err := s.start()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.detach()) }() // once the service has ended
	defer func() { err = errors.Join(err, stop()) }()
	hosts, err := s.startHosts(ctx)
	defer func() { err = errors.Join(err, hosts.Close()) }()
	if err != nil {
		return err
	}
	if err := s.run(ctx, hosts); err != nil {
		return err
	}
	if !o.Stay {
		return nil
	}
	s.say("\nThe service and its console stay until you press Ctrl-C. To open the console, once and within 15 minutes:\n%s", s.link)
	s.say("The client finds this service with: export BAGAGLIO_STATE=%s", s.state())
	<-ctx.Done()
	return nil
}

func (s *show) say(format string, args ...any) {
	_, _ = fmt.Fprintf(s.Out, format+"\n", args...) // a demo that nobody can read changes nothing
}

func (s *show) state() string { return filepath.Join(s.dir, "state") }

func (s *show) makeFolder(name string) string {
	dir := filepath.Join(s.dir, name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		panic(err) // in a folder that was made just now
	}
	return dir
}

// start runs the service as a process of its own.
func (s *show) start() (stop func() error, err error) {
	// Not ended with the demo's context: the service is asked to stop, after what is shown.
	cmd := exec.Command(s.Binary, "serve", "--listen", s.Listen, "--state", s.state())
	said := &strings.Builder{}
	cmd.Stderr = said
	// Ctrl-C at the terminal is for the demo alone.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	stop = func() error {
		err := errors.Join(cmd.Process.Signal(syscall.SIGTERM), cmd.Wait())
		if err != nil || strings.Contains(said.String(), "panic recovered") { // it has gone on, and must not be overlooked
			err = errors.Join(err, fmt.Errorf("the service said: %s", said))
		}
		return err
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, link, ok := strings.Cut(lines.Text(), "minutes: "); ok {
			s.link = link
			break
		}
	}
	if s.link == "" {
		return nil, fmt.Errorf("the service did not start: %w\n%s", cmd.Wait(), cmd.Stderr)
	}
	address, _, _ := strings.Cut(s.link, "/enter")
	token, err := os.ReadFile(filepath.Join(s.state(), "token"))
	if err == nil {
		s.service, err = client.Dial(address, strings.TrimSpace(string(token)))
	}
	if err != nil {
		return nil, errors.Join(err, stop())
	}
	s.say("The service answers at %s.", address)
	return stop, nil
}

// run converts ticketing round through formats, compares what came back with the system's own cmp, and moves the disk of crew-roster.
func (s *show) run(ctx context.Context, hosts *guests) error {
	for _, pool := range []string{"quay-store", "lighthouse-store", "seabag"} {
		if _, err := s.service.AddPool(ctx, api.NewPool{Name: pool, Folder: s.makeFolder(pool)}); err != nil {
			return err
		}
	}
	for _, c := range []struct {
		from, to plan.Place
		as       string
	}{
		{plan.Place{Pool: "quay-store", Path: "ticketing.raw"}, plan.Place{Pool: "lighthouse-store", Path: "ticketing.qcow2"}, "qcow2"},
		{plan.Place{Pool: "lighthouse-store", Path: "ticketing.qcow2"}, plan.Place{Pool: "seabag", Path: "ticketing.vhd"}, "vhd"},
		{plan.Place{Pool: "seabag", Path: "ticketing.vhd"}, plan.Place{Pool: "lighthouse-store", Path: "ticketing.raw"}, "raw"},
	} {
		done, err := s.carry(
			ctx,
			fmt.Sprintf("%s -> %s", c.from, c.to),
			plan.Request{Kind: plan.Convert, Source: c.from, Destination: &c.to, As: c.as},
		)
		if err != nil {
			return err
		}
		s.done = append(s.done, done)
	}
	first, last := filepath.Join(s.dir, "quay-store", "ticketing.raw"), filepath.Join(s.dir, "lighthouse-store", "ticketing.raw")
	s.say("\nComparing the last with the first, byte for byte: cmp quay-store/ticketing.raw lighthouse-store/ticketing.raw")
	if out, err := exec.CommandContext(ctx, "cmp", first, last).CombinedOutput(); err != nil {
		return fmt.Errorf("the disk that came back is not the one that left: %w\n%s", err, out)
	}
	s.say("They are the same.")
	if err := s.move(ctx); err != nil {
		return err
	}
	if err := s.round(ctx, hosts); err != nil {
		return err
	}
	if err := s.staying(ctx, hosts); err != nil {
		return err
	}
	if err := s.live(ctx); err != nil {
		return err
	}
	if err := s.capture(ctx); err != nil {
		return err
	}
	s.say("\nWHAT HAPPENED")
	for _, r := range s.done {
		s.say("  %-8s  %s (%s, %s) -> %s (%s, %s) in %.2f s", r.Outcome, r.Source.Place, r.Source.Format, r.Source.Layout,
			r.Destination.Place, r.Destination.Format, r.Destination.Layout, r.Seconds)
	}
	s.say("  All have the fingerprint %s", s.done[0].Source.Fingerprint)
	s.say("  crew-roster moved to the lighthouse, and its definition names its disk there.")
	s.say("  The machine ticketing moved from the quay to the lighthouse, came up there, and the quay does not know it any more.")
	s.say("  tide-board was tried out at the lighthouse, from its disks at the quay.")
	s.say("  The storage of ticketing moved at the quay while it sold tickets, and at the lighthouse while it ran: no ticket is missing.")
	s.say("  cargo-ledger, whose disk somebody had moved away, uses it where it is now.")
	s.say("  tide-board went onto the seabag as a package, and came back from there as tide-board-abroad.")
	s.say("  crew-roster goes on, and crew-roster-spring is what it was before the season. tide-board has the crates of cargo-ledger.")
	s.say(
		"  The drive of the gate kiosk is a smaller disk now, without its data partition and what its filesystems do not use..",
	)
	return nil
}

// move moves the disk of a machine, whose definition follows.
func (s *show) move(ctx context.Context) error {
	const name = "crew-roster.raw"
	_, err := s.carry(ctx, "crew-roster moves to the lighthouse", plan.Request{
		Kind:        plan.Copy,
		Release:     true,
		Source:      plan.Place{Pool: "quay-store", Path: name},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: name},
	})
	if err != nil {
		return err
	}
	definition, err := os.ReadFile(filepath.Join(s.dir, "quay-store", "crew-roster.xml"))
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(definition)) {
		if strings.Contains(line, "<source") {
			s.say("Its definition, quay-store/crew-roster.xml, says now: %s", strings.TrimSpace(line))
		}
	}
	return nil
}

// carry shows one job: what will happen, what is happening, what happened.
func (s *show) carry(ctx context.Context, title string, r plan.Request) (done receipt.Receipt, err error) {
	s.say("\n=== %s ===\n", title)
	kept, err := s.service.Plan(ctx, r)
	if err != nil {
		return done, err
	}
	if err := s.Present(s.Out, kept.Plan); err != nil {
		return done, err
	}
	j, err := s.service.Start(ctx, api.NewJob{Plan: kept.Id})
	if err != nil {
		return done, err
	}
	s.say("\nJob %s", j.Id)
	step := ""
	for j, err := range s.service.Follow(ctx, j.Id) {
		if err != nil {
			return done, err
		}
		if p := j.Progress; p != nil && p.Step != step {
			step = p.Step
			s.say("  step %d of %d: %s", p.Number, p.Steps, p.Title)
		}
	}
	done, err = s.service.Receipt(ctx, j.Id)
	if err != nil {
		return done, err
	}
	s.say("")
	if err := done.WriteText(s.Out); err != nil {
		return done, err
	}
	if copies := r.Kind != plan.TakeSnapshot &&
		r.Kind != plan.HandDisk; done.Outcome != receipt.Proven &&
		(copies || done.Outcome != receipt.Unproven) {
		return done, fmt.Errorf("%s was not proven: %s", r.Destination, done.Reason)
	}
	return done, nil
}

// quietly does so and says nothing.
func (s *show) quietly(ctx context.Context, r plan.Request) (receipt.Receipt, error) {
	out := s.Out
	s.Out = io.Discard
	defer func() { s.Out = out }()
	return s.carry(ctx, "", r)
}
