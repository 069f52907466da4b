package standin

import (
	"context"
	"errors"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
)

// Try starts a machine whose disks are read over the network, and which the stand-in forgets at the end.
func (h *Host) Try(
	ctx context.Context,
	is machine.Machine,
	disks map[string]host.Export,
) (m host.Machine, end func(context.Context) error, err error) {
	for i, d := range is.Disks {
		e := disks[d.Slot]
		is.Disks[i].File, is.Disks[i].Format, is.Disks[i].Remote = "", "raw", "nbd://"+e.Address+"/"+e.Name
	}
	text, err := machine.Become(nil, "", own.Name, is)
	if err != nil {
		return m, nil, err
	}
	if m, err = h.Define(ctx, text); err != nil {
		return m, nil, err
	}
	end = func(ctx context.Context) error { return errors.Join(h.CutOff(ctx, m), h.Forget(ctx, m)) }
	if err := h.Start(ctx, m); err != nil {
		return m, nil, errors.Join(err, end(context.WithoutCancel(ctx)))
	}
	return m, end, nil
}
