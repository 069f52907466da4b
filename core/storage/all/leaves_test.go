package all

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"bagaglio/core/fingerprint"
	storagehttp "bagaglio/core/storage/http"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counting counts what is sent.
type counting struct {
	http.ResponseWriter
	sent *atomic.Int64
}

func (c counting) Write(b []byte) (int, error) {
	c.sent.Add(int64(len(b)))
	return c.ResponseWriter.Write(b)
}

// TestLeavesAndPacking: leaves of ranges are told without sending them, and ranges are packed on their way; both are refused of a file that was changed.
func TestLeavesAndPacking(t *testing.T) {
	dir := t.TempDir()
	content := bytes.Repeat([]byte("the tide is up, the tide is down. "), 80_000)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.raw"), content, 0o600))
	here, err := local.Open(dir)
	require.NoError(t, err)
	var sent atomic.Int64
	handler := storagehttp.Handler("/disks", here)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { handler.ServeHTTP(counting{w, &sent}, r) }))
	t.Cleanup(server.Close)
	f, err := storagehttp.Open(storagehttp.Login{URL: server.URL + "/disks", Pack: true})
	require.NoError(t, err)
	file, err := f.Open("a.raw")
	require.NoError(t, err)
	for _, r := range [][2]int{{0, len(content)}, {7, 100_000}, {len(content) - 9, 9}} {
		p := make([]byte, r[1])
		_, err := file.ReadAt(p, int64(r[0]))
		require.True(t, err == nil || errors.Is(err, io.EOF), err)
		assert.True(t, bytes.Equal(content[r[0]:r[0]+r[1]], p))
	}
	assert.Less(t, sent.Load(), int64(len(content)/4), "it is packed")
	leafy := file.(storagehttp.Leafy)
	leaves, err := leafy.Leaves(fingerprint.LeafSize, int64(len(content)-fingerprint.LeafSize))
	require.NoError(t, err)
	for i, leaf := range leaves {
		from := (i + 1) * fingerprint.LeafSize
		assert.Equal(t, fingerprint.Leaf(content[from:min(len(content), from+fingerprint.LeafSize)]), leaf)
	}
	_, err = leafy.Leaves(7, 9)
	require.ErrorIs(t, err, errors.ErrUnsupported)
	content[5] ^= 1
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.raw"), content, 0o600))
	_, err = leafy.Leaves(0, fingerprint.LeafSize)
	require.ErrorContains(t, err, "changed")
	_, err = file.ReadAt(make([]byte, 9), 0)
	require.ErrorContains(t, err, "changed")
}
