package archive

import (
	"bytes"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"testing"

	"bagaglio/core/storage"
	"bagaglio/core/storage/memory"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestChunksAreOneFile, of whatever lengths, read from anywhere; other files of the folder stay as they are, and nothing is written.
func TestChunksAreOneFile(t *testing.T) {
	random := rand.New(rand.NewPCG(18, 7))
	for range 200 {
		below := &memory.Folder{}
		content := make([]byte, 1+random.IntN(5000))
		for i := range content {
			content[i] = byte(random.Uint32())
		}
		each := 1 + random.IntN(2000)
		for i, rest := 0, content; len(rest) > 0; i++ {
			n := min(each, len(rest))
			put(t, below, nameOf("deck/a.vmdk", i), rest[:n])
			rest = rest[n:]
		}
		put(t, below, "deck/a.ovf", []byte("envelope"))
		folder, err := In(below, "deck/a.vmdk")
		require.NoError(t, err)
		assert.True(t, bytes.Equal(content, get(t, folder, "deck/a.vmdk")))
		assert.Equal(t, []byte("envelope"), get(t, folder, "deck/a.ovf"))
		info, err := folder.Stat("deck/a.vmdk")
		require.NoError(t, err)
		assert.EqualValues(t, len(content), info.Size)
		all, err := folder.List("deck")
		require.NoError(t, err)
		require.Len(t, all, 2)
		file, err := folder.Open("deck/a.vmdk")
		require.NoError(t, err)
		for range 20 {
			off := random.IntN(len(content) + 10)
			b := make([]byte, random.IntN(3000))
			n, err := file.ReadAt(b, int64(off))
			assert.Equal(t, content[min(off, len(content)):min(off+len(b), len(content))], b[:n])
			assert.Equal(t, n < len(b), err != nil)
		}
		require.NoError(t, file.Close())
		_, err = folder.Create("deck/b")
		require.ErrorIs(t, err, errReadOnly)
	}
}

func nameOf(name string, i int) string { return fmt.Sprintf(chunk, name, i) }

// TestChunksThatDoNotFit are refused: one of another length in the middle, or one that changes meanwhile.
func TestChunksThatDoNotFit(t *testing.T) {
	for name, lengths := range map[string][]int{"middle": {10, 9, 10}, "last": {10, 11}} {
		below := &memory.Folder{}
		for i, n := range lengths {
			put(t, below, nameOf("a.vmdk", i), make([]byte, n))
		}
		_, err := In(below, "a.vmdk")
		require.ErrorIs(t, err, ErrDamaged, name)
	}
	below := &memory.Folder{}
	put(t, below, nameOf("a.vmdk", 0), make([]byte, 10))
	folder, err := In(below, "a.vmdk")
	require.NoError(t, err)
	require.NoError(t, below.Remove(nameOf("a.vmdk", 0)))
	put(t, below, nameOf("a.vmdk", 0), make([]byte, 11))
	_, err = folder.Open("a.vmdk")
	require.ErrorIs(t, err, storage.ErrLost)
	_, err = folder.Stat("a.vmdk")
	require.ErrorIs(t, err, storage.ErrLost)
	folder, err = In(below, "b.vmdk")
	require.NoError(t, err)
	_, err = folder.Open("b.vmdk")
	require.ErrorIs(t, err, fs.ErrNotExist)
}
