package all

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNamesFromImagesDoNotDisturbATerminal, whatever somebody wrote into them.
func TestNamesFromImagesDoNotDisturbATerminal(t *testing.T) {
	assert.Equal(t, "a[2Jb ü", storage.Printable(" a\x1b[2J\x00b \xff\x7f\r\n\u009bü"))
}

// TestLimitsArePrintedInTheDocs: the table in docs/formats.md is the one that plans use.
func TestLimitsArePrintedInTheDocs(t *testing.T) {
	b, err := os.ReadFile("../../../docs/formats.md")
	require.NoError(t, err)
	_, table, _ := strings.Cut(string(b), "by a test -->\n")
	table, _, _ = strings.Cut(table, "<!-- end")
	want := "| format | layout | thick | largest virtual size | granularity | snapshots | base | options |\n|---|---|---|---|---|---|---|---|\n"
	yes := map[bool]string{true: "yes", false: "no"}
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			base := map[bool]string{true: "any", false: "no"}[l.Stands]
			if l.OwnBase {
				base = f.Name + " of the same size"
			}
			var options []string
			for _, o := range l.Options {
				values := strings.Join(o.Values, ", ")
				if len(o.Values) == 0 {
					values = fmt.Sprintf("%d, from %d to %d by %d", o.Default, o.Least, o.Most, o.Multiple)
				}
				options = append(options, disk.Words(o.Name)+": "+values)
			}
			want += fmt.Sprintf(
				"| %s | %s | %s | %d | %d | %s | %s | %s |\n",
				f.Name,
				l.Name,
				yes[l.Thick],
				l.Largest,
				l.Granularity,
				yes[l.Snapshots],
				base,
				strings.Join(options, "; "),
			)
		}
	}
	assert.Equal(t, want, table)
}
