package routines

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatIsStillPlanned is not over: it is not begun a second time beside that.
func TestWhatIsStillPlanned(t *testing.T) {
	x := &Routines{}
	assert.NotEmpty(t, x.goesOn(Routine{Runs: []Run{{Over: false}, {Over: true}}}))
	assert.Empty(t, x.goesOn(Routine{Runs: []Run{{Over: true, Problem: "there was no room"}}}))
	assert.Empty(t, x.goesOn(Routine{}))
}
