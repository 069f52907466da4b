package errand

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAFileIsMadeAsItWasSent, whatever its length and wherever its zeros are, which are not sent; what does not fit together makes none that is longer than it says.
func TestAFileIsMadeAsItWasSent(t *testing.T) {
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	for range 50 {
		content := make([]byte, rand.IntN(80<<10))
		for range rand.IntN(4) {
			if len(content) > 0 {
				content[rand.IntN(len(content))] = byte(1 + rand.IntN(255))
			}
		}
		sent, err := json.Marshal(Deed{Do: DoCreate, Name: "note", Content: ContentOf(content)})
		require.NoError(t, err)
		assert.Less(t, len(sent), 5*2*block)
		var d Deed
		require.NoError(t, json.Unmarshal(sent, &d))
		_, err = d.In(folder)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(dir, "note"))
		require.NoError(t, err)
		require.Equal(t, content, got)
		_, err = Deed{Do: DoRemove, Name: "note"}.In(folder)
		require.NoError(t, err)
	}
	for _, c := range []Content{{Size: MaxContent + 1}, {Size: -1}, {Size: 4, Blocks: map[int64][]byte{0: []byte("tides")}}, {Size: 4, Blocks: map[int64][]byte{-1: {1}}}} {
		_, err := Deed{Do: DoCreate, Name: "note", Content: c}.In(folder)
		require.Error(t, err)
		_ = os.Remove(filepath.Join(dir, "note"))
	}
}
