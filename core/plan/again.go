package plan

import (
	"fmt"
	"strings"
)

// What follows are checks that are made when a plan is made, and again at the moment before something is done that cannot be taken back.

// StandsOnSource is the check for disks that stand on a source which is to go away; alone tells that it stands on nothing itself.
func StandsOnSource(r Request, standing []string, alone bool) Check {
	if r.inPlace() {
		return Check{
			"destination",
			Blocks,
			fmt.Sprintf("%s stand(s) on this disk and would not know it again: make them stand alone first.", some(standing)),
			nil,
		}
	}
	remedies := []Remedy{remedy("Copy it instead: the source stays", map[string]any{"release": nil})}
	if r.Kind == Copy && alone {
		remedies = append(remedies, remedy("Move them along with it", map[string]any{"family": true, "chain": nil}))
	}
	return Check{
		"release",
		Blocks,
		fmt.Sprintf("%s stand(s) on the source, or on what it stands on, and would not open any more.", some(standing)),
		remedies,
	}
}

// StandsOnReplaced is the check for disks that stand on what would be replaced.
func StandsOnReplaced(standing []string, remedies ...Remedy) Check {
	return Check{
		"destination",
		Blocks,
		fmt.Sprintf(
			"%s stand(s) on what would be replaced, and would not be what they were any more: choose another name, or make them stand alone first.",
			some(standing),
		),
		remedies,
	}
}

// SourceInUse is the check for a source that another program uses.
func SourceInUse(why error) Check { return Check{"in-use", Blocks, capital(why.Error()) + ".", nil} }

// ReplacedInUse is the check for a disk that another program uses and that would be replaced.
func ReplacedInUse(why error, remedies ...Remedy) Check {
	return Check{"in-use", Blocks, fmt.Sprintf("What would be replaced is in use: %v.", why), remedies}
}

// NewUsers is the check for machines that came to use a disk after its move was planned.
func NewUsers(users []User) Check {
	return Check{
		"machine",
		Blocks,
		fmt.Sprintf(
			"The definition of %s has come to name this disk since the plan was made, and would not find it any more: plan it again.",
			some(userNames(users)),
		),
		[]Remedy{remedy("Leave the definition as it is", map[string]any{"leave_definitions": true})},
	}
}

// some are the first of a list, in words.
func some(names []string) string {
	text := strings.Join(names[:min(len(names), mostOffered)], ", ")
	if more := len(names) - mostOffered; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}
