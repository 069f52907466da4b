package all

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/fingerprint"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPackedAndSubvolumes: files of btrfs that are packed in each way that is read, in subvolumes and snapshots of them, with parts that are shared, reserved,
// and gone; one that is packed in another way is refused, and the others are read.
func TestPackedAndSubvolumes(t *testing.T) {
	for _, by := range []string{"zlib", "zstd", "lzo"} {
		t.Run(by, func(t *testing.T) {
			if _, err := exec.LookPath("btrfs"); err != nil {
				t.Skip("btrfs is missing")
			}
			name := filepath.Join(t.TempDir(), "image")
			require.NoError(t, os.WriteFile(name, nil, 0o600))
			require.NoError(t, os.Truncate(name, 256<<20))
			run(t, "mkfs.btrfs -q -f", name)
			var want map[string]string
			inMount(t, name, ",compress-force="+by, func(at string) {
				run(t, "btrfs -q subvolume create", filepath.Join(at, "crew"))
				run(t, "btrfs -q subvolume create", filepath.Join(at, "crew", "deck"))
				for i, n := range []int{1, 900, 5000, 131072, 131073, 700_000} {
					content := []byte(strings.Repeat(fmt.Sprintf("sails at %d. ", i), n/12+1)[:n])
					for _, dir := range []string{"", "crew", "crew/deck"} {
						require.NoError(t, os.WriteFile(filepath.Join(at, dir, fmt.Sprintf("log-%d", n)), content, 0o644))
					}
				}
				f, err := os.OpenFile(filepath.Join(at, "crew", "log-700000"), os.O_RDWR, 0)
				require.NoError(t, err)
				_, err = f.WriteAt(bytes.Repeat([]byte("changed "), 9000), 200_000)
				require.NoError(t, err)
				_, err = f.WriteAt([]byte("far behind"), 9<<20)
				require.NoError(t, err)
				require.NoError(t, f.Close())
				run(t, "cp --reflink=always "+filepath.Join(at, "log-131073"), filepath.Join(at, "shared"))
				run(t, "btrfs -q subvolume snapshot -r "+filepath.Join(at, "crew"), filepath.Join(at, "crew-before"))
				require.NoError(t, os.Remove(filepath.Join(at, "crew", "log-5000")))
				want = digests(t, os.DirFS(at))
			})
			_, v := opened(t, name)
			assert.Empty(t, v.About().Doubt)
			require.NoError(t, v.Used(t.Context(), func(fingerprint.Range) error { return nil }))
			if by == "lzo" {
				_, err := v.Open("log-131072")
				require.ErrorContains(t, err, "packed in a way")
				return
			}
			same(t, want, digests(t, v))
		})
	}
}
