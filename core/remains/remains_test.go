package remains

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/seal"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// unplugged is a folder of a drive that may be unplugged.
type unplugged struct{ storage.Folder }

func (u unplugged) Space() (storage.Space, error) {
	s, err := u.Folder.Space()
	s.Removable = true
	return s, err
}

// TestWhatIsLeftIsFound, but for what was changed since; and nothing is left on a drive whose receipt has said that it can be unplugged.
func TestWhatIsLeftIsFound(t *testing.T) {
	dir := t.TempDir()
	f, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	key, err := seal.OpenKey(filepath.Join(t.TempDir(), "receipts.jwk"))
	require.NoError(t, err)
	about := About{Pool: "quay-store", Host: "local", Folder: dir}
	sealed := func(number int64) string {
		text, err := key.Seal(seal.Link{Number: number, Job: number, Receipt: []byte(`{"id": "a", "outcome": "proven"}`)})
		require.NoError(t, err)
		return text
	}
	require.NoError(t, Leave(unplugged{f}, about, key.Public(), 1, sealed(1)))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)

	for n := int64(1); n <= mostKept+2; n++ {
		require.NoError(t, Leave(f, about, key.Public(), n, sealed(n)))
	}
	names, err := filepath.Glob(filepath.Join(dir, receipts, "*/*.jws"))
	require.NoError(t, err)
	require.Len(t, names, mostKept)
	text, err := os.ReadFile(names[1])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(names[0], text, 0o600), "another receipt in its place is as it was signed, and has its own number")
	text[len(text)-20] ^= 1
	require.NoError(t, os.WriteFile(names[1], text, 0o600))
	found, err := Find(f)
	require.NoError(t, err)
	require.Len(t, found.Services, 1)
	s := found.Services[0]
	assert.Equal(t, about, *s.About)
	assert.Equal(t, []string{filepath.Base(names[1])}, s.Broken)
	require.Len(t, s.Receipts, mostKept-1)
	assert.EqualValues(t, 4, s.Receipts[0].Number)
	assert.EqualValues(t, mostKept+2, s.Receipts[len(s.Receipts)-1].Number)
}
