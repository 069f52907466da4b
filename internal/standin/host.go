package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	_ "bagaglio/core/machine/all"
	"bagaglio/core/machine/own"
)

// Errors of a host.
var (
	errUnknown = errors.New("there is no such machine")
	errState   = errors.New("not in its present state")
	errRefused = errors.New("refused")
)

// Host is a stand-in. It is safe for concurrent use.
type Host struct {
	traits Traits
	folder string // that the disks of its machines lie in
	file   string // its inventory

	mu       sync.Mutex
	machines map[string]*guest // by UUID
	seen     map[string]bool   // files that it knows, where it knows only those
	log      *os.File          // what guests wrote
	changes  int64             // of machines since it began
	changed  chan struct{}     // closed at the next one
}

// guest is a machine on the list.
type guest struct {
	Definition string     `json:"definition"`
	State      host.State `json:"state"`
	// Came is what was answered to whether it was moved or copied.
	Came string `json:"came,omitempty"`
	// Kept are its snapshots, and Present the one that it goes on from.
	Kept    []kept `json:"kept,omitempty"`
	Present string `json:"present,omitempty"`

	is    machine.Machine
	start *start
}

// Open opens a host whose inventory lies in the folder state. What ran when it ended is off: a host that starts anew starts nobody.
func Open(state, folder string, t Traits) (*Host, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if folder, err = filepath.EvalSymlinks(folder); err != nil {
		return nil, err
	}
	h := &Host{
		traits:   t,
		folder:   folder,
		file:     filepath.Join(state, "inventory.json"),
		machines: map[string]*guest{},
		seen:     map[string]bool{},
		changed:  make(chan struct{}),
	}
	if err := h.Look(); err != nil {
		return nil, err
	}
	if t.Writes {
		if h.log, err = os.OpenFile(filepath.Join(state, WritesLog), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err != nil {
			return nil, err
		}
	}
	b, err := os.ReadFile(h.file)
	if errors.Is(err, os.ErrNotExist) {
		return h, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &h.machines)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the inventory: %w", err)
	}
	for _, g := range h.machines {
		g.State = host.Off
		if g.is, err = machine.Describe(own.Name, []byte(g.Definition)); err != nil {
			return nil, fmt.Errorf("reading the inventory: %w", err)
		}
	}
	return h, nil
}

// keep writes the inventory, and tells who waits for changes.
func (h *Host) keep() error {
	h.changes++
	close(h.changed)
	h.changed = make(chan struct{})
	b, err := json.MarshalIndent(h.machines, "", "  ")
	if err != nil {
		return err
	}
	next := h.file + ".new"
	if err := os.WriteFile(next, b, 0o600); err != nil {
		return err
	}
	return os.Rename(next, h.file)
}

// Changes is the number of changes, once it is another one than what is known, or time is up.
func (h *Host) Changes(ctx context.Context, known int64) int64 {
	ctx, cancel := context.WithTimeout(ctx, changesIn)
	defer cancel()
	for {
		h.mu.Lock()
		now, next := h.changes, h.changed
		h.mu.Unlock()
		if now != known {
			return now
		}
		select {
		case <-ctx.Done():
			return now
		case <-next:
		}
	}
}

// changesIn is for how long a change is waited for.
const changesIn = 20 * time.Second

// Entry is a machine as the list has it.
type Entry struct {
	Name       string     `json:"name"`
	UUID       string     `json:"uuid"`
	State      host.State `json:"state"`
	Definition string     `json:"definition"`
}

func (g *guest) entry() Entry {
	return Entry{Name: g.is.Name, UUID: g.is.UUID, State: g.State, Definition: g.Definition}
}

// List returns all machines, by name.
func (h *Host) List() []Entry {
	h.mu.Lock()
	defer h.mu.Unlock()
	all := []Entry{}
	for _, g := range h.machines {
		all = append(all, g.entry())
	}
	slices.SortFunc(all, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Which is a machine on the list: by its name, and by its UUID where that is given.
type Which struct{ Name, UUID string }

// do does something with a machine, and keeps what came of it.
func (h *Host) do(m Which, f func(*guest) error) (Entry, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.machines {
		if g.is.Name == m.Name && (m.UUID == "" || m.UUID == g.is.UUID) {
			before := *g
			if err := f(g); err != nil {
				return g.entry(), err
			}
			same := before.Definition == g.Definition && before.State == g.State && before.Came == g.Came &&
				before.Present == g.Present && len(before.Kept) == len(g.Kept)
			if same && h.machines[g.is.UUID] != nil {
				return g.entry(), nil
			}
			return g.entry(), h.keep()
		}
	}
	return Entry{}, fmt.Errorf("%w: %s", errUnknown, m.Name)
}

// Define puts a machine on the list, or changes the one that has its UUID.
func (h *Host) Define(text []byte) (Entry, error) {
	is, err := machine.Describe(own.Name, text)
	if err == nil && (is.Name == "" || is.UUID == "") {
		err = errors.New("a machine has a name and a UUID")
	}
	if err == nil {
		err = h.traits.refuses(is)
	}
	if err != nil {
		return Entry{}, fmt.Errorf("%w: %w", errRefused, err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, g := range h.machines {
		if g.is.Name == is.Name && id != is.UUID {
			return Entry{}, fmt.Errorf("%w: another machine is called %s", errRefused, is.Name)
		}
	}
	if err := errors.Join(h.lies(is), h.forms(is)); err != nil {
		return Entry{}, err
	}
	g := h.machines[is.UUID]
	if g == nil {
		g = &guest{State: host.Off}
		h.machines[is.UUID] = g
	}
	g.Definition, g.is = string(text), is
	return g.entry(), h.keep()
}

// lies fails for a machine whose disks do not lie where they have to.
func (h *Host) lies(is machine.Machine) error {
	for _, d := range is.Disks {
		if d.File == "" { // refuses has looked at it
			continue
		}
		if h.traits.Looks && !h.seen[d.File] {
			return fmt.Errorf("%w: it knows no file %s: have it look", errRefused, d.File)
		}
		if !strings.HasPrefix(d.File, h.folder+"/") {
			return fmt.Errorf("%w: the disk %s does not lie in %s", errRefused, d.File, h.folder)
		}
		if h.traits.Folders && !slices.Contains(strings.Split(filepath.Dir(d.File), "/"), is.Name) {
			return fmt.Errorf("%w: the disks of %s lie in a folder of that name", errRefused, is.Name)
		}
	}
	return nil
}

// forms fails for a machine whose disks are of a form that is not accepted. Images that a host puts on disks are accepted on those that are.
func (h *Host) forms(is machine.Machine) error {
	for _, d := range is.Disks {
		if d.Remote != "" || takes(h.traits.Formats, d.Format) {
			continue
		}
		all, err := h.layersOf(context.Background(), d)
		if err != nil || !h.traits.Layers || len(all) < 2 || !takes(h.traits.Formats, all[len(all)-1].format) {
			return fmt.Errorf("%w: the disk %s is %s, and it takes %v", errRefused, d.Slot, d.Format, h.traits.Formats)
		}
	}
	return nil
}

// Forget takes a machine that is off from the list.
func (h *Host) Forget(m Which) error {
	_, err := h.do(m, func(g *guest) error {
		if g.State != host.Off {
			return fmt.Errorf("%w: it is %s", errState, g.State)
		}
		delete(h.machines, g.is.UUID)
		return nil
	})
	return err
}

// Start switches a machine on.
func (h *Host) Start(ctx context.Context, m Which) (Entry, error) {
	return h.do(m, func(g *guest) error {
		switch g.State {
		case host.Running:
			return nil
		case host.Suspended:
			g.start.writes.goOn()
			g.State = host.Running
			return nil
		}
		if h.traits.Maintenance {
			return fmt.Errorf("%w: the host is in maintenance", errRefused)
		}
		used := g.is.Memory
		for _, other := range h.machines {
			if other.State != host.Off {
				used += other.is.Memory
			}
		}
		if h.traits.Memory > 0 && used > h.traits.Memory {
			return fmt.Errorf("%w: no memory is left: %d MiB would be used of %d MiB", errRefused, used>>20, h.traits.Memory>>20)
		}
		return h.goOn(ctx, g, nil)
	})
}

// goOn starts a machine, from its memory where that is given, unless something has to be answered first: then it waits, switched on.
func (h *Host) goOn(ctx context.Context, g *guest, r *remembered) error {
	if h.traits.Asks && g.Came == "" && r == nil {
		g.State, g.start = host.Running, &start{console: []string{question}, asks: true}
		return nil
	}
	s, err := h.boot(ctx, g.is, r)
	if err != nil {
		return fmt.Errorf("%w: %w", errRefused, err)
	}
	g.State, g.start = host.Running, s
	return nil
}

const question = "Was this machine moved or copied?"

// Questions are what a machine waits for.
func (h *Host) Questions(m Which) (all []host.Question, err error) {
	all = []host.Question{}
	_, err = h.do(m, func(g *guest) error {
		if g.start != nil && g.start.asks {
			all = append(all, host.Question{ID: host.Identity, Text: question, Answers: []string{host.Moved, host.Copied}})
		}
		return nil
	})
	return all, err
}

// Answer answers the question, and lets the machine go on.
func (h *Host) Answer(ctx context.Context, m Which, id, answer string) (Entry, error) {
	return h.do(m, func(g *guest) error {
		if g.start == nil || !g.start.asks || id != host.Identity {
			return fmt.Errorf("%w: nothing was asked", errState)
		}
		if answer != host.Moved && answer != host.Copied {
			return fmt.Errorf("%w: it was %s or %s", errRefused, host.Moved, host.Copied)
		}
		g.Came = answer
		return h.goOn(ctx, g, nil)
	})
}

// Look has it know the files that are there.
func (h *Host) Look() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return filepath.WalkDir(h.folder, func(name string, _ fs.DirEntry, err error) error {
		if err == nil {
			h.seen[name] = true
		}
		if errors.Is(err, fs.ErrNotExist) { // it went meanwhile
			return nil
		}
		return err
	})
}

// ShutDown asks a guest to end, which it does when it is up and listens.
func (h *Host) ShutDown(m Which) (Entry, error) {
	return h.do(m, func(g *guest) error {
		if g.State == host.Running && (g.start.up && !h.traits.Deaf || g.start.asks) {
			g.off()
		}
		return nil
	})
}

// CutOff takes the power away.
func (h *Host) CutOff(m Which) (Entry, error) {
	return h.do(m, func(g *guest) error {
		g.off()
		return nil
	})
}

func (g *guest) off() {
	if g.State == host.Suspended {
		g.start.writes.goOn()
	}
	if g.start != nil {
		g.start.end()
	}
	g.State, g.start = host.Off, nil
}

// Seen is what is seen of a guest from outside.
type Seen struct {
	Read    int64  `json:"read"`    // bytes of its disks
	Written int64  `json:"written"` // likewise
	Up      bool   `json:"up"`      // its agent answers
	Console string `json:"console"`
}

// See tells what is seen of a machine that runs.
func (h *Host) See(m Which) (seen Seen, err error) {
	_, err = h.do(m, func(g *guest) error {
		if g.start == nil {
			return fmt.Errorf("%w: it is %s", errState, g.State)
		}
		seen = Seen{Read: g.start.read, Up: g.start.up, Console: strings.Join(g.start.console, "\n")}
		if g.start.writes != nil {
			seen.Written = g.start.writes.written.Load()
		}
		return nil
	})
	return seen, err
}

// Close switches everything off.
func (h *Host) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.machines {
		g.off()
	}
	if h.log != nil {
		_ = h.log.Close() // nobody writes any more
	}
}
