// Package standin reaches the simulated hosts that come with Bagaglio (cmd/standin), over their HTTP API (docs/standin.md).
package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
)

func init() { host.Register(host.Kind{Name: "standin", Format: own.Name, Check: check, Open: Open}) }

// answerIn is for how long an answer is waited for, and maxAnswer bounds one, in bytes.
const (
	answerIn  = 30 * time.Second
	maxAnswer = 64 << 20
)

// Host is a stand-in.
type Host struct {
	url  string
	http *http.Client
}

// check wants the address of its API.
func check(a host.Address) error {
	u, err := url.Parse(a.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || a.Socket != "" {
		return fmt.Errorf("%q is no address of a stand-in: name it like http://quay.example:2280 (--machines)", a.URL)
	}
	return nil
}

// Open connects to a stand-in.
func Open(ctx context.Context, a host.Address) (host.Host, error) {
	h := &Host{url: strings.TrimSuffix(a.URL, "/"), http: &http.Client{}}
	t, err := h.traits(ctx)
	if t.Layers {
		return &layered{h}, err
	}
	return h, err
}

// entry is a machine as the API has it.
type entry struct {
	Name       string     `json:"name"`
	UUID       string     `json:"uuid"`
	State      host.State `json:"state"`
	Definition string     `json:"definition"`
}

func (e entry) machine() host.Machine {
	m := host.Machine{Name: e.Name, UUID: e.UUID, State: host.Unknown, Format: own.Name, Definition: []byte(e.Definition)}
	switch e.State {
	case host.Off, host.Running, host.Suspended:
		m.State = e.State
	default: // it says what nobody knows
	}
	if m.State != host.Off {
		m.Live = m.Definition
	}
	return m
}

// ask asks for something.
func (h *Host) ask(ctx context.Context, method, path string, body []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, answerIn)
	defer cancel()
	return h.askWithin(ctx, method, path, body)
}

// askWithin does so for as long as there is time. Whoever answers is not trusted to be short.
func (h *Host) askWithin(ctx context.Context, method, path string, body []byte) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, method, h.url+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	answer, err := h.http.Do(r)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", host.ErrGone, err)
	}
	defer answer.Body.Close()
	b, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer+1))
	if err == nil && len(b) > maxAnswer {
		err = fmt.Errorf("its answer is longer than %d bytes", maxAnswer)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", host.ErrGone, err)
	}
	if answer.StatusCode == http.StatusOK {
		return b, nil
	}
	var why struct{ Why string }
	if err := json.Unmarshal(b, &why); err != nil || why.Why == "" {
		why.Why = answer.Status
	}
	switch answer.StatusCode {
	case http.StatusNotFound:
		return nil, fmt.Errorf("%w: %s", host.ErrNoMachine, why.Why)
	case http.StatusConflict:
		return nil, fmt.Errorf("%w: %s", host.ErrRefused, strings.TrimPrefix(why.Why, "refused: "))
	}
	return nil, fmt.Errorf("%w: %s", host.ErrRefused, why.Why)
}

// call does so, and reads the answer into something, unless that is nil.
func (h *Host) call(ctx context.Context, method, path string, body []byte, into any) error {
	b, err := h.ask(ctx, method, path, body)
	if err != nil || into == nil {
		return err
	}
	if err := json.Unmarshal(b, into); err != nil {
		return fmt.Errorf("%w: its answer makes no sense: %w", host.ErrRefused, err)
	}
	return nil
}

func (h *Host) act(ctx context.Context, method, path string, body []byte) (host.Machine, error) {
	var e entry
	err := h.call(ctx, method, path, body, &e)
	return e.machine(), err
}

// at is the path of what is done with a machine, which is that one only.
func at(m host.Machine, more string) string {
	return "/machines/" + url.PathEscape(m.Name) + more + "?uuid=" + url.QueryEscape(m.UUID)
}

// Machines lists all machines, by their names.
func (h *Host) Machines(ctx context.Context) (all []host.Machine, err error) {
	var list struct{ Items []entry }
	err = h.call(ctx, http.MethodGet, "/machines", nil, &list)
	for _, e := range list.Items {
		all = append(all, e.machine())
	}
	return all, err
}

// Machine returns the one of a name.
func (h *Host) Machine(ctx context.Context, name string) (host.Machine, error) {
	return h.act(ctx, http.MethodGet, "/machines/"+url.PathEscape(name), nil)
}

// Start switches a machine on.
func (h *Host) Start(ctx context.Context, m host.Machine) error {
	_, err := h.act(ctx, http.MethodPost, at(m, "/start"), nil)
	return err
}

// ShutDown asks the guest to end.
func (h *Host) ShutDown(ctx context.Context, m host.Machine) error {
	_, err := h.act(ctx, http.MethodPost, at(m, "/shut-down"), nil)
	return err
}

// CutOff takes the power away.
func (h *Host) CutOff(ctx context.Context, m host.Machine) error {
	_, err := h.act(ctx, http.MethodPost, at(m, "/cut-off"), nil)
	return err
}

// Screen returns the present picture.
func (h *Host) Screen(ctx context.Context, m host.Machine) ([]byte, error) {
	return h.ask(ctx, http.MethodGet, at(m, "/screen"), nil)
}

// Signs tells what is seen of a guest.
func (h *Host) Signs(ctx context.Context, m host.Machine) (host.Signs, error) {
	s, err := h.signs(ctx, m)
	return host.Signs{Read: s.Read, Written: s.Written, Agent: s.Up}, err
}

// signs are what it tells of a guest.
type signs struct {
	Read, Written int64
	Up            bool
	Console       string
}

func (h *Host) signs(ctx context.Context, m host.Machine) (s signs, err error) {
	err = h.call(ctx, http.MethodGet, at(m, "/signs"), nil, &s)
	return s, err
}

// Follow asks again and again for the number of changes, which is answered when there is another one.
func (h *Host) Follow(ctx context.Context, changed func()) error {
	for last := int64(-1); ctx.Err() == nil; {
		var now struct{ Number int64 }
		b, err := h.askWithin(ctx, http.MethodGet, fmt.Sprintf("/changes?after=%d", last), nil)
		if err == nil {
			err = json.Unmarshal(b, &now)
		}
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return fmt.Errorf("%w: %w", host.ErrGone, err)
		case last >= 0 && now.Number != last:
			changed()
		}
		last = now.Number
	}
	return nil
}

// Look has it look through its folder.
func (h *Host) Look(ctx context.Context) error {
	return h.call(ctx, http.MethodPost, "/look", nil, nil)
}

// Questions are those that it waits for an answer to.
func (h *Host) Questions(ctx context.Context, m host.Machine) ([]host.Question, error) {
	var list struct{ Items []host.Question }
	err := h.call(ctx, http.MethodGet, at(m, "/questions"), nil, &list)
	return list.Items, err
}

// Answer answers one.
func (h *Host) Answer(ctx context.Context, m host.Machine, question, answer string) error {
	return h.send(ctx, at(m, "/answers"), map[string]string{"question": question, "answer": answer}, nil)
}

// traits are what the host says of itself.
type traits struct {
	Formats, Layouts, Buses, Firmware, Networks []string
	Memory                                      int64
	Layers                                      bool
}

func (h *Host) traits(ctx context.Context) (traits, error) {
	var is struct{ Traits traits }
	err := h.call(ctx, http.MethodGet, "/host", nil, &is)
	return is.Traits, err
}

// Networks are those that it has. One that says nothing of them takes all.
func (h *Host) Networks(ctx context.Context) ([]string, error) {
	t, err := h.traits(ctx)
	if err == nil && t.Networks == nil {
		err = errors.ErrUnsupported
	}
	return t.Networks, err
}

// Limits are what it takes of machines.
func (h *Host) Limits(ctx context.Context) (machine.Limits, error) {
	t, err := h.traits(ctx)
	return machine.Limits{Formats: t.Formats, Layouts: t.Layouts, Buses: t.Buses, Firmware: t.Firmware, Memory: t.Memory}, err
}

// Define makes a machine known, or changes the one that has its identity.
func (h *Host) Define(ctx context.Context, definition []byte) (host.Machine, error) {
	return h.act(ctx, http.MethodPost, "/machines", definition)
}

// Forget drops a machine that is off. Its disks stay.
func (h *Host) Forget(ctx context.Context, m host.Machine) error {
	if m.Name == "" {
		return fmt.Errorf("%w: it has no name", host.ErrNoMachine)
	}
	err := h.call(ctx, http.MethodDelete, at(m, ""), nil, nil)
	if errors.Is(err, host.ErrNoMachine) { // it is forgotten already
		return nil
	}
	return err
}

// Close ends the connections.
func (h *Host) Close() error {
	h.http.CloseIdleConnections()
	return nil
}
