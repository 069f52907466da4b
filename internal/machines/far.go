package machines

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
)

// Call is what a job that a porter does has done on a host of its machine, and Found what came of it. The service does it, and only what belongs to that job.
type Call struct {
	To         bool // the host that the machine goes to, not the one that it is on
	Do         string
	Machine    host.Machine
	Name, Text string
	Yes        bool
	Definition []byte
	Snapshot   host.Snapshot
	Layers     map[string]string
	Disk       machine.Disk
	From       string
	Is         machine.Machine
}

// Found is what came of a call.
type Found struct {
	Machines  []host.Machine
	Picture   []byte
	Signs     host.Signs
	Questions []host.Question
	Heard     []byte
	Halted    time.Duration
	Files     []string
}

// What is done. All of it looks first: what is so already is no error.
const (
	doList      = "list"
	doMachine   = "machine"
	doStart     = "start"
	doShutDown  = "shut-down"
	doCutOff    = "cut-off"
	doSuspend   = "suspend"
	doResume    = "resume"
	doScreen    = "screen"
	doSigns     = "signs"
	doQuestions = "questions"
	doAnswer    = "answer"
	doLook      = "look"
	doWake      = "wake"
	doDefine    = "define"
	doForget    = "forget"
	doAdopt     = "adopt"
	doDisown    = "disown"
	doListen    = "listen"
	doCover     = "cover"
	doMerge     = "merge"
	doFold      = "fold"
	doMirror    = "mirror"
	doGiveUp    = "give-up"
	doLayers    = "layers"
	doSave      = "save"
	doRestore   = "restore"
)

// Far is a host as a porter uses it in a job: ask has the service do each thing. What is served to a host whose machine is started first is not done this way.
func Far(to bool, ask func(context.Context, Call) (Found, error)) step.Guests {
	return far{ask: func(ctx context.Context, c Call) (Found, error) {
		c.To = to
		return ask(ctx, c)
	}}
}

type far struct {
	idle
	ask func(context.Context, Call) (Found, error)
}

func (f far) do(ctx context.Context, what string, m host.Machine) error {
	_, err := f.ask(ctx, Call{Do: what, Machine: bare(m)})
	return err
}

// bare is a machine without the texts of its definitions, which need not be sent to say which one is meant.
func bare(m host.Machine) host.Machine {
	m.Definition, m.Live = nil, nil
	return m
}

func (f far) one(ctx context.Context, c Call) (host.Machine, error) {
	found, err := f.ask(ctx, c)
	if err != nil {
		return host.Machine{}, err
	}
	if len(found.Machines) != 1 {
		return host.Machine{}, errors.New("the service says nothing of the machine")
	}
	return found.Machines[0], nil
}

func (f far) Machines(ctx context.Context) ([]host.Machine, error) {
	found, err := f.ask(ctx, Call{Do: doList})
	return found.Machines, err
}

func (f far) Machine(ctx context.Context, name string) (host.Machine, error) {
	return f.one(ctx, Call{Do: doMachine, Name: name})
}

func (f far) Define(ctx context.Context, definition []byte) (host.Machine, error) {
	return f.one(ctx, Call{Do: doDefine, Definition: definition})
}

func (f far) Start(ctx context.Context, m host.Machine) error    { return f.do(ctx, doStart, m) }
func (f far) ShutDown(ctx context.Context, m host.Machine) error { return f.do(ctx, doShutDown, m) }
func (f far) CutOff(ctx context.Context, m host.Machine) error   { return f.do(ctx, doCutOff, m) }
func (f far) Suspend(ctx context.Context, m host.Machine) error  { return f.do(ctx, doSuspend, m) }
func (f far) Resume(ctx context.Context, m host.Machine) error   { return f.do(ctx, doResume, m) }
func (f far) Forget(ctx context.Context, m host.Machine) error   { return f.do(ctx, doForget, m) }
func (f far) Look(ctx context.Context) error                     { return f.do(ctx, doLook, host.Machine{}) }

func (f far) Screen(ctx context.Context, m host.Machine) ([]byte, error) {
	found, err := f.ask(ctx, Call{Do: doScreen, Machine: bare(m)})
	return found.Picture, err
}

func (f far) Signs(ctx context.Context, m host.Machine) (host.Signs, error) {
	found, err := f.ask(ctx, Call{Do: doSigns, Machine: bare(m)})
	return found.Signs, err
}

func (f far) Questions(ctx context.Context, m host.Machine) ([]host.Question, error) {
	found, err := f.ask(ctx, Call{Do: doQuestions, Machine: bare(m)})
	return found.Questions, err
}

func (f far) Answer(ctx context.Context, m host.Machine, question, answer string) error {
	_, err := f.ask(ctx, Call{Do: doAnswer, Machine: bare(m), Name: question, Text: answer})
	return err
}

func (f far) StartWithHost(ctx context.Context, m host.Machine, yes bool) error {
	_, err := f.ask(ctx, Call{Do: doWake, Machine: bare(m), Yes: yes})
	return err
}

func (f far) Adopt(ctx context.Context, m host.Machine, s host.Snapshot) error {
	_, err := f.ask(ctx, Call{Do: doAdopt, Machine: bare(m), Snapshot: s})
	return err
}

func (f far) Disown(ctx context.Context, m host.Machine, name string) error {
	_, err := f.ask(ctx, Call{Do: doDisown, Machine: bare(m), Name: name})
	return err
}

func (f far) Cover(ctx context.Context, m host.Machine, layers map[string]string, atRest bool) (time.Duration, error) {
	found, err := f.ask(ctx, Call{Do: doCover, Machine: bare(m), Layers: layers, Yes: atRest})
	return found.Halted, err
}

func (f far) Merge(ctx context.Context, m host.Machine, slot, into string) (time.Duration, error) {
	found, err := f.ask(ctx, Call{Do: doMerge, Machine: bare(m), Name: slot, Text: into})
	return found.Halted, err
}

func (f far) Fold(ctx context.Context, m host.Machine, slot, from, into string) error {
	_, err := f.ask(ctx, Call{Do: doFold, Machine: bare(m), Name: slot, From: from, Text: into})
	return err
}

func (f far) Mirror(ctx context.Context, m host.Machine, slot string, to machine.Disk) (time.Duration, error) {
	found, err := f.ask(ctx, Call{Do: doMirror, Machine: bare(m), Name: slot, Disk: to})
	return found.Halted, err
}

func (f far) GiveUp(ctx context.Context, m host.Machine, slot string) error {
	_, err := f.ask(ctx, Call{Do: doGiveUp, Machine: bare(m), Name: slot})
	return err
}

func (f far) Layers(ctx context.Context, m host.Machine, slot string) ([]string, error) {
	found, err := f.ask(ctx, Call{Do: doLayers, Machine: bare(m), Name: slot})
	return found.Files, err
}

func (f far) Save(ctx context.Context, m host.Machine, file string) error {
	_, err := f.ask(ctx, Call{Do: doSave, Machine: bare(m), Text: file})
	return err
}

func (f far) Restore(ctx context.Context, m host.Machine, file string, is machine.Machine) error {
	_, err := f.ask(ctx, Call{Do: doRestore, Machine: bare(m), Text: file, Is: is})
	return err
}

// Listen asks for what was heard since the last time, until the service hears no more.
func (f far) Listen(ctx context.Context, m host.Machine, w io.Writer) error {
	for ctx.Err() == nil {
		found, err := f.ask(ctx, Call{Do: doListen, Machine: bare(m)})
		if err != nil {
			return err
		}
		if _, err := w.Write(found.Heard); err != nil {
			return err
		}
	}
	return nil
}

func (far) Close() error { return nil }

// Near does for a job of a porter what it asks for on the hosts of its machine. Close it.
type Near struct {
	from, to step.Guests
	of       plan.Machine
	ctx      context.Context
	stop     context.CancelFunc

	mu    sync.Mutex
	ears  map[string]*ear // by what is listened to
	given map[string]bool // identities that hosts told of the machine
}

// NewNear returns one for the machine of a plan.
func NewNear(from, to step.Guests, of plan.Machine) *Near {
	n := &Near{from: from, to: to, of: of, ears: map[string]*ear{}, given: map[string]bool{}}
	n.ctx, n.stop = context.WithCancel(context.Background())
	return n
}

// Close listens to nothing any more.
func (n *Near) Close() { n.stop() }

// Do does it, unless it has nothing to do with the machine.
func (n *Near) Do(ctx context.Context, c Call) (f Found, err error) {
	on := n.from
	if c.To {
		on = n.to
	}
	if err := n.may(c); err != nil {
		return f, err
	}
	m := c.Machine
	switch c.Do {
	case doList:
		f.Machines, err = on.Machines(ctx)
		for i, m := range f.Machines { // the texts of others are nobody's business
			if !n.called(c.To, m.Name) && !n.has(m.UUID) {
				f.Machines[i] = bare(m)
			}
		}
	case doMachine:
		f.Machines, err = n.one(on.Machine(ctx, c.Name))
	case doDefine:
		f.Machines, err = n.one(on.Define(ctx, c.Definition))
	case doStart:
		err = on.Start(ctx, m)
	case doShutDown:
		err = on.ShutDown(ctx, m)
	case doCutOff:
		err = on.CutOff(ctx, m)
	case doSuspend:
		err = on.Suspend(ctx, m)
	case doResume:
		err = on.Resume(ctx, m)
	case doForget:
		err = on.Forget(ctx, m)
	case doLook:
		err = on.Look(ctx)
	case doScreen:
		f.Picture, err = on.Screen(ctx, m)
	case doSigns:
		f.Signs, err = on.Signs(ctx, m)
	case doQuestions:
		f.Questions, err = on.Questions(ctx, m)
	case doAnswer:
		err = on.Answer(ctx, m, c.Name, c.Text)
	case doWake:
		err = on.StartWithHost(ctx, m, c.Yes)
	case doAdopt:
		err = on.Adopt(ctx, m, c.Snapshot)
	case doDisown:
		err = on.Disown(ctx, m, c.Name)
	case doListen:
		f.Heard, err = n.listen(ctx, on, m)
	case doCover:
		f.Halted, err = on.Cover(ctx, m, c.Layers, c.Yes)
	case doMerge:
		f.Halted, err = on.Merge(ctx, m, c.Name, c.Text)
	case doFold:
		err = on.Fold(ctx, m, c.Name, c.From, c.Text)
	case doMirror:
		f.Halted, err = on.Mirror(ctx, m, c.Name, c.Disk)
	case doGiveUp:
		err = on.GiveUp(ctx, m, c.Name)
	case doLayers:
		f.Files, err = on.Layers(ctx, m, c.Name)
	case doSave:
		err = on.Save(ctx, m, c.Text)
	case doRestore:
		err = on.Restore(ctx, m, c.Text, c.Is)
	default:
		err = fmt.Errorf("%q is nothing that is done with a machine: the porter is of another version", c.Do)
	}
	return f, err
}

// called tells whether the machine of the plan has that name, on the host that it is on or on the one that it goes to.
func (n *Near) called(to bool, name string) bool {
	return (!to || n.of.Stays()) && name == n.of.Name || (to || n.of.Stays()) && name == n.of.After.Name
}

// has tells whether the machine of the plan has that identity, as planned or as its host gave it.
func (n *Near) has(uuid string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return strings.EqualFold(uuid, n.of.Before.UUID) || strings.EqualFold(uuid, n.of.After.UUID) || n.given[uuid]
}

// one is the answer about the machine of the plan, whose identity is known from then on.
func (n *Near) one(m host.Machine, err error) ([]host.Machine, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if err == nil && m.UUID != "" {
		n.given[m.UUID] = true
	}
	return []host.Machine{m}, err
}

// names tells whether the plan names a file of a disk that moves while the machine runs.
func (n *Near) names(file string) bool {
	return file == "" || n.of.Beside(plan.Place{Path: file}) || slices.ContainsFunc(n.of.Live, func(d plan.LiveDisk) bool {
		return slices.Contains([]string{d.WasFile, d.NowFile, d.CoverAt, d.TopAt, d.ReturnAt}, file)
	})
}

// may fails for what has nothing to do with the machine of the plan.
func (n *Near) may(c Call) error {
	ok := n.called(c.To, c.Machine.Name) && (c.Machine.UUID == "" || n.has(c.Machine.UUID)) // hosts go by the one or the other
	switch c.Do {
	case doList, doLook:
		ok = true
	case doMachine:
		ok = n.called(c.To, c.Name)
	case doDefine:
		ok = bytes.Equal(c.Definition, []byte(n.of.Definition)) || bytes.Equal(c.Definition, []byte(n.of.Stored))
	case doForget:
		ok = ok && (c.To || n.of.Move)
	case doShutDown, doCutOff:
		ok = ok && (c.To || n.of.Stop)
	case doAdopt:
		ok = ok && slices.ContainsFunc(slices.Concat(n.of.Along, n.of.Had), func(s host.Snapshot) bool {
			return s.Name == c.Snapshot.Name && bytes.Equal(s.Definition, c.Snapshot.Definition)
		})
	case doDisown:
		ok = ok && slices.ContainsFunc(n.of.Along, func(s host.Snapshot) bool { return s.Name == c.Name })
	case doCover, doMerge, doFold, doMirror:
		for _, file := range append(slices.Collect(maps.Values(c.Layers)), c.Text, c.From, c.Disk.File) {
			ok = ok && n.names(file)
		}
	}
	if mem := n.of.Memory; c.Do == doSave || c.Do == doRestore {
		ok = ok && mem != nil && slices.Contains([]string{mem.WasFile, mem.WasFile + plan.MemoryUsed, mem.NowFile + plan.MemoryUsed}, c.Text)
	}
	if !ok {
		return fmt.Errorf("%w: the plan does not say that this is done with %s", host.ErrRefused, c.Machine.Name+c.Name)
	}
	return nil
}

// heardIn is for how long a call waits for something to be heard, and mostHeard how much is kept until it is asked for, in bytes.
const heardIn, mostHeard = time.Second, 16 << 10

// ear listens to a machine.
type ear struct {
	mu    sync.Mutex
	text  []byte
	ended bool
	err   error
}

func (e *ear) Write(b []byte) (int, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.text = append(e.text, b...)
	e.text = e.text[max(0, len(e.text)-mostHeard):]
	return len(b), nil
}

// take returns what was heard, and whether more may be.
func (e *ear) take() (text []byte, ended bool, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	text, e.text = e.text, nil
	return text, e.ended && len(text) == 0, e.err
}

// listen returns what was heard of a machine since the last time.
func (n *Near) listen(ctx context.Context, on step.Guests, m host.Machine) ([]byte, error) {
	n.mu.Lock()
	e := n.ears[m.UUID]
	if e == nil {
		e = &ear{}
		n.ears[m.UUID] = e
		go func() {
			err := on.Listen(n.ctx, m, e)
			e.mu.Lock()
			defer e.mu.Unlock()
			e.ended, e.err = true, err
		}()
	}
	n.mu.Unlock()
	for until := time.Now().Add(heardIn); ; {
		text, ended, err := e.take()
		switch {
		case ended && err == nil: // it is heard anew when it is started again
			n.mu.Lock()
			delete(n.ears, m.UUID)
			n.mu.Unlock()
			return nil, io.EOF
		case ended:
			return nil, err
		case len(text) > 0 || time.Now().After(until):
			return text, nil
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(50 * time.Millisecond):
		}
	}
}
