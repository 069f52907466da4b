package receipt

import "bagaglio/core/adapt"

// Adapted is what was changed on a copy that was proven before.
type Adapted struct {
	Before string         `json:"before"` // the fingerprint that was proven
	After  string         `json:"after"`
	Files  []adapt.Change `json:"files"`
}

// lines are for people.
func (a *Adapted) lines(line func(title, format string, args ...any)) {
	if a == nil {
		return
	}
	line("Fitted", "to its new place, on the proven copy: %s before, %s since", a.Before, a.After)
	for _, c := range a.Files {
		line("", "%s", c.Called())
		for _, l := range c.Lines {
			line("", "    %s", l)
		}
	}
}
