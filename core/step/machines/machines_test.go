package machines

import (
	"fmt"
	"testing"
	"testing/synctest"

	"bagaglio/core/host"
	"bagaglio/core/job"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage/volumes"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// carried is the plan for a machine of the quay whose disks are carried elsewhere, and a task for it.
func carried(t *testing.T, w *world, r plan.Request, m host.Machine) job.Task {
	t.Helper()
	is, err := machine.Describe(m.Format, m.Definition)
	require.NoError(t, err)
	f := plan.MachineFacts{
		Name:   m.Name,
		State:  string(m.State),
		Off:    m.State == host.Off,
		Format: m.Format,
		Text:   m.Definition,
		Is:     is,
		Disks: []plan.Place{
			{Pool: "quay-store", Path: "kiosk.raw"},
		},
		Pools:    map[string]plan.Reached{"lamp-room": {Host: r.To, Root: volumes.Ground{Folder: "/lamp"}}},
		ToFormat: "domain-xml",
		UUID:     "11111111-2222-5333-8444-555555555555",
		MACs:     []string{"52:54:00:aa:bb:cc"},
	}
	p := plan.ForMachine(r, f, nil)
	require.False(t, p.Blocked(), "%+v", p.Checks)
	ends := map[string]step.Ends{plan.MachineSubject: {From: w.quay, To: w.lighthouse}}
	if r.To == "quay" {
		ends[plan.MachineSubject] = step.Ends{From: w.quay, To: w.quay}
	}
	return job.Task{ID: "test-1", Ends: ends, Plan: p, Records: &notes{}, Asks: true}
}

func move() plan.Request {
	return plan.Request{
		Kind: plan.MoveMachine, Machine: "quay:gate-kiosk", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"},
		Stop: true, Start: true, Within: 10,
	}
}

// unhurried runs a part of a test in a time of its own, in which nobody waits.
func unhurried(t *testing.T, name string, f func(*testing.T)) {
	t.Run(name, func(t *testing.T) { synctest.Test(t, f) })
}

// TestEveryStepOfAMachine: a host that goes away at any operation makes the job wait, which goes on when it is back. Never do both run.
func TestEveryStepOfAMachine(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range []struct {
		name  string
		kind  string
		to    string
		stop  bool
		start bool
		was   host.State
		end   string
	}{
		{"move", plan.MoveMachine, "lighthouse", true, true, host.Running, "lighthouse:gate-kiosk running"},
		{"move, off", plan.MoveMachine, "lighthouse", false, false, host.Off, "lighthouse:gate-kiosk off"},
		{"move of its disks only", plan.MoveMachine, "quay", true, true, host.Running, "quay:gate-kiosk running"},
		{"copy", plan.CopyMachine, "lighthouse", true, true, host.Running, "lighthouse:trial running, quay:gate-kiosk running"},
		{"copy of what runs", plan.CopyMachine, "lighthouse", false, true, host.Running, "lighthouse:trial running, quay:gate-kiosk running"},
		{"copy of what is suspended", plan.CopyMachine, "lighthouse", false, false, host.Suspended, "lighthouse:trial off, quay:gate-kiosk suspended"},
	} {
		unhurried(t, c.name, func(t *testing.T) {
			r := move()
			r.Kind, r.To, r.Stop, r.Start = c.kind, c.to, c.stop, c.start
			if r.Kind == plan.CopyMachine {
				r.Name, r.Suspend = "trial", !c.stop
			}
			for n := 0; ; n++ {
				w := newWorld()
				task := carried(t, w, r, w.quay.has(t, kiosk, c.was))
				for _, s := range task.Plan.Steps {
					seen[s.Kind] = true
				}
				w.left = n
				done, err := task.Run(t.Context())
				if w.gone {
					require.ErrorIs(t, err, host.ErrGone, "operation %d", n)
					require.True(t, step.CanWait(err))
					w.gone, w.left = false, -1
					done, err = task.Run(t.Context())
				}
				require.NoError(t, err, "operation %d", n)
				assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
				assert.Equal(t, c.start, done.Machine.CameUp)
				assert.Equal(t, c.end, w.lists(), "operation %d", n)
				assert.Empty(t, w.twice)
				if w.left > 0 {
					break
				}
			}
		})
	}
	for _, kind := range []string{plan.StepOff, plan.StepDefine, plan.StepStart, plan.StepWatch, plan.StepCompare, plan.StepWithdraw} {
		assert.True(t, seen[kind], kind)
	}
}

// TestBackToWhereItWas: where the machine does not come up and a person says so, where its new host refuses it, and where the host goes away at
// any operation on the way back, all is as before.
func TestBackToWhereItWas(t *testing.T) { unhurried(t, "", backToWhereItWas) }

func backToWhereItWas(t *testing.T) {
	before := "quay:gate-kiosk running"
	for n := 0; ; n++ {
		w := newWorld()
		w.dead = true
		r := move()
		r.Within = 1
		task := carried(t, w, r, w.quay.has(t, kiosk, host.Running))
		_, err := task.Run(t.Context())
		q, asks := step.Asked(err)
		require.True(t, asks, "%v", err)
		require.True(t, q.Has(answerBack) && q.Has(answerAgain) && q.Has(answerKeep) && q.Has(answerUp))
		assert.Equal(t, "lighthouse:gate-kiosk running, quay:gate-kiosk off", w.lists())
		task.Answer = step.Answer{Step: q.Step, Name: answerBack}
		w.left = n
		_, err = task.Run(t.Context())
		if !w.gone {
			require.ErrorIs(t, err, errNotUp)
			assert.Equal(t, before, w.lists())
			break
		}
		w.gone, w.left = false, -1
		_, err = task.Run(t.Context()) // it was going back, and goes on with that
		require.ErrorContains(t, err, errNotUp.Error(), "operation %d", n)
		assert.Equal(t, before, w.lists(), "operation %d", n)
		assert.Empty(t, w.twice)
	}

	w := newWorld()
	task := carried(t, w, move(), w.quay.has(t, kiosk, host.Running))
	w.lighthouse.refuses = fmt.Errorf("%w: there is no room", host.ErrRefused)
	done, err := task.Run(t.Context())
	require.ErrorContains(t, err, "there is no room")
	assert.Equal(t, receipt.Failed, done.Outcome)
	assert.Equal(t, before, w.lists(), "it runs again where it was")
}

// TestWhatAPersonAnswers to a machine that was not seen to come up.
func TestWhatAPersonAnswers(t *testing.T) {
	unhurried(t, "", whatAPersonAnswers)
}

func whatAPersonAnswers(t *testing.T) {
	for answer, want := range map[string]struct {
		outcome receipt.Outcome
		lists   string
	}{
		answerUp:   {receipt.Proven, "lighthouse:gate-kiosk running"},
		answerKeep: {receipt.Unproven, "lighthouse:gate-kiosk off, quay:gate-kiosk off"},
	} {
		w := newWorld()
		w.dead = true
		r := move()
		r.Within = 1
		task := carried(t, w, r, w.quay.has(t, kiosk, host.Running))
		_, err := task.Run(t.Context())
		q, asks := step.Asked(err)
		require.True(t, asks, "%v", err)
		task.Answer = step.Answer{Step: q.Step, Name: answer}
		done, err := task.Run(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want.outcome, done.Outcome, answer)
		assert.Equal(t, answer == answerUp, done.Machine.CameUp)
		assert.Equal(t, want.lists, w.lists(), answer)
	}
}

// TestWhatStandsInTheWay of a machine when the job has begun: it is another one by now, it was changed, it runs and was not to be stopped, or
// somebody took its name or identity in the new place.
func TestWhatStandsInTheWay(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(*testing.T, *world, host.Machine)
		want string
	}{
		"gone":    {func(_ *testing.T, w *world, m host.Machine) { delete(w.quay.machines, m.UUID) }, "is not there any more"},
		"changed": {func(t *testing.T, w *world, _ host.Machine) { w.quay.has(t, more(kiosk), host.Off) }, "was changed since"},
		"started": {func(_ *testing.T, w *world, m host.Machine) { w.quay.machines[m.UUID].State = host.Running }, "is running"},
		"saved":   {func(_ *testing.T, w *world, m host.Machine) { w.quay.machines[m.UUID].State = host.Saved }, "is saved"},
		"name": {func(t *testing.T, w *world, _ host.Machine) {
			w.lighthouse.has(t, other(kiosk, "gate-kiosk"), host.Off)
		}, "Another machine has come to be"},
	} {
		unhurried(t, name, func(t *testing.T) {
			w := newWorld()
			r := move()
			r.Stop = false
			m := w.quay.has(t, kiosk, host.Off)
			task := carried(t, w, r, m)
			c.do(t, w, m)
			before := w.lists()
			_, err := task.Run(t.Context())
			require.ErrorIs(t, err, step.ErrBlocked)
			require.ErrorContains(t, err, c.want)
			assert.Equal(t, before, w.lists(), "nothing was done")
		})
	}
}

// TestALogin: a guest that asks for one on its serial port is up. What it wrote is in the receipt, with nothing in it that a terminal would obey.
func TestALogin(t *testing.T) {
	for says, up := range map[string]bool{"starting\x1b[2J\r\n\nlighthouse login: ": true, "lighthouse login: \r\nPanic": false} {
		unhurried(t, says, func(t *testing.T) {
			w := newWorld()
			w.dead, w.says = true, says
			done, err := carried(t, w, move(), w.quay.has(t, kiosk, host.Running)).Run(t.Context())
			if !up {
				_, asks := step.Asked(err)
				require.True(t, asks, "%v", err)
				return
			}
			require.NoError(t, err)
			assert.True(t, done.Machine.CameUp)
			assert.Equal(t, []string{"starting[2J", "lighthouse login:"}, done.Machine.Console)
			assert.Contains(t, done.Machine.Evidence, "it asks for a login on its serial port")
		})
	}
}

// TestAGuestThatDoesNotEnd is cut off only when a person says so.
func TestAGuestThatDoesNotEnd(t *testing.T) {
	for answer, lists := range map[string]string{answerBack: "quay:gate-kiosk running", answerCutOff: "lighthouse:gate-kiosk running"} {
		unhurried(t, answer, func(t *testing.T) {
			w := newWorld()
			w.deaf = true
			task := carried(t, w, move(), w.quay.has(t, kiosk, host.Running))
			_, err := task.Run(t.Context())
			q, asks := step.Asked(err)
			require.True(t, asks, "%v", err)
			assert.Equal(t, "quay:gate-kiosk running", w.lists())
			task.Answer = step.Answer{Step: q.Step, Name: answer}
			done, err := task.Run(t.Context())
			assert.Equal(t, answer == answerBack, err != nil)
			assert.Equal(t, lists, w.lists())
			if answer == answerCutOff {
				assert.Contains(t, done.Machine.Evidence[0], "was cut off when a person said so")
			}
		})
	}
}

// TestWhatAHostAsks: whether a machine was moved or copied is answered by itself, anything else by a person, who may go back instead.
func TestWhatAHostAsks(t *testing.T) { unhurried(t, "", whatAHostAsks) }

func whatAHostAsks(t *testing.T) {
	licence := host.Question{ID: "licence", Text: "Is there a licence?", Answers: []string{"yes", "no"}}
	for _, row := range []struct {
		kind, identity, answer string
		answered               []string
		lists                  string
	}{
		{plan.MoveMachine, "", "yes", []string{"identity moved", "licence yes"}, "lighthouse:gate-kiosk running"},
		{plan.CopyMachine, "", "no", []string{"identity copied", "licence no"}, "lighthouse:gate-kiosk running, quay:gate-kiosk running"},
		{plan.CopyMachine, plan.KeepIdentity, "no", []string{"identity moved", "licence no"}, "lighthouse:gate-kiosk running, quay:gate-kiosk off"},
		{plan.MoveMachine, "", answerBack, []string{"identity moved"}, "quay:gate-kiosk running"},
	} {
		w := newWorld()
		w.lighthouse.asks = []host.Question{{ID: host.Identity, Text: "?", Answers: []string{host.Moved, host.Copied}}, licence}
		r := move()
		r.Kind, r.Identity = row.kind, row.identity
		task := carried(t, w, r, w.quay.has(t, kiosk, host.Running))
		_, err := task.Run(t.Context())
		q, asks := step.Asked(err)
		require.True(t, asks, "%v", err)
		assert.Equal(t, "lighthouse asks about gate-kiosk: Is there a licence?", q.Text)
		assert.Len(t, q.Answers, 3)
		task.Answer = step.Answer{Step: q.Step, Name: row.answer}
		_, err = task.Run(t.Context())
		assert.Equal(t, row.answer == answerBack, err != nil, "%v", err)
		assert.Equal(t, row.answered, w.lighthouse.answered)
		assert.Equal(t, row.lists, w.lists())
		assert.Empty(t, w.twice)
	}
}
