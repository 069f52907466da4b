package machines

import (
	"fmt"
	"strings"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTriedOtherwise: a machine that does not come up is tried with another firmware and with other buses, each as a person says, until it is up;
// what it became is what is compared, and what the host refuses is asked about.
func TestTriedOtherwise(t *testing.T) { unhurried(t, "", triedOtherwise) }

func triedOtherwise(t *testing.T) {
	w := newWorld()
	w.dead = true
	r := move()
	r.Within = 1
	task := carried(t, w, r, w.quay.has(t, kiosk, host.Running))
	_, err := task.Run(t.Context())
	answer := func(name string) error {
		q, asks := step.Asked(err)
		require.True(t, asks, "%v", err)
		require.True(t, q.Has(name))
		task.Answer = step.Answer{Step: q.Step, Name: name}
		_, err := task.Run(t.Context())
		return err
	}
	now := func() machine.Machine {
		for _, m := range w.lighthouse.machines {
			is, err := machine.Describe("domain-xml", m.Definition)
			require.NoError(t, err)
			return is
		}
		return machine.Machine{}
	}
	err = answer(answerFirmware)
	assert.Equal(t, machine.UEFI, now().Firmware)
	err = answer(answerFirmware)
	assert.Equal(t, machine.BIOS, now().Firmware)
	w.lighthouse.refuses = fmt.Errorf("%w: no such bus", host.ErrRefused)
	err = answer(answerBus)
	require.ErrorContains(t, err, "no such bus")
	assert.Equal(t, "virtio", now().Disks[0].Bus)
	w.lighthouse.refuses = nil
	err = answer(answerBus)
	assert.Equal(t, "ide hda", now().Disks[0].Bus+" "+now().Disks[0].Slot)
	w.dead = false
	q, _ := step.Asked(err)
	task.Answer = step.Answer{Step: q.Step, Name: answerBus}
	done, err := task.Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
	assert.True(t, done.Machine.CameUp)
	assert.Empty(t, done.Machine.Unasked)
	assert.Contains(t, strings.Join(done.Machine.Evidence, "\n"), "tried with its disks on the bus scsi")
	assert.Contains(t, done.Machine.Differences, machine.Difference{What: "disk 1, bus", Before: "virtio", After: "scsi"})
	assert.Equal(t, "lighthouse:gate-kiosk running", w.lists())
	assert.Empty(t, w.twice)
}
