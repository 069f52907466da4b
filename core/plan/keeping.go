package plan

import (
	"fmt"
	"strings"
)

// Keeping is what is known of the source's file besides its content, and whether the destination can keep it.
type Keeping struct {
	Owner, Mode string   // as storage.Info has them
	Labels      []string // names of extended attributes

	SameHost    bool // owners are the same there
	KeepsMode   bool // the destination keeps owner and mode
	Gives       bool // and files may be given to that owner
	KeepsLabels bool
}

// checkKeeping: what cannot be kept of owner, mode and labels of the source.
func (p *maker) checkKeeping() {
	k, rules := p.facts.Destination.Keeping, p.facts.Destination.Rules
	p.KeepsOwner = k.SameHost && rules.Owner == ""
	if p.Renames || k.Mode == "" && k.Owner == "" {
		return
	}
	switch {
	case !k.KeepsMode:
		p.add(
			Informs,
			"keeping",
			fmt.Sprintf("Owner and mode of the source (%s, %s) cannot be kept: the destination's storage has none.", k.Owner, k.Mode),
		)
	case p.KeepsOwner && k.Owner != "" && !k.Gives:
		p.add(
			Warns,
			"keeping",
			fmt.Sprintf(
				"The owner of the source (%s) cannot be kept, since the user that runs Bagaglio may not give files away: what uses the new image has to be able to open it.",
				k.Owner,
			),
		)
	}
	if len(k.Labels) > 0 && !k.KeepsLabels {
		p.add(
			Warns,
			"keeping",
			fmt.Sprintf("Extended attributes of the source (%s) cannot be kept: the destination's storage has none.", strings.Join(k.Labels, ", ")),
		)
	}
}
