package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheManual has a page for each command, whose day is the one that is said, and each command that does something says how it is used.
func TestTheManual(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, Manual("1.0", dir, time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)))
	pages := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Hidden || c.Name() == "help" || strings.HasPrefix(c.CommandPath(), "bagaglio completion") {
			return
		}
		pages++
		page, err := os.ReadFile(filepath.Join(dir, strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"))
		if assert.NoError(t, err) {
			assert.Contains(t, string(page), "May 2026", c.CommandPath())
		}
		if !c.HasSubCommands() {
			assert.Contains(t, c.Example, c.CommandPath(), "%s has no example of itself", c.CommandPath())
		}
		for _, below := range c.Commands() {
			walk(below)
		}
	}
	walk(manual())
	assert.Greater(t, pages, 100)
}

func manual() *cobra.Command { return (&app{version: "1.0", config: viper.New()}).root() }

// shown is a command in an example or a document: a line that begins with it, or one behind another one.
var shown = regexp.MustCompile(`(?m)(?:^|; )[ ]*(?:[A-Z_]+=\S+ )*(?:bin/)?bagaglio ((?:[^#;\n|]|\|[A-Z])*)`)

// TestWhatIsShown: each command that an example of the client or a document shows is one that there is, with flags that it has, and as many words as it takes.
func TestWhatIsShown(t *testing.T) {
	texts := map[string]string{}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		texts[c.CommandPath()] = c.Example
		for _, below := range c.Commands() {
			walk(below)
		}
	}
	walk(manual())
	files, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, file := range append(files, "../../README.md") {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, line := range strings.Split(string(b), "\n") {
			if strings.HasPrefix(line, "    ") { // a block of code
				texts[file] += strings.Split(line, " <- ")[0] + "\n"
			}
		}
	}
	commands := 0
	for where, text := range texts {
		for _, found := range shown.FindAllStringSubmatch(text, -1) {
			words := strings.Fields(regexp.MustCompile(`\s{3,}.*$|\s[<>].*$`).ReplaceAllString(found[1], ""))
			if len(words) == 0 || words[0] == "map" || slices.Contains(words, "...") ||
				strings.Contains(found[1], `"`) && !strings.HasSuffix(found[1], `"`) {
				continue
			}
			commands++ // "bagaglio map" begins the map of a disk that fails
			c, rest, err := manual().Find(words)
			if !assert.NoError(t, err, "%s: bagaglio %s", where, found[1]) {
				continue
			}
			if !assert.NoError(t, c.ParseFlags(rest), "%s: bagaglio %s", where, found[1]) || c.Args == nil || strings.Contains(found[1], `"`) {
				continue
			}
			assert.NoError(t, c.Args(c, c.Flags().Args()), "%s: bagaglio %s", where, found[1])
			assert.False(t, c.HasSubCommands() && c.Flags().NArg() > 0, "%s: bagaglio %s: it has no such command", where, found[1])
		}
	}
	assert.Greater(t, commands, 200)
}
