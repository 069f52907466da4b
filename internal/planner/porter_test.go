package planner

import (
	"context"
	"errors"
	"testing"

	"bagaglio/core/plan"
	"bagaglio/internal/errand"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lines are porters that read from each other so fast, by readers and those that are read from.
type lines map[[2]string]float64

var errNoLine = errors.New("they do not reach each other")

func (lines) CanWork(context.Context, string) (int, error) { return 0, nil }

func (l lines) FromPeer(_ context.Context, reader, from string) (errand.Peer, error) {
	speed, ok := l[[2]string{reader, from}]
	if !ok {
		return errand.Peer{}, errNoLine
	}
	return errand.Peer{Porter: from, Speed: speed}, nil
}

// TestWhereADoerReads: what lies on its own computer there, and everything else at the porter that it is read from the fastest; what is written lies on its computer.
func TestWhereADoerReads(t *testing.T) {
	there := map[string]map[string]string{
		"annex":  {"lamp-room": "/srv/lamp", plan.DevicesOf("annex"): "/dev", "quay-store": "/mnt/quay"},
		"quay":   {"quay-store": "/srv/quay"},
		"beacon": {"gallery": "/srv/gallery", "attic": "/srv/attic"},
	}
	disk := func(id, from, to string) plan.Disk {
		return plan.Disk{ID: id, Request: plan.Request{
			Kind: plan.Copy, Source: plan.Place{Pool: from, Path: "a.raw"}, Destination: &plan.Place{Pool: to, Path: "a.raw"},
		}}
	}
	fit := func(l lines, name string, bodies ...plan.Disk) (Doer, error) {
		d := doing{
			planner: &Planner{porters: l},
			there:   there,
			Doer:    Doer{Porter: name, Ends: map[string]errand.Ends{}, Pools: map[string]errand.Lies{}},
		}
		err := d.fit(t.Context(), plan.Plan{Request: plan.Request{Kind: plan.Copy}, Bodies: bodies})
		return d.Doer, err
	}
	all := lines{{"beacon", "annex"}: 20e6, {"beacon", "quay"}: 90e6}
	d, err := fit(
		all,
		"beacon",
		disk("disk1", "lamp-room", "gallery"),
		disk("disk2", "quay-store", "gallery"),
		disk("disk3", "attic", "gallery"),
	)
	require.NoError(t, err)
	require.Len(t, d.From, 2)
	assert.Equal(t, "annex", d.Ends["disk1"].From.Porter)
	assert.Equal(
		t,
		errand.Ends{Source: "/srv/quay", Destination: "/srv/gallery", From: &errand.Peer{Porter: "quay", Speed: 90e6}},
		d.Ends["disk2"],
		"the faster one",
	)
	assert.Nil(t, d.Ends["disk3"].From)

	d, err = fit(lines{{"beacon", "annex"}: 20e6}, "beacon", disk("disk1", "quay-store", "gallery"))
	require.NoError(t, err)
	assert.Equal(t, "/mnt/quay", d.Ends["disk1"].Source, "the one that it reaches")
	_, err = fit(lines{}, "beacon", disk("disk1", "quay-store", "gallery"))
	require.ErrorIs(t, err, errNoLine)
	_, err = fit(all, "annex", disk("disk1", "lamp-room", "gallery"))
	require.ErrorIs(t, err, errApart, "what is written does not lie there")
	captured := disk("disk1", "lamp-room", "gallery")
	captured.Request.Source = plan.Place{Pool: plan.DevicesOf("annex"), Path: "sda"}
	_, err = fit(all, "beacon", captured)
	require.ErrorIs(t, err, errApart, "a disk of a computer is read there")
	proven := plan.Disk{ID: "disk1", Request: plan.Request{Kind: plan.Prove, Source: plan.Place{Pool: "lamp-room", Path: "a.raw"}}}
	other := doing{planner: &Planner{porters: all}, there: there, Doer: Doer{Porter: "beacon", Ends: map[string]errand.Ends{}}}
	require.ErrorIs(
		t,
		other.fit(t.Context(), plan.Plan{Request: proven.Request, Bodies: []plan.Disk{proven}}),
		errApart,
		"what is proven is read where it lies",
	)
}
