package service

import (
	"testing"
	"time"

	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAPorterCapturesDevices of its computer, whole, also one that is written to meanwhile: nothing of them goes over the line. One that is to be written over stays with the service.
func TestAPorterCapturesDevices(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	s, p, _ := annex(t, 1<<20)
	whole := captured(l, "kiosk.qcow2")
	whole.UsedOnly, whole.Without = false, nil
	whole.Source.Pool, whole.Destination.Pool = plan.DevicesOf("annex"), "annex-store"
	before := p.Line.Bytes.Load()
	job := testkit.Begin(t, s.Service, whole)
	assert.Contains(t, checkOf(t, *job.Plan), "The porter annex does it")
	assert.Equal(t, "annex", testkit.Proven(t, s.Service, job.Id).Porter)

	tellsWrites(t, l)
	at, umount := l.Mount(2, "rw")
	count, stop := keepsALedger(t, at)
	require.Eventually(t, func() bool { return count() > 300 }, time.Minute, time.Millisecond)
	used := inUse(whole, plan.InUseKeepUp)
	used.LongestFreeze, used.Destination = 30, &plan.Place{Pool: "annex-store", Path: "in-use.qcow2"}
	written := count()
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, used).Id)
	assert.Equal(t, "annex", done.Porter)
	now := count()
	assert.Less(t, p.Line.Bytes.Load()-before, int64(40<<20), "what goes over the line")
	stop()
	umount()
	isOneMoment(t, ledgerOf(t, s, *used.Destination), written, now)

	over := plan.Request{Kind: plan.WriteBack, Source: plan.Place{Pool: "annex-store", Path: "ticketing.raw"}, Destination: &whole.Source}
	kept, err := s.Plan(t.Context(), over)
	require.NoError(t, err)
	assert.Contains(t, checkOf(t, kept.Plan), "The service does it: a physical disk is written over")
}
