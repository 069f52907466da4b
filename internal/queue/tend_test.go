package queue

import (
	"errors"
	"testing"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/internal/records"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHoursLastOverMidnight(t *testing.T) {
	at := func(clock string) time.Time {
		now, err := time.Parse("15:04", clock)
		require.NoError(t, err)
		return now
	}
	for _, c := range []struct {
		hours, now string
		want       bool
	}{
		{"", "12:00", true}, {"08:00-17:00", "08:00", true}, {"08:00-17:00", "16:59", true}, {"08:00-17:00", "17:00", false}, {"08:00-17:00", "03:00", false},
		{"22:00-06:00", "23:59", true}, {"22:00-06:00", "00:00", true}, {"22:00-06:00", "05:59", true}, {"22:00-06:00", "06:00", false}, {"22:00-06:00", "21:59", false},
	} {
		assert.Equal(t, c.want, within(c.hours, at(c.now)), "%s at %s", c.hours, c.now)
	}
	for _, wrong := range []string{"22-06", "24:00-06:00", "22:00-06:60", "22:00", "night"} {
		require.ErrorIs(t, checkHours(wrong), records.ErrInvalid, wrong)
	}
}

// TestClockJumps: with a clock that jumped nothing expires.
func TestClockJumps(t *testing.T) {
	begin := time.Now()
	assert.False(t, jumped(begin, time.Hour, begin.Add(time.Hour+time.Minute).Round(0)))
	assert.True(t, jumped(begin, time.Hour, begin.AddDate(1, 0, 0).Round(0)))
	assert.True(t, jumped(begin, time.Hour, begin.AddDate(-20, 0, 0).Round(0)))
}

// TestTryAgain: what is blocked is tried at once when a machine has changed; any other trouble waits for its time.
func TestTryAgain(t *testing.T) {
	later := time.Now().Add(time.Hour)
	q := &Queue{troubles: map[int64]trouble{
		1: {err: &step.BlockedError{Check: plan.Check{Name: "in-use"}}, next: later}, 2: {err: errors.New("the host is gone"), next: later},
	}}
	q.TryAgain()
	assert.False(t, q.troubles[1].next.After(time.Now()))
	assert.Equal(t, later, q.troubles[2].next)
}
