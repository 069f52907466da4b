package machines

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
	"slices"
	"strings"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	_ "bagaglio/core/machine/all"
	"bagaglio/core/step"

	"github.com/stretchr/testify/require"
)

// world is two hosts whose guests end and come up at once. It notes when a machine runs twice, and goes away at an operation.
type world struct {
	quay, lighthouse *fake
	left             int // operations until it is gone; negative for never
	gone             bool
	twice            []string // what ran on both
	deaf             bool     // guests do not end
	dead             bool     // guests do not come up
	faint, fainted   bool     // those do not that were on when it went away, until they are started once more
	recalled         []string // files from which machines went on
	says             string   // what they write on their serial ports
}

type fake struct {
	world    *world
	machines map[string]*host.Machine // by UUID
	refuses  error                    // to define
	asks     []host.Question          // when a machine is started
	answered []string
	kept     []host.Snapshot // of its machine
	layers   layered
	away     bool // not to be reached
}

func newWorld() *world {
	w := &world{left: -1}
	w.quay, w.lighthouse = &fake{world: w, machines: map[string]*host.Machine{}}, &fake{world: w, machines: map[string]*host.Machine{}}
	return w
}

// op is an operation on a host. Going away is noticed by whoever asks, before it is done or behind it.
func (f *fake) op(do func() error) error {
	w := f.world
	if w.gone || f.away {
		return host.ErrGone
	}
	if w.left == 0 { // what was asked for is not done any more, or done without an answer
		w.gone, w.fainted = true, w.faint
		if w.twice == nil && len(w.quay.machines)%2 == 0 {
			_ = do()
		}
		return host.ErrGone
	}
	if w.left > 0 {
		w.left--
	}
	f.layers.write(f.machines)
	err := do()
	for id, m := range w.quay.machines {
		if other := w.lighthouse.machines[id]; other != nil && m.State == host.Running && other.State == host.Running {
			w.twice = append(w.twice, m.Name)
		}
	}
	return err
}

func (f *fake) Machines(context.Context) (all []host.Machine, err error) {
	err = f.op(func() error {
		for _, id := range slices.Sorted(maps.Keys(f.machines)) {
			all = append(all, *f.machines[id])
		}
		return nil
	})
	return all, err
}

func (f *fake) Machine(_ context.Context, name string) (m host.Machine, err error) {
	err = f.op(func() error {
		for _, x := range f.machines {
			if x.Name == name {
				m = *x
				return nil
			}
		}
		return host.ErrNoMachine
	})
	return m, err
}

func (f *fake) set(m host.Machine, s host.State) error {
	return f.op(func() error {
		x := f.machines[m.UUID]
		if x == nil {
			return host.ErrNoMachine
		}
		if x.State == host.Off {
			f.world.fainted = false
		}
		x.State = s
		return nil
	})
}

func (f *fake) Start(_ context.Context, m host.Machine) error { return f.set(m, host.Running) }

func (f *fake) ShutDown(_ context.Context, m host.Machine) error {
	if f.world.deaf {
		return f.op(func() error { return nil })
	}
	return f.set(m, host.Off)
}

func (f *fake) CutOff(_ context.Context, m host.Machine) error { return f.set(m, host.Off) }

func (f *fake) Screen(context.Context, host.Machine) ([]byte, error) {
	return nil, f.op(func() error { return errors.ErrUnsupported })
}

func (f *fake) Signs(context.Context, host.Machine) (s host.Signs, err error) {
	return host.Signs{Agent: !f.world.dead && !f.world.fainted}, f.op(func() error { return nil })
}

func (f *fake) Define(_ context.Context, text []byte) (m host.Machine, err error) {
	err = f.op(func() error {
		if f.refuses != nil {
			return f.refuses
		}
		is, err := machine.Describe("domain-xml", text)
		if err != nil {
			return err
		}
		for id, x := range f.machines {
			if x.Name == is.Name && id != is.UUID {
				return fmt.Errorf("%w: the name is taken", host.ErrRefused)
			}
		}
		m = host.Machine{Name: is.Name, UUID: is.UUID, State: host.Off, Format: "domain-xml", Definition: text}
		if old := f.machines[is.UUID]; old != nil {
			m.State = old.State
		}
		f.machines[is.UUID] = &m
		return nil
	})
	return m, err
}

func (f *fake) Forget(_ context.Context, m host.Machine) error {
	return f.op(func() error {
		if x := f.machines[m.UUID]; x != nil && x.State != host.Off {
			return fmt.Errorf("%w: it runs", host.ErrRefused)
		}
		delete(f.machines, m.UUID)
		return nil
	})
}

func (f *fake) StartWithHost(_ context.Context, m host.Machine, yes bool) error {
	return f.op(func() error {
		if x := f.machines[m.UUID]; x != nil {
			x.WithHost = yes
		}
		return nil
	})
}

func (f *fake) Suspend(_ context.Context, m host.Machine) error { return f.set(m, host.Suspended) }
func (f *fake) Resume(_ context.Context, m host.Machine) error  { return f.set(m, host.Running) }

func (f *fake) Listen(_ context.Context, _ host.Machine, w io.Writer) error {
	_, err := io.WriteString(w, f.world.says)
	return err
}

func (f *fake) Questions(context.Context, host.Machine) (all []host.Question, err error) {
	return f.asks, f.op(func() error { return nil })
}

func (f *fake) Answer(_ context.Context, _ host.Machine, question, answer string) error {
	return f.op(func() error {
		f.asks = slices.DeleteFunc(slices.Clone(f.asks), func(q host.Question) bool { return q.ID == question })
		f.answered = append(f.answered, question+" "+answer)
		return nil
	})
}

func (f *fake) Look(context.Context) error {
	return f.op(func() error { return errors.ErrUnsupported })
}

func (f *fake) Attach(_ context.Context, m host.Machine, d machine.Disk) error {
	return f.disks(m, func(is *machine.Machine) {
		d.Slot = machine.FreeSlot(d.Bus, is.Disks...)
		is.Disks = append(is.Disks, d)
	})
}

func (f *fake) Detach(_ context.Context, m host.Machine, slot string) error {
	return f.disks(m, func(is *machine.Machine) {
		is.Disks = slices.DeleteFunc(is.Disks, func(d machine.Disk) bool { return d.Slot == slot })
	})
}

// disks changes those of a machine.
func (f *fake) disks(m host.Machine, change func(*machine.Machine)) error {
	return f.op(func() error {
		x := f.machines[m.UUID]
		is, err := machine.Describe(x.Format, x.Definition)
		if err == nil {
			change(&is)
			x.Definition, err = machine.Become(nil, "", x.Format, is)
		}
		return err
	})
}

func (f *fake) Snapshots(context.Context, host.Machine) (all []host.Snapshot, err error) {
	err = f.op(func() error { all = slices.Clone(f.kept); return nil })
	return all, err
}

func (f *fake) Take(_ context.Context, _ host.Machine, t host.Taking) error {
	return f.op(func() error {
		parent := ""
		for i := range f.kept {
			if f.kept[i].Present {
				parent, f.kept[i].Present = f.kept[i].Name, false
			}
		}
		f.kept = append(f.kept, host.Snapshot{Name: t.Name, Notes: t.Notes, Parent: parent, Present: true})
		return nil
	})
}

func (f *fake) GoBack(_ context.Context, _ host.Machine, name string) error {
	return f.op(func() error {
		for i := range f.kept {
			f.kept[i].Present = f.kept[i].Name == name
		}
		return nil
	})
}

func (f *fake) Drop(_ context.Context, _ host.Machine, name string) error {
	return f.op(func() error {
		f.kept = slices.DeleteFunc(f.kept, func(s host.Snapshot) bool { return s.Name == name })
		return nil
	})
}

func (f *fake) Adopt(_ context.Context, _ host.Machine, s host.Snapshot) error {
	return f.op(func() error { f.kept = append(f.kept, s); return nil })
}

func (f *fake) Disown(ctx context.Context, m host.Machine, name string) error {
	return f.Drop(ctx, m, name)
}

func (f *fake) Close() error { return nil }

// lists says in a line which machines there are and what they do.
func (w *world) lists() string {
	var all []string
	for name, f := range map[string]*fake{"quay": w.quay, "lighthouse": w.lighthouse} {
		for _, m := range f.machines {
			all = append(all, name+":"+m.Name+" "+string(m.State))
		}
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}

const kiosk = `<domain><name>gate-kiosk</name><uuid>0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1</uuid><memory unit="MiB">64</memory><vcpu>1</vcpu>
<os><type machine="q35">hvm</type></os><devices>
<disk type="file" device="disk"><driver type="raw"/><source file="/quay/kiosk.raw"/><target dev="vda" bus="virtio"/></disk>
<interface type="network"><mac address="52:54:00:00:00:01"/><source network="quay"/></interface></devices></domain>`

// has makes the machine known to a host.
func (f *fake) has(t *testing.T, text string, s host.State) host.Machine {
	t.Helper()
	m, err := f.Define(t.Context(), []byte(text))
	require.NoError(t, err)
	f.machines[m.UUID].State = s
	return *f.machines[m.UUID]
}

// notes are records in memory.
type notes struct{ journal *step.Journal }

func (n *notes) Load(context.Context) (*step.Journal, error) { return n.journal, nil }

func (n *notes) Keep(_ context.Context, j step.Journal, _ *step.Mark) error {
	j.Subjects = maps.Clone(j.Subjects)
	n.journal = &j
	return nil
}

func (n *notes) Marks(context.Context, string) iter.Seq2[[]byte, error] {
	return func(func([]byte, error) bool) {}
}

func (n *notes) Forget(_ context.Context, _ string, j step.Journal) error {
	n.journal = &j
	return nil
}

// more is the definition of a machine with more memory, and other that of another machine with a name.
func more(text string) string { return strings.Replace(text, ">64<", ">128<", 1) }

func other(text, name string) string {
	text = strings.Replace(text, "0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", "99999999-39b4-4e4b-9a53-6c3b5ad0a8f1", 1)
	return strings.Replace(text, "<name>gate-kiosk", "<name>"+name, 1)
}
