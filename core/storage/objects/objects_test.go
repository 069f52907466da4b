package objects

import (
	"bytes"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"

	"bagaglio/core/storage"
	"bagaglio/internal/testkit/objectstore"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const smallPart = 64 << 10

func folder(t *testing.T) (*Folder, *objectstore.Store) {
	t.Helper()
	s := objectstore.Start(t)
	f, err := Open(Login{URL: s.URL, AccessKey: objectstore.AccessKey, SecretKey: objectstore.SecretKey, PartSize: smallPart}, "/depot/disks")
	require.NoError(t, err)
	return f, s
}

func content(t *testing.T, f *Folder, name string) []byte {
	t.Helper()
	file, err := f.Open(name)
	require.NoError(t, err)
	defer file.Close()
	size, err := file.Size()
	require.NoError(t, err)
	p := make([]byte, size)
	if size > 0 {
		_, err = file.ReadAt(p, 0)
		require.NoError(t, err)
	}
	return p
}

// TestRandomWrites give what a file in memory would have, also when it is cut, closed and opened again, read as it is in parts, and put together.
func TestRandomWrites(t *testing.T) {
	for seed := range uint64(6) {
		random := rand.New(rand.NewPCG(seed, 7))
		f, s := folder(t)
		file, err := f.Create("staging/disk")
		require.NoError(t, err)
		var want []byte
		for range 60 {
			switch random.IntN(8) {
			case 0:
				size := random.IntN(12 * smallPart)
				require.NoError(t, file.Truncate(int64(size)))
				want = append(want, make([]byte, max(0, size-len(want)))...)[:size]
			case 1:
				require.NoError(t, file.Close())
				assert.True(t, bytes.Equal(want, content(t, f, "staging/disk")))
				if file, err = f.Reopen("staging/disk"); err != nil {
					require.NoError(t, err)
				}
			case 2:
				p := make([]byte, len(want)+1)
				n, _ := file.ReadAt(p, 0)
				require.True(t, bytes.Equal(want, p[:n]))
			default:
				off, p := random.IntN(10*smallPart), make([]byte, 1+random.IntN(3*smallPart))
				if random.IntN(3) > 0 { // or zeros
					for i := range p {
						p[i] = byte(random.Uint32())
					}
				}
				_, err := file.WriteAt(p, int64(off))
				require.NoError(t, err)
				want = append(want, make([]byte, max(0, off+len(p)-len(want)))...)
				copy(want[off:], p)
			}
		}
		require.NoError(t, file.Close())
		info, err := f.Stat("staging/disk")
		require.NoError(t, err)
		assert.Equal(t, int64(len(want)), info.Size)
		require.NoError(t, f.Rename("staging/disk", "disk.raw"))
		assert.True(t, bytes.Equal(want, content(t, f, "disk.raw")))
		assert.True(t, bytes.Equal(want, s.Get("depot/disks/disk.raw")), "it is one object")
		assert.Equal(t, []string{"/depot/disks/disk.raw"}, s.Names(), "nothing is left of its parts")
	}
}

// TestHolesAreNotSent, and tell themselves.
func TestHolesAreNotSent(t *testing.T) {
	f, s := folder(t)
	file, err := f.Create("thin")
	require.NoError(t, err)
	require.NoError(t, file.Truncate(100*smallPart))
	_, err = file.WriteAt([]byte("tide"), 40*smallPart+9)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	assert.Less(t, s.Sent.Load(), int64(2*smallPart))
	again, err := f.Open("thin")
	require.NoError(t, err)
	end, data, err := again.(storage.RangeFinder).Range(0)
	require.NoError(t, err)
	assert.Equal(t, int64(40*smallPart), end)
	assert.False(t, data)
	require.NoError(t, f.Rename("thin", "there"))
	assert.Less(t, s.Sent.Load(), int64(4*smallPart), "the store puts zeros together by itself")
	assert.Len(t, s.Get("depot/disks/there"), 100*smallPart)
}

// TestAStoreThatCopiesBadly is found by its own checksums, and nothing gets the name.
func TestAStoreThatCopiesBadly(t *testing.T) {
	for name, size := range map[string]int{"at once": 100, "in parts": 3 * smallPart} {
		t.Run(name, func(t *testing.T) {
			f, s := folder(t)
			file, err := f.Create("disk")
			require.NoError(t, err)
			_, err = file.WriteAt(bytes.Repeat([]byte("sea"), size), 0)
			require.NoError(t, err)
			require.NoError(t, file.Close())
			s.Rot.Store(true)
			require.ErrorContains(t, f.Rename("disk", "new"), "is not what was written")
			_, err = f.Stat("new")
			require.ErrorIs(t, err, fs.ErrNotExist)
			s.Rot.Store(false)
			require.NoError(t, f.Rename("disk", "new"))
		})
	}
}

// TestWhatIsChangedMeanwhile is noticed by who reads it.
func TestWhatIsChangedMeanwhile(t *testing.T) {
	f, s := folder(t)
	s.Put("depot/disks/a.raw", []byte("ebb"))
	file, err := f.Open("a.raw")
	require.NoError(t, err)
	before, err := f.Version("a.raw")
	require.NoError(t, err)
	s.Put("depot/disks/a.raw", []byte("flo"))
	_, err = file.ReadAt(make([]byte, 3), 0)
	require.ErrorContains(t, err, "changed")
	after, err := f.Version("a.raw")
	require.NoError(t, err)
	assert.NotEqual(t, before, after)
}

// TestAFileThatSomebodyMadeMeanwhile keeps its content.
func TestAFileThatSomebodyMadeMeanwhile(t *testing.T) {
	f, s := folder(t)
	s.Put("depot/disks/new.raw", []byte("ebb"))
	w := f.writer("new.raw", "disks/new.raw")
	require.ErrorIs(t, w.whole(nil), fs.ErrExist)
	assert.Equal(t, "ebb", string(s.Get("depot/disks/new.raw")))
}

// TestAStoreWithoutConditions is written to all the same.
func TestAStoreWithoutConditions(t *testing.T) {
	f, s := folder(t)
	s.Fault = func(r *http.Request) int {
		if r.Header.Get("If-None-Match") != "" {
			return http.StatusNotImplemented
		}
		return 0
	}
	file, err := f.Create("a.raw")
	require.NoError(t, err)
	_, err = file.WriteAt([]byte("ebb"), 0)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	assert.Equal(t, "ebb", string(s.Get("depot/disks/a.raw")))
}

// TestWhatWasLeft by one who was killed is not part of a file that is made later, nor what was sent behind the last sync.
func TestWhatWasLeft(t *testing.T) {
	f, s := folder(t)
	s.Put("depot/disks/new.bagparts/000002", bytes.Repeat([]byte("x"), smallPart))
	file, err := f.Create("new")
	require.NoError(t, err)
	require.NoError(t, file.Truncate(4*smallPart))
	_, err = file.WriteAt([]byte("tide"), 0)
	require.NoError(t, err)
	require.NoError(t, file.Sync())
	s.Put("depot/disks/new.bagparts/000007", bytes.Repeat([]byte("x"), smallPart))
	s.Put("depot/disks/new.bagparts/000003", bytes.Repeat([]byte("x"), smallPart))
	file, err = f.Reopen("new")
	require.NoError(t, err)
	require.NoError(t, file.Truncate(3*smallPart))
	require.NoError(t, file.Truncate(9*smallPart))
	require.NoError(t, file.Close())
	want := make([]byte, 9*smallPart)
	copy(want, "tide")
	assert.True(t, bytes.Equal(want, content(t, f, "new")))
}

// TestTrouble of a store: what may be right again is tried again, and then said to be lost; a wrong key is said.
func TestTrouble(t *testing.T) {
	f, s := folder(t)
	s.Put("depot/disks/a.raw", []byte("ebb"))
	var calls atomic.Int64
	s.Fault = func(*http.Request) int {
		if calls.Add(1) == 1 {
			return http.StatusServiceUnavailable
		}
		return 0
	}
	assert.Equal(t, "ebb", string(content(t, f, "a.raw")))
	s.Fault = func(*http.Request) int { return -1 }
	_, err := f.Stat("a.raw")
	require.ErrorIs(t, err, storage.ErrLost)
	s.Fault = nil
	bad, err := Open(Login{URL: s.URL, AccessKey: objectstore.AccessKey, SecretKey: "ebb"}, "depot")
	require.NoError(t, err)
	_, err = bad.List(".")
	require.ErrorIs(t, err, fs.ErrPermission)
	none, err := Open(Login{URL: s.URL, AccessKey: objectstore.AccessKey, SecretKey: objectstore.SecretKey}, "shed")
	require.NoError(t, err)
	_, err = none.Space()
	require.ErrorContains(t, err, "no such bucket")
	s.Put("depot/disks/"+strings.Repeat("b", 3)+"//c", nil)
	s.Put("depot/disks/../c", nil)
	all, err := f.List(".")
	require.NoError(t, err)
	assert.Len(t, all, 2, "what has no name here is left out")
}
