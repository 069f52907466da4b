package standin

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
)

// layered is one that puts images on the disks of machines that run.
type layered struct{ *Host }

// layering is what is asked to be done with what disks are stored in, and with memory.
type layering struct {
	Layers     map[string]string `json:",omitempty"`
	AtRest     bool              `json:",omitempty"`
	From, Into string            `json:",omitempty"`
	To         machine.Disk
}

func ofDisk(m host.Machine, slot, what string) string {
	return at(m, "/disks/"+url.PathEscape(slot)+what)
}

func (h *layered) halting(ctx context.Context, path string, what layering) (time.Duration, error) {
	var told struct{ Halted int64 }
	err := h.send(ctx, path, what, &told)
	return time.Duration(told.Halted), err
}

// Cover puts new images on disks.
func (h *layered) Cover(ctx context.Context, m host.Machine, layers map[string]string, atRest bool) (time.Duration, error) {
	return h.halting(ctx, at(m, "/cover"), layering{Layers: layers, AtRest: atRest})
}

// Merge writes down into a file what lies above it.
func (h *layered) Merge(ctx context.Context, m host.Machine, slot, into string) (time.Duration, error) {
	return h.halting(ctx, ofDisk(m, slot, "/merge"), layering{Into: into})
}

// Fold writes down into a file what lies between that and what the guest writes to.
func (h *layered) Fold(ctx context.Context, m host.Machine, slot, from, into string) error {
	_, err := h.halting(ctx, ofDisk(m, slot, "/fold"), layering{From: from, Into: into})
	return err
}

// Mirror copies the topmost image of a disk to another one.
func (h *layered) Mirror(ctx context.Context, m host.Machine, slot string, to machine.Disk) (time.Duration, error) {
	return h.halting(ctx, ofDisk(m, slot, "/mirror"), layering{To: to})
}

// GiveUp has nothing to end: a stand-in does all at once.
func (h *layered) GiveUp(context.Context, host.Machine, string) error { return nil }

// Layers are the files that a disk is stored in.
func (h *layered) Layers(ctx context.Context, m host.Machine, slot string) ([]string, error) {
	var list struct{ Items []string }
	err := h.call(ctx, http.MethodGet, ofDisk(m, slot, "/layers"), nil, &list)
	return list.Items, err
}

// Save writes the memory of a machine to a file, and switches it off.
func (h *layered) Save(ctx context.Context, m host.Machine, file string) error {
	return h.send(ctx, at(m, "/save"), layering{Into: file}, nil)
}

// Restore has a machine go on from a file, with the disks that it has now.
func (h *layered) Restore(ctx context.Context, m host.Machine, file string, _ machine.Machine) error {
	return h.send(ctx, at(m, "/restore"), layering{From: file}, nil)
}

// Borrow makes a machine known whose disks are read over the network.
func (h *layered) Borrow(ctx context.Context, definition []byte, disks map[string]host.Export) (m host.Machine, err error) {
	is, err := machine.Describe(own.Name, definition)
	if err != nil {
		return m, err
	}
	for i, d := range is.Disks {
		if e, ok := disks[d.Slot]; ok {
			is.Disks[i].File, is.Disks[i].Format, is.Disks[i].Remote = e.Over, "qcow2", "nbd://"+e.Address+"/"+e.Name
		}
	}
	text, err := machine.Become(definition, own.Name, own.Name, is)
	if err != nil {
		return m, err
	}
	return h.Define(ctx, text)
}
