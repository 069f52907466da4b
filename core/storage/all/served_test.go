package all

import (
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/storage"
	storagehttp "bagaglio/core/storage/http"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsServedChanges: a file that is written to within the second of its last change, in a hole that nobody reads, is seen to have changed, and is given out no more as what it was.
func TestWhatIsServedChanges(t *testing.T) {
	dir := t.TempDir()
	at := filepath.Join(dir, "disk")
	second := time.Now().Truncate(time.Second).Add(-time.Hour)
	require.NoError(t, os.WriteFile(at, []byte("the tides are up"), 0o600))
	require.NoError(t, os.Truncate(at, 8<<20))
	require.NoError(t, os.Chtimes(at, second, second))
	here, err := local.Open(dir)
	require.NoError(t, err)
	server := httptest.NewServer(storagehttp.Handler("/disks", here))
	t.Cleanup(server.Close)
	f, err := storagehttp.Open(storagehttp.Login{URL: server.URL + "/disks"})
	require.NoError(t, err)
	before, err := f.Stat("disk")
	require.NoError(t, err)
	file, err := f.Open("disk")
	require.NoError(t, err)
	late, err := f.Open("disk")
	require.NoError(t, err)
	end, data, err := file.(storage.RangeFinder).Range(4 << 20)
	require.NoError(t, err)
	assert.False(t, data)
	assert.EqualValues(t, 8<<20, end)

	w, err := os.OpenFile(at, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = w.WriteAt([]byte("and down"), 5<<20)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, os.Chtimes(at, second, second.Add(time.Millisecond)))
	after, err := f.Stat("disk")
	require.NoError(t, err)
	assert.NotEqual(t, before.Modified, after.Modified)
	_, err = file.ReadAt(make([]byte, 8), 0)
	assert.ErrorContains(t, err, "was changed")
	_, _, err = late.(storage.RangeFinder).Range(0)
	assert.ErrorContains(t, err, "was changed")
}
