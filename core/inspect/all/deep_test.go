package all

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFoldersThatLieDeep: what lies deeper than is looked at is never said to be the same, nor to belong to no file.
func TestFoldersThatLieDeep(t *testing.T) {
	from, name := t.TempDir(), filepath.Join(t.TempDir(), "image")
	at := filepath.Join(from, strings.Repeat("keel/", 210))
	require.NoError(t, os.MkdirAll(at, 0o755))
	content := bytes.Repeat([]byte("bilge"), 20_000)
	require.NoError(t, os.WriteFile(filepath.Join(at, "roster.db"), content, 0o644))
	require.NoError(t, os.WriteFile(name, nil, 0o600))
	require.NoError(t, os.Truncate(name, 64<<20))
	run(t, "mkfs.ext4 -q -F -d", from, name)
	d, v := opened(t, name)
	_, err := inspect.SameFiles(t.Context(), v, v)
	require.ErrorContains(t, err, "keel: folders lie more than 200 deep")

	b, err := os.ReadFile(name)
	require.NoError(t, err)
	off := bytes.Index(b, content[:4096])
	require.Positive(t, off)
	hits := inspect.Hits(t.Context(), d, []fingerprint.Range{{Offset: int64(off), Length: 4096}}, true)
	require.Len(t, hits, 1)
	assert.Contains(t, hits[0].What, "which files, was not found in time, or could not be read")
}
