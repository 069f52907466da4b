// Package routine is work that is done again and again: requests with blanks, which are filled in each time, and the times at which that is.
package routine

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"bagaglio/core/plan"
)

// Routine is work by a name. Texts in its requests may have blanks, as <pool>.
type Routine struct {
	Name string `json:"name"`
	Note string `json:"note,omitempty"`
	// Blanks are what is to be filled in, with what they are where nobody says; an empty one has to be said.
	Blanks map[string]string `json:"blanks,omitempty"`
	// Each has the requests made for each of some things, whose names fill further blanks.
	Each     *Each             `json:"each,omitempty"`
	Requests []json.RawMessage `json:"requests,omitempty"`
	Balance  json.RawMessage   `json:"balance,omitempty"`
	// AtOnce, StopAfter and Hours are as of a plan.Group.
	AtOnce    int    `json:"at_once,omitempty"`
	StopAfter int    `json:"stop_after,omitempty"`
	Hours     string `json:"hours,omitempty"`
	// LeaveOut has what cannot be done left out; otherwise nothing is begun then.
	LeaveOut bool   `json:"leave_out,omitempty"`
	Times    *Times `json:"times,omitempty"`
}

// Each says for which things: the disks of a pool (blanks <path> and <disk>, its name), or the machines of a host (<machine> and <name>).
type Each struct {
	DisksOf    string `json:"disks_of,omitempty"`
	Tagged     bool   `json:"tagged,omitempty"` // only disks that have a tag
	MachinesOf string `json:"machines_of,omitempty"`
}

// Own are the blanks that are filled by Each.
var Own = []string{"path", "disk", "machine", "name"}

// blank is one in a text.
var blank = regexp.MustCompile(`<[a-z][a-z0-9_-]*>`)

var (
	goodName  = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
	goodBlank = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,62}$`)
)

// Validate returns an error that wraps plan.ErrRequest when it makes no sense, whatever its blanks are filled with.
func (r Routine) Validate() error {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: "+format, append([]any{plan.ErrRequest}, args...)...)
	}
	if !goodName.MatchString(r.Name) {
		return wrong("the name %q may have small letters, digits and hyphens only, at most 63", r.Name)
	}
	for name := range r.Blanks {
		if !goodBlank.MatchString(name) || slices.Contains(Own, name) {
			return wrong("a blank cannot be called %q", name)
		}
	}
	if (len(r.Requests) == 0) == (r.Balance == nil) {
		return wrong("a routine is of requests, or of what balances pools")
	}
	if e := r.Each; e != nil && ((e.DisksOf == "") == (e.MachinesOf == "") || r.Balance != nil || e.Tagged && e.DisksOf == "") {
		return wrong("requests are made for each of the disks of a pool, or of the machines of a host")
	}
	if r.AtOnce < 0 || r.StopAfter < 0 {
		return wrong("a group runs a number of jobs at once, and stops after a number that failed")
	}
	if r.Times != nil {
		if err := r.Times.validate(); err != nil {
			return wrong("%w", err)
		}
		for _, name := range slices.Sorted(maps.Keys(r.Blanks)) {
			if r.Blanks[name] == "" {
				return wrong("the blank <%s> has to be filled in: nobody is there to do so when its time comes", name)
			}
		}
	}
	known := maps.Clone(r.Blanks)
	if known == nil {
		known = map[string]string{}
	}
	if r.Each != nil {
		for _, name := range Own {
			known[name] = ""
		}
	}
	if r.Each != nil {
		for _, text := range []string{r.Each.DisksOf, r.Each.MachinesOf} {
			if _, err := fill(text, r.Blanks); err != nil {
				return wrong("%w", err)
			}
		}
	}
	for i, raw := range r.Requests {
		if err := strict(raw, known, new(plan.Request)); err != nil {
			return wrong("its request %d: %w", i+1, err)
		}
	}
	if r.Balance != nil {
		if err := strict(r.Balance, known, new(plan.BalanceRequest)); err != nil {
			return wrong("its balance: %w", err)
		}
	}
	return nil
}

// Values are what blanks are filled with: what is said, and what they have by themselves. What is said of no blank, and a blank of which
// nothing is said, are errors that wrap plan.ErrRequest.
func (r Routine) Values(said map[string]string) (map[string]string, error) {
	values := maps.Clone(r.Blanks)
	for _, name := range slices.Sorted(maps.Keys(said)) {
		if _, ok := values[name]; !ok {
			return nil, fmt.Errorf("%w: it has no blank <%s>; it has %v", plan.ErrRequest, name, slices.Sorted(maps.Keys(r.Blanks)))
		}
		values[name] = said[name]
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if values[name] == "" {
			return nil, fmt.Errorf("%w: fill in <%s>", plan.ErrRequest, name)
		}
	}
	return values, nil
}

// For fills in for which things its requests are made; nil where that is once.
func (r Routine) For(values map[string]string) (*Each, error) {
	if r.Each == nil {
		return nil, nil
	}
	out := Each{Tagged: r.Each.Tagged}
	var err error
	if out.DisksOf, err = fill(r.Each.DisksOf, values); err == nil {
		out.MachinesOf, err = fill(r.Each.MachinesOf, values)
	}
	return &out, err
}

// Group is what is to be done now. Things are the own blanks of each of the things that its requests are made for.
func (r Routine) Group(values map[string]string, things []map[string]string) (g plan.Group, err error) {
	g = plan.Group{Name: r.Name, AtOnce: r.AtOnce, StopAfter: r.StopAfter, Hours: r.Hours}
	if r.Balance != nil {
		g.Balance = new(plan.BalanceRequest)
		return g, strict(r.Balance, values, g.Balance)
	}
	if r.Each == nil {
		things = []map[string]string{nil}
	}
	for _, thing := range things {
		all := maps.Clone(values)
		if all == nil {
			all = map[string]string{}
		}
		maps.Copy(all, thing)
		for i, raw := range r.Requests {
			var q plan.Request
			if err = strict(raw, all, &q); err == nil {
				err = q.Validate()
			}
			if err != nil {
				return g, fmt.Errorf("request %d: %w", i+1, err)
			}
			g.Requests = append(g.Requests, q)
		}
	}
	return g, nil
}

// strict reads a value whose texts may have blanks. A field that it does not have is an error.
func strict(raw json.RawMessage, values map[string]string, into any) error {
	var whole any
	if err := json.Unmarshal(raw, &whole); err != nil {
		return err
	}
	filled, err := fillAll(whole, values)
	if err != nil {
		return err
	}
	b, err := json.Marshal(filled)
	if err != nil {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

func fillAll(of any, values map[string]string) (_ any, err error) {
	switch x := of.(type) {
	case string:
		return fill(x, values)
	case []any:
		for i := range x {
			if x[i], err = fillAll(x[i], values); err != nil {
				return nil, err
			}
		}
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(x)) {
			if x[key], err = fillAll(x[key], values); err != nil {
				return nil, err
			}
		}
	}
	return of, nil
}

// fill fills in the blanks of a text. What they are filled with is not looked through again.
func fill(text string, values map[string]string) (string, error) {
	var missing []string
	out := blank.ReplaceAllStringFunc(text, func(b string) string {
		value, ok := values[strings.Trim(b, "<>")]
		if !ok {
			missing = append(missing, b)
		}
		return value
	})
	if len(missing) > 0 {
		return "", fmt.Errorf("nothing says what %s is", missing[0])
	}
	return out, nil
}
