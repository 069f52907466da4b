package upload_test

import (
	"context"
	"crypto/sha256"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/upload"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func pool(t *testing.T) (storage.Folder, string) {
	t.Helper()
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, folder.Close()) })
	return folder, dir
}

// pieces are a file, cut.
func pieces(content []byte) (all [][]byte, sums []upload.Sum) {
	for len(content) > 0 {
		n := min(len(content), upload.PieceSize)
		all, sums = append(all, content[:n]), append(sums, sha256.Sum256(content[:n]))
		content = content[n:]
	}
	return all, sums
}

func random(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(b) // never fails (rand.ChaCha8)
	return b
}

func nothing(int64) {}

// TestArrives: in any order, some pieces twice, some first with another content, in parts over reopened uploads, with a piece of zeros.
func TestArrives(t *testing.T) {
	for _, size := range []int{0, 1, upload.PieceSize, 3*upload.PieceSize + 17} {
		folder, dir := pool(t)
		content := random(size)
		if size > 2*upload.PieceSize {
			clear(content[upload.PieceSize : 2*upload.PieceSize])
		}
		all, sums := pieces(content)
		u, err := upload.Begin(folder, upload.About{ID: "a1", Path: "gate/ticketing.raw", Size: int64(size), By: "rona", Begun: time.Now()})
		require.NoError(t, err)
		for _, n := range append(rand.Perm(len(all)), rand.Perm(len(all))...) {
			other := random(len(all[n]))
			require.NoError(t, u.Put(n, other, sha256.Sum256(other)))
			p := all[n]
			if sha256.Sum256(make([]byte, len(p))) == sums[n] {
				p = nil
			}
			require.NoError(t, u.Put(n, p, sums[n]))
			require.NoError(t, u.Rest())
			u, err = upload.Open(folder, "a1")
			require.NoError(t, err)
		}
		assert.NoFileExists(t, filepath.Join(dir, "gate/ticketing.raw"))
		compared := int64(0)
		require.NoError(t, u.End(t.Context(), upload.Root(sums), func(n int64) { compared += n }))
		assert.Equal(t, int64(size), compared)
		got, err := os.ReadFile(filepath.Join(dir, "gate/ticketing.raw"))
		require.NoError(t, err)
		assert.Equal(t, sha256.Sum256(content), sha256.Sum256(got))
		left, err := upload.List(folder)
		require.NoError(t, err)
		assert.Empty(t, left)
		_, err = upload.Open(folder, "a1")
		require.ErrorIs(t, err, fs.ErrNotExist)
	}
}

// TestDamageIsFound: what is not on the storage as it came is asked for again, and so is what does not come as it was sent.
func TestDamageIsFound(t *testing.T) {
	folder, dir := pool(t)
	all, sums := pieces(random(2*upload.PieceSize + 1))
	u, err := upload.Begin(folder, upload.About{ID: "a2", Path: "ticketing.raw", Size: 2*upload.PieceSize + 1})
	require.NoError(t, err)
	require.ErrorIs(t, u.Put(0, all[1], sums[0]), upload.ErrPiece)
	require.ErrorIs(t, u.Put(2, all[0], sums[0]), upload.ErrPiece)
	require.Error(t, u.Put(3, all[0], sums[0]))
	require.Error(t, u.Put(-1, all[0], sums[0]))
	assert.Equal(t, []upload.Sum{{}, {}, {}}, u.Here())
	require.ErrorIs(t, u.End(t.Context(), upload.Root(sums), nothing), upload.ErrLacks)
	for n := range all {
		require.NoError(t, u.Put(n, all[n], sums[n]))
	}
	require.ErrorIs(t, u.End(t.Context(), upload.Root(sums[1:]), nothing), upload.ErrOther)

	at := filepath.Join(dir, u.Content())
	file, err := os.OpenFile(at, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteAt([]byte{^all[1][7]}, upload.PieceSize+7)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	require.ErrorIs(t, u.End(t.Context(), upload.Root(sums), nothing), upload.ErrLacks)
	assert.Equal(t, []upload.Sum{sums[0], {}, sums[2]}, u.Here())
	require.NoError(t, u.Put(1, all[1], sums[1]))

	require.NoError(t, os.WriteFile(filepath.Join(dir, "ticketing.raw"), []byte("another"), 0o600)) // meanwhile
	require.ErrorIs(t, u.End(t.Context(), upload.Root(sums), nothing), fs.ErrExist)
	kept, err := os.ReadFile(filepath.Join(dir, "ticketing.raw"))
	require.NoError(t, err)
	assert.Equal(t, "another", string(kept))
	require.NoError(t, os.Remove(filepath.Join(dir, "ticketing.raw")))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, u.End(ctx, upload.Root(sums), nothing), context.Canceled)
	require.NoError(t, u.End(t.Context(), upload.Root(sums), nothing))
	assert.FileExists(t, filepath.Join(dir, "ticketing.raw"))
}

// TestStays: what gets no name stays where it has arrived, until it is dropped.
func TestStays(t *testing.T) {
	folder, dir := pool(t)
	all, sums := pieces([]byte("crew roster"))
	u, err := upload.Begin(folder, upload.About{ID: "a3", Size: 11})
	require.NoError(t, err)
	require.NoError(t, u.Put(0, all[0], sums[0]))
	require.NoError(t, u.End(t.Context(), upload.Root(sums), nothing))
	got, err := os.ReadFile(filepath.Join(dir, u.Content()))
	require.NoError(t, err)
	assert.Equal(t, "crew roster", string(got))
	u, err = upload.Open(folder, "a3")
	require.NoError(t, err)
	assert.True(t, u.Arrived(), "also after a restart")
	require.NoError(t, u.Put(0, all[0], sums[0]))
	assert.True(t, u.Arrived(), "it is the same")
	require.NoError(t, os.WriteFile(filepath.Join(dir, u.Content()), []byte("Crew roster"), 0o600))
	require.ErrorIs(t, u.End(t.Context(), upload.Root(sums), nothing), upload.ErrLacks)
	assert.False(t, u.Arrived(), "it was damaged since")
	require.NoError(t, u.Put(0, all[0], sums[0]))
	require.NoError(t, u.End(t.Context(), upload.Root(sums), nothing))
	other := []byte("crew rosters")[:11]
	other[0] = 'b'
	require.NoError(t, u.Put(0, other, sha256.Sum256(other)))
	assert.False(t, u.Arrived(), "another piece came")
	require.NoError(t, u.Drop())
	assert.NoDirExists(t, filepath.Join(dir, disks.ArrivingFolder, "a3"))
}

// TestRefused: names that lead elsewhere, and what is no upload.
func TestRefused(t *testing.T) {
	folder, dir := pool(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "there.raw"), nil, 0o600))
	for _, a := range []upload.About{
		{ID: "a", Path: "../ticketing.raw"},
		{ID: "a", Path: "/ticketing.raw"},
		{ID: "a", Path: "gate/"},
		{ID: "a", Path: "."},
		{ID: "a", Path: ".bagaglio/held/x"},
		{ID: "a", Path: "gate/.bagaglio/x"},
		{ID: "a", Path: "x.raw", Size: -1},
		{ID: "a", Path: "x.raw", Size: upload.MaxSize + 1},
		{ID: "../a", Path: "x.raw"},
		{ID: "", Path: "x.raw"},
		{ID: "a", Path: "there.raw"},
	} {
		_, err := upload.Begin(folder, a)
		require.Error(t, err, "%+v", a)
	}
	_, err := upload.Open(folder, "../../etc")
	require.ErrorIs(t, err, fs.ErrNotExist)
	left, err := upload.List(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestExpires: with time, and only what nobody went on with.
func TestExpires(t *testing.T) {
	folder, _ := pool(t)
	u, err := upload.Begin(folder, upload.About{ID: "a4", Path: "x.raw", Size: 3})
	require.NoError(t, err)
	require.NoError(t, upload.DropExpired(folder, time.Now().Add(6*24*time.Hour)))
	left, err := upload.List(folder)
	require.NoError(t, err)
	require.Len(t, left, 1)
	require.NoError(t, u.Rest())
	require.NoError(t, upload.DropExpired(folder, time.Now().Add(8*24*time.Hour)))
	left, err = upload.List(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// rotten is a folder on whose storage the first byte of each file is another one than what was written, which this computer still has in memory.
type rotten struct{ storage.Folder }

func (r rotten) Fresh() storage.Folder { return spoilt(r) }

type spoilt struct{ storage.Folder }

func (s spoilt) Open(name string) (storage.File, error) {
	file, err := s.Folder.Open(name)
	return spoiltFile{file}, err
}

type spoiltFile struct{ storage.File }

func (f spoiltFile) ReadAt(p []byte, off int64) (int, error) {
	n, err := f.File.ReadAt(p, off)
	if off == 0 && n > 0 {
		p[0] ^= 1
	}
	return n, err
}

// TestReadBackIsOfTheStorage: what is in memory proves nothing.
func TestReadBackIsOfTheStorage(t *testing.T) {
	folder, dir := pool(t)
	all, sums := pieces([]byte("crew roster"))
	u, err := upload.Begin(rotten{folder}, upload.About{ID: "a5", Path: "roster", Size: 11})
	require.NoError(t, err)
	require.NoError(t, u.Put(0, all[0], sums[0]))
	require.ErrorIs(t, u.End(t.Context(), upload.Root(sums), nothing), upload.ErrLacks)
	assert.NoFileExists(t, filepath.Join(dir, "roster"))
}
