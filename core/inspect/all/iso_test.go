package all

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/inspect"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDiscs: an ISO 9660 with the names of Rock Ridge and with links, with those of Joliet, and with its own ones alone, has the files that it was made of.
func TestDiscs(t *testing.T) {
	if _, err := exec.LookPath("genisoimage"); err != nil {
		t.Skip("genisoimage is missing")
	}
	tree := t.TempDir()
	put := func(name string, n int) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(tree, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(tree, name), []byte(strings.Repeat("sails at six. ", n)), 0o640))
	}
	for _, name := range []string{"crew/roster.db", "tides.csv", "deck/deeper/readme.txt", "empty"} {
		put(name, len(name)*9)
	}
	require.NoError(t, os.Truncate(filepath.Join(tree, "empty"), 0))
	for _, c := range []struct {
		name, flags string
		more        func()
	}{
		{"its own names", "", func() {}},
		{"Joliet", "-J -joliet-long", func() { put("deck/Überfahrt "+strings.Repeat("long ", 11)+".txt", 70) }},
		{"Rock Ridge", "-R", func() {
			put("deck/"+strings.Repeat("very-long-", 24)+"name", 70)
			require.NoError(t, os.Symlink("../crew/roster.db", filepath.Join(tree, "deck", "link")))
			require.NoError(t, os.Symlink("/"+strings.Repeat("deck/", 60)+"x", filepath.Join(tree, "deck", "far")))
			for i := range 300 {
				put(filepath.Join("many", strings.Repeat("n", 1+i%90)+string(rune('a'+i%26))+"-"+strings.Repeat("i", i/26)), i)
			}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.more()
			image := filepath.Join(t.TempDir(), "image")
			run(t, "genisoimage -quiet -V DATA "+c.flags+" -o "+image, tree)
			d, v := opened(t, image)
			found, err := inspect.Inside(d)
			require.NoError(t, err)
			assert.Equal(t, "iso9660", found.Filesystem.Kind)
			same(t, digests(t, os.DirFS(tree)), digests(t, v))
			if c.name != "Rock Ridge" {
				return
			}
			content, err := v.Open("deck/link")
			require.NoError(t, err)
			info, err := content.Stat()
			require.NoError(t, err)
			assert.Equal(t, int64(len("crew/roster.db")*9*14), info.Size())
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
		})
	}
}
