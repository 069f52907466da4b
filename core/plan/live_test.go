package plan

import (
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	_ "bagaglio/core/machine/own"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhoMovesWhileItRuns: what stands in the way is said before, with moving it shut down as a remedy; and what is asked for makes sense.
func TestWhoMovesWhileItRuns(t *testing.T) {
	request := Request{Kind: MoveMachine, Machine: "quay:ticketing", To: "quay", Destination: &Place{Pool: "gallery"}, Live: true}
	away := request
	away.To = "lighthouse"
	facts := MachineFacts{
		Name:        "ticketing",
		State:       string(host.Running),
		Format:      "machine-file",
		ToFormat:    "machine-file",
		Layers:      true,
		LayersThere: true,
	}
	with := func(change func(*MachineFacts)) MachineFacts {
		f := facts
		change(&f)
		return f
	}
	for want, c := range map[string]struct {
		r Request
		f MachineFacts
	}{
		"quay cannot put the disks":     {request, with(func(f *MachineFacts) { f.Layers = false })},
		"It has snapshots (may)":        {request, with(func(f *MachineFacts) { f.Kept = []host.Snapshot{{Name: "may"}} })},
		"lighthouse cannot put":         {away, with(func(f *MachineFacts) { f.LayersThere = false })},
		"It is suspended":               {away, with(func(f *MachineFacts) { f.State = string(host.Suspended) })},
		"written to as long as it runs": {away, with(func(f *MachineFacts) { f.Is = machine.Machine{Variables: "/vars"} })},
	} {
		p := ForMachine(c.r, c.f, nil)
		require.True(t, p.Blocked(), want)
		found := false
		for _, check := range p.With(Blocks) {
			if check.Name == "live" && len(check.Remedies) > 0 {
				assert.JSONEq(t, `{
					"live":null,"longest_stop":null,"with_memory":null,"keep_every":null,"keep_after":null,"stop":true,"start":true
				}`, string(check.Remedies[0].Change))
				assert.Contains(t, check.Message, want)
				found = true
			}
		}
		assert.True(t, found, want)
	}
	for _, wrong := range []func(*Request){
		func(r *Request) { r.Kind = CopyMachine }, func(r *Request) { r.Stop = true }, func(r *Request) { r.Start = true },
		func(r *Request) { r.Name = "other" }, func(r *Request) { r.Changes.Memory = 1 << 30 }, func(r *Request) { r.To = "" },
		func(r *Request) { r.LongestStop = -1 }, func(r *Request) { r.LongestStop = 4000 }, func(r *Request) { r.Destination = nil },
		func(r *Request) { r.WithMemory = true }, func(r *Request) { r.To, r.WithMemory, r.KeepEvery = "lighthouse", true, 3600 },
		func(r *Request) { r.To, r.Live, r.WithMemory = "lighthouse", false, true },
		func(r *Request) { r.Live, r.LongestStop = false, 30 }, func(r *Request) { r.Networks = map[string]string{"a": "b"} },
	} {
		r := request
		wrong(&r)
		require.ErrorIs(t, r.Validate(), ErrRequest, "%+v", r)
	}
	require.NoError(t, request.Validate())
	require.NoError(t, away.Validate())
}

// TestMemoryGoesAlong where both hosts can do that; the plan says how long it stands still for it, about.
func TestMemoryGoesAlong(t *testing.T) {
	r := Request{
		Kind: MoveMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &Place{Pool: "lamp-room"}, Live: true, WithMemory: true,
	}
	require.NoError(t, r.Validate())
	facts := MachineFacts{
		Name: "ticketing", State: string(host.Running), Format: "machine-file", ToFormat: "machine-file", Layers: true, LayersThere: true,
		Is: machine.Machine{Memory: 1 << 30},
	}
	for want, has := range map[string][2]bool{"quay does not write": {false, true}, "lighthouse does not write": {true, false}, "": {true, true}} {
		f := facts
		f.Saves, f.SavesThere = has[0], has[1]
		p := ForMachine(r, f, nil)
		said := ""
		for _, c := range p.Checks {
			if c.Name == "memory" {
				said = c.Message
				assert.JSONEq(t, `{"with_memory":null}`, string(c.Remedies[0].Change))
			}
			if want == "" && c.Name == "live" && c.Severity == Informs {
				said = c.Message
			}
		}
		if want == "" {
			want = "1.0 GiB (1,073,741,824 bytes) at most, about 11s"
		}
		assert.Contains(t, said, want)
	}
}

// TestImagesOfPasses have names of their own, and are told from others.
func TestImagesOfPasses(t *testing.T) {
	d := LiveDisk{
		Cover: Place{
			Pool: "quay-store",
			Path: "a/t-cafe-meanwhile.qcow2",
		},
		CoverAt: "/quay/a/t-cafe-meanwhile.qcow2",
		Top:     Place{Pool: "lamp-room", Path: "t-cafe-since.qcow2"},
	}
	m := Machine{Host: "quay", To: "lighthouse", Live: []LiveDisk{d}}
	seen := map[string]bool{}
	for n := range 12 {
		cover, at, copied := d.Pass(n)
		assert.True(t, m.Covers(cover.Path))
		assert.True(t, m.Covers("gallery:"+cover.Path), "as it is seen in another pool")
		assert.Equal(t, "/quay/"+cover.Path, at)
		assert.False(t, seen[cover.Path] || seen[copied.Path])
		assert.NotEqual(t, d.Top, copied)
		seen[cover.Path], seen[copied.Path] = true, true
	}
	for _, other := range []string{"a/t.qcow2", "a/t-cafe-meanwhile-x.qcow2", "a/t-beef-meanwhile.qcow2"} {
		assert.False(t, m.Covers(other), other)
	}
	assert.True(t, m.Away())
}
