package cli

import (
	"io"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
)

// TestEveryCommandSpeaksJSON, but for those that print one value for people and programs alike, or run on.
func TestEveryCommandSpeaksJSON(t *testing.T) {
	without := map[string]bool{
		"bagaglio demo":        true,
		"bagaglio fingerprint": true, // prints the fingerprint alone
		"bagaglio receipt key": true, // which is JSON already
		"bagaglio serve":       true,
	}
	a := &app{config: viper.New(), out: io.Discard, notes: io.Discard}
	seen := 0
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			walk(sub)
		}
		if c.HasSubCommands() || c.Name() == "help" {
			return
		}
		seen++
		assert.Equal(t, !without[c.CommandPath()], c.Flags().Lookup("json") != nil, c.CommandPath())
	}
	walk(a.root())
	assert.Greater(t, seen, 40)
}
