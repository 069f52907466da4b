package storage

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestVersionsAgree as far as both are known, also with one that an older release noted.
func TestVersionsAgree(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"7+100", "7+100", true},
		{"7+100", "8+100", false},
		{"7+100", "7+101", false},
		{"+100", "7+100", true},
		{"+100", "+101", false},
		{"7+", "7+101", true},
		{"+", "7+101", true},
		{"7", "7+100", true},
		{"8", "7+100", false},
		{"", "7+100", true},
		{"", "", true},
	} {
		assert.Equal(t, c.same, SameVersion(c.a, c.b), "%q and %q", c.a, c.b)
		assert.Equal(t, c.same, SameVersion(c.b, c.a), "%q and %q", c.b, c.a)
	}
}
