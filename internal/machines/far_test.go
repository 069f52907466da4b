package machines

import (
	"context"
	"errors"
	"io"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// noting notes what is done with it.
type noting struct {
	idle
	did []string
}

func (n *noting) Start(_ context.Context, m host.Machine) error {
	n.did = append(n.did, "start "+m.Name)
	return nil
}

func (n *noting) Define(_ context.Context, text []byte) (host.Machine, error) {
	n.did = append(n.did, "define "+string(text))
	return host.Machine{Name: "ticketing", Definition: text}, nil
}

func (n *noting) Machines(context.Context) ([]host.Machine, error) {
	return []host.Machine{
		{Name: "ticketing", Definition: []byte("its own")},
		{Name: "crew-roster", UUID: "u2", Definition: []byte("of another one")},
	}, nil
}

func (n *noting) Machine(context.Context, string) (host.Machine, error) {
	return host.Machine{}, host.ErrNoMachine
}

func (n *noting) Listen(_ context.Context, _ host.Machine, w io.Writer) error {
	_, err := io.WriteString(w, "The tides are up.")
	return err
}

func (n *noting) Forget(context.Context, host.Machine) error { return nil }

func (n *noting) Close() error { return nil }

// TestAPorterDoesWhatThePlanSays with a machine, on each of its hosts, and nothing with others.
func TestAPorterDoesWhatThePlanSays(t *testing.T) {
	from, to := &noting{}, &noting{}
	near := NewNear(from, to, plan.Machine{
		Name:       "ticketing",
		Definition: "new",
		Stored:     "old",
		Before:     machine.Machine{UUID: "u1"},
		Memory:     &plan.MemoryFile{WasFile: "/srv/ticketing.memory", NowFile: "/store/tickets.memory"},
		After:      machine.Machine{Name: "tickets", UUID: "u1"},
	})
	defer near.Close()
	ask := func(ctx context.Context, c Call) (Found, error) { return near.Do(ctx, c) }
	here, there := Far(false, ask), Far(true, ask)
	ctx := t.Context()
	was, its, other := host.Machine{
		Name: "ticketing",
		UUID: "u1",
	}, host.Machine{
		Name: "tickets",
		UUID: "u1",
	}, host.Machine{
		Name: "crew-roster",
		UUID: "u2",
	}

	require.NoError(t, there.Start(ctx, its))
	_, err := there.Define(ctx, []byte("new"))
	require.NoError(t, err)
	_, err = here.Define(ctx, []byte("old"))
	require.NoError(t, err)
	assert.Equal(t, []string{"start tickets", "define new"}, to.did)
	assert.Equal(t, []string{"define old"}, from.did)
	all, err := here.Machines(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "its own", string(all[0].Definition))
	assert.Empty(t, all[1].Definition, "that is nobody's business")
	var heard writes
	require.ErrorIs(t, there.Listen(ctx, its, &heard), io.EOF)
	assert.Equal(t, "The tides are up.", string(heard))

	for what, err := range map[string]error{
		"another one is started":     there.Start(ctx, other),
		"another one is cut off":     here.CutOff(ctx, other),
		"another one is forgotten":   here.Forget(ctx, other),
		"another one is listened to": there.Listen(ctx, other, io.Discard),
		"its name, another identity": there.Start(ctx, host.Machine{Name: "tickets", UUID: "u2"}),
		"its identity, another name": there.Start(ctx, host.Machine{Name: "crew-roster", UUID: "u1"}),
		"the old one, where it goes": there.Start(ctx, was),
		"one that is copied goes":    here.Forget(ctx, was),
		"one that may run on":        here.CutOff(ctx, was),
		"a state that it never had":  there.Adopt(ctx, its, host.Snapshot{Name: "spring"}),
		"a state that was not told":  there.Disown(ctx, its, "spring"),
		"memory, to another file":    here.Save(ctx, was, "/etc/passwd"),
		"memory, from another file":  there.Restore(ctx, its, "/store/crew-roster.memory", machine.Machine{}),
	} {
		assert.ErrorIs(t, err, host.ErrRefused, what)
	}
	require.ErrorIs(t, here.Save(ctx, was, "/srv/ticketing.memory"), errors.ErrUnsupported, "it gets through, and its host cannot")
	require.ErrorIs(t, there.Restore(ctx, its, "/store/tickets.memory"+plan.MemoryUsed, machine.Machine{}), errors.ErrUnsupported)
	_, err = there.Define(ctx, []byte("something else"))
	require.ErrorIs(t, err, host.ErrRefused)
	_, err = there.Machine(ctx, "crew-roster")
	require.ErrorIs(t, err, host.ErrRefused)
	_, err = there.Machine(ctx, "tickets")
	require.ErrorIs(t, err, host.ErrNoMachine)
	require.ErrorIs(t, there.Take(ctx, its, host.Taking{}), errors.ErrUnsupported, "what is needed for guests that run is not done this way")
	assert.Len(t, to.did, 2)
	assert.Len(t, from.did, 1)
}

type writes []byte

func (w *writes) Write(p []byte) (int, error) {
	*w = append(*w, p...)
	return len(p), nil
}
