package all

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"bagaglio/core/disk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNamesFromImagesDoNotDisturbATerminal, whatever somebody wrote into them.
func TestNamesFromImagesDoNotDisturbATerminal(t *testing.T) {
	assert.Equal(t, "a[2Jb ü", disk.Printable(" a\x1b[2J\x00b \xff\x7f\r\n\u009bü"))
}

// TestLimitsArePrintedInTheDocs: the table in docs/formats.md is the one that plans use.
func TestLimitsArePrintedInTheDocs(t *testing.T) {
	b, err := os.ReadFile("../../../docs/formats.md")
	require.NoError(t, err)
	_, table, _ := strings.Cut(string(b), "by a test -->\n")
	table, _, _ = strings.Cut(table, "<!-- end")
	want := "| format | layout | thick | largest virtual size | granularity |\n|---|---|---|---|---|\n"
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			want += fmt.Sprintf("| %s | %s | %s | %d | %d |\n", f.Name, l.Name, map[bool]string{true: "yes", false: "no"}[l.Thick], l.Largest, l.Granularity)
		}
	}
	assert.Equal(t, want, table)
}
