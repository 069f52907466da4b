package plan

import (
	"encoding/json"
	"fmt"
	"slices"
)

// Decode reads a plan that was kept, also in the form of an earlier version.
func Decode(b []byte) (p Plan, err error) {
	var form struct{ Version int }
	if err := json.Unmarshal(b, &form); err != nil {
		return p, err
	}
	switch form.Version {
	case Version:
		return p, json.Unmarshal(b, &p)
	case 0:
		return decodeFirst(b)
	}
	return p, fmt.Errorf("a plan of the form %d: a later version of Bagaglio made it", form.Version)
}

// firstKinds are the kinds of steps by the names that they had in the first form of plans.
var firstKinds = map[string]string{"write": StepFill, "place": StepPublish}

// decodeFirst reads a plan of the first form, which had one disk, and what was decided of it beside its steps.
func decodeFirst(b []byte) (p Plan, err error) {
	var old struct {
		Disk
		Steps []struct {
			Name, Title string
			Bytes       int64
			Seconds     float64
		}
		Uses []Use
	}
	var rest struct {
		Plan
		Before any `json:"before"` // these have other forms now
		After  any `json:"after"`
		Steps  any `json:"steps"`
	}
	if err := json.Unmarshal(b, &old); err != nil {
		return p, err
	}
	if err := json.Unmarshal(b, &rest); err != nil {
		return p, err
	}
	m := &maker{Plan: rest.Plan, Disk: old.Disk, uses: old.Uses}
	m.Version, m.ID, m.Steps = Version, FirstDisk, []Step{}
	m.Disk.Request = m.Plan.Request
	for _, s := range old.Steps {
		kind := s.Name
		if now, ok := firstKinds[kind]; ok {
			kind = now
		}
		switch {
		case kind == StepPublish && m.Renames:
			kind = StepRename
		case kind == StepProve && m.Plan.Request.Kind == Prove:
			kind = StepVerify
		}
		m.step(kind, s.Bytes, s.Title)
		m.Steps[len(m.Plan.Steps)-1].Seconds = s.Seconds
	}
	if m.Plan.Request.Quick && !slices.ContainsFunc(m.Steps, func(s Step) bool { return s.Kind == StepVerify }) {
		m.step(StepVerify, 0, "Compare tables, names and lengths with what its tag says")
	}
	seconds := m.EstimatedSeconds
	m.finish()
	m.EstimatedSeconds = seconds
	return m.Plan, nil
}
