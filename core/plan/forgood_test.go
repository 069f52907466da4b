package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestForGood: what nothing brings back is said, and nothing else is.
func TestForGood(t *testing.T) {
	quay := &Place{Pool: "quay-store", Path: "ticketing.raw"}
	over := Step{
		Kind: StepOverwrite,
		Uses: []Use{{Pool: DevicesOf("local"), Path: "sdb", Writes: true}, {Pool: "quay-store", Path: "ticketing.raw"}},
	}
	back := over
	back.Back = true
	for name, c := range map[string]struct {
		plan Plan
		gone []string
	}{
		"a copy":                       {Plan{Request: Request{Kind: Copy, Destination: quay}}, nil},
		"a move, whose source is held": {Plan{Request: Request{Kind: Copy, Destination: quay, Release: true, Replace: true}}, nil},
		"room is made":                 {Plan{Request: Request{Kind: Copy, Destination: quay, ClearHeld: true}}, []string{"what quay-store holds of replaced disks"}},
		"room is made for a machine": {
			Plan{Request: Request{Kind: MoveMachine}, Bodies: []Disk{{Request: Request{Destination: quay, ClearHeld: true}}, {Request: Request{Destination: quay, ClearHeld: true}}}},
			[]string{"what quay-store holds of replaced disks"},
		},
		"a device is written over":  {Plan{Request: Request{Kind: WriteBack}, Steps: []Step{over}}, []string{"what is on local:/dev/sdb"}},
		"that is taken back":        {Plan{Request: Request{Kind: Undo}, Steps: []Step{back}}, nil},
		"a snapshot is dropped":     {Plan{Request: Request{Kind: DropSnapshot, Machine: "quay:crew", Snapshot: "spring"}}, []string{"the snapshot spring of quay:crew"}},
		"a machine goes back":       {Plan{Request: Request{Kind: GoBack, Machine: "quay:crew", Snapshot: "spring"}}, []string{"the present state of quay:crew"}},
		"its present state is kept": {Plan{Request: Request{Kind: GoBack, Machine: "quay:crew", Snapshot: "spring", KeepPresent: "now"}}, nil},
		"a list only forgets one":   {Plan{Request: Request{Kind: DropSnapshot, Machine: "quay:crew", Snapshot: "spring", ListOnly: true}}, nil},
		"a snapshot is taken":       {Plan{Request: Request{Kind: TakeSnapshot, Machine: "quay:crew", Snapshot: "spring"}}, nil},
	} {
		assert.Equal(t, c.gone, c.plan.ForGood(), name)
	}
}

// TestTouches: all that a plan reads or changes, also definitions that follow into other pools.
func TestTouches(t *testing.T) {
	p := Plan{
		Request: Request{
			Kind:        MoveMachine,
			Machine:     "quay:crew",
			To:          "lighthouse",
			Destination: &Place{Pool: "lamp-room"},
			Disks:       map[string]DiskChoice{"vda": {Pool: "lantern"}},
		},
		Bodies: []Disk{{
			Request:   Request{Source: Place{Pool: "quay-store"}, AgainstDisk: &Place{Pool: DevicesOf("pier"), Path: "sdb"}},
			Handovers: []Handover{{Pool: "papers", To: &Place{Pool: "seabag"}}},
		}},
		Steps: []Step{{Uses: []Use{{Pool: "bases"}, {Pool: "quay-store"}}}},
	}
	pools, hosts := p.Touches()
	assert.Equal(t, []string{"bases", "lamp-room", "lantern", "papers", "quay-store", "seabag"}, pools)
	assert.Equal(t, []string{"lighthouse", "pier", "quay"}, hosts)
	_, hosts = Request{Kind: HandDisk, Machine: "quay:crew", To: "lighthouse:ticketing"}.Touches()
	assert.Equal(t, []string{"lighthouse", "quay"}, hosts)
}
