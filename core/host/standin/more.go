package standin

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
)

// Suspend halts a machine.
func (h *Host) Suspend(ctx context.Context, m host.Machine) error {
	return h.call(ctx, http.MethodPost, at(m, "/suspend"), nil, nil)
}

// Resume lets it go on.
func (h *Host) Resume(ctx context.Context, m host.Machine) error {
	return h.call(ctx, http.MethodPost, at(m, "/resume"), nil, nil)
}

// Attach gives a machine a disk.
func (h *Host) Attach(ctx context.Context, m host.Machine, d machine.Disk) error {
	return h.send(ctx, at(m, "/disks"), d, nil)
}

// Detach takes one away.
func (h *Host) Detach(ctx context.Context, m host.Machine, slot string) error {
	return h.call(ctx, http.MethodDelete, at(m, "/disks/"+url.PathEscape(slot)), nil, nil)
}

// send sends something as the body of a request, and reads the answer into something, unless that is nil.
func (h *Host) send(ctx context.Context, path string, what, into any) error {
	body, err := json.Marshal(what)
	if err != nil {
		return err
	}
	return h.call(ctx, http.MethodPost, path, body, into)
}

// Pools is the one folder that its disks lie in.
func (h *Host) Pools(ctx context.Context) ([]host.Pool, error) {
	var is struct{ Folder string }
	err := h.call(ctx, http.MethodGet, "/host", nil, &is)
	return []host.Pool{{Name: "disks", Folder: is.Folder}}, err
}

// Snapshots lists what it keeps of a machine.
func (h *Host) Snapshots(ctx context.Context, m host.Machine) ([]host.Snapshot, error) {
	var list struct{ Items []host.Snapshot }
	err := h.call(ctx, http.MethodGet, at(m, "/snapshots"), nil, &list)
	return list.Items, err
}

// Take keeps the present state.
func (h *Host) Take(ctx context.Context, m host.Machine, t host.Taking) error {
	return h.send(ctx, at(m, "/snapshots"), t, nil)
}

// GoBack makes a kept state the present one.
func (h *Host) GoBack(ctx context.Context, m host.Machine, name string) error {
	return h.call(ctx, http.MethodPost, at(m, "/snapshots/"+url.PathEscape(name)+"/back"), nil, nil)
}

// Drop forgets a kept state.
func (h *Host) Drop(ctx context.Context, m host.Machine, name string) error {
	return h.call(ctx, http.MethodDelete, at(m, "/snapshots/"+url.PathEscape(name)), nil, nil)
}

// listenEvery is how often it is asked what a machine has written.
const listenEvery = 200 * time.Millisecond

// Listen asks again and again what a machine has written, until it is off.
func (h *Host) Listen(ctx context.Context, m host.Machine, w io.Writer) error {
	for before := ""; ; {
		now, err := h.Machine(ctx, m.Name)
		if err == nil && now.State == host.Off {
			return nil
		}
		var s signs
		if err == nil {
			s, err = h.signs(ctx, m)
		}
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		if _, err := io.WriteString(w, strings.TrimPrefix(s.Console, before)); err != nil {
			return err
		}
		before = s.Console
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(listenEvery):
		}
	}
}
