package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatComesMeanwhileStays: a folder whose files were held is not taken away with what has come since.
func TestWhatComesMeanwhileStays(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "papers/old/older"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "papers/new"), 0o700))
	came := filepath.Join(dir, "papers/old/came")
	require.NoError(t, os.WriteFile(came, []byte("ask the purser"), 0o600))
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	require.ErrorIs(t, removeEmpty(folder, "papers"), fs.ErrExist)
	assert.FileExists(t, came)
	require.NoError(t, os.Remove(came))
	require.NoError(t, removeEmpty(folder, "papers"))
	assert.NoDirExists(t, filepath.Join(dir, "papers"))
}
