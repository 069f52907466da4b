package hive_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/inspect/hive"
	"bagaglio/internal/testkit/hives"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// harbour is a registry with many keys, in lists of lists where each is given.
func harbour(each int) []byte {
	berths := hives.Key{Name: "Berths", Each: each}
	for i := range 700 {
		berths.Keys = append(berths.Keys, hives.Key{Name: fmt.Sprintf("Berth%03d", i), Values: map[string]any{"Depth": uint32(i)}})
	}
	return hives.Make(hives.Key{Name: "ROOT", Keys: []hives.Key{
		berths,
		{Name: "Ünder Segel", Values: map[string]any{"Größe": "12 m, größer", "Mast": uint32(7), "": "the key itself"}},
		{Name: "empty"},
	}})
}

func opened(t *testing.T, b []byte) *hive.Hive {
	t.Helper()
	h, err := hive.Open(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	return h
}

func TestKeysAndValues(t *testing.T) {
	for _, each := range []int{0, 1, 100} {
		h := opened(t, harbour(each))
		assert.False(t, h.Unfinished)
		k, err := h.Key(`berths\BERTH699`)
		require.NoError(t, err)
		n, err := k.Number("depth")
		require.NoError(t, err)
		assert.Equal(t, uint32(699), n)
		all, err := h.Key("Berths")
		require.NoError(t, err)
		keys, err := all.Keys()
		require.NoError(t, err)
		require.Len(t, keys, 700)
		assert.Equal(t, "Berth000", keys[0].Name())

		k, err = h.Key("Ünder Segel")
		require.NoError(t, err)
		text, err := k.Text("größe")
		require.NoError(t, err)
		assert.Equal(t, "12 m, größer", text)
		_, err = k.Text("Mast")
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = k.Number("Größe")
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = k.Number("Keel")
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = h.Key(`empty\at all`)
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = h.Key(`Berths\Berth700`)
		require.ErrorContains(t, err, `Berths\Berth700 of the registry`)
	}
}

func TestDamagedRegistries(t *testing.T) {
	for name, change := range map[string]func(b []byte) []byte{
		"cut":              func(b []byte) []byte { return b[:5000] },
		"short":            func(b []byte) []byte { return b[:100] },
		"something else":   func(b []byte) []byte { return make([]byte, len(b)) },
		"a wrong checksum": func(b []byte) []byte { b[40]++; return b },
		"a first key behind the end": func(b []byte) []byte {
			b[39] = 0x7f
			hives.Sum(b)
			return b
		},
		"a first key that is none": func(b []byte) []byte {
			copy(b[36:], []byte{32, 0, 0, 0})
			hives.Sum(b)
			return b
		},
	} {
		b := change(harbour(0))
		h, err := hive.Open(bytes.NewReader(b), int64(len(b)))
		if err == nil {
			_, err = h.Key(`Berths\Berth001`)
		}
		require.ErrorIs(t, err, disk.ErrDamaged, name)
	}
	b := harbour(0)
	b[4]++
	hives.Sum(b)
	assert.True(t, opened(t, b).Unfinished)
}

// FuzzHive reads all of what claims to be a registry, in bounds.
func FuzzHive(f *testing.F) {
	small := hives.Make(hives.Key{Name: "ROOT", Each: 1, Keys: []hives.Key{
		{Name: "Select", Values: map[string]any{"Current": uint32(1)}}, {Name: "x", Values: map[string]any{"y": "text"}},
	}})
	f.Add([]byte{}, uint16(0))
	f.Add([]byte{0xff, 0xff, 0xff, 0xff}, uint16(4096+32))
	f.Add([]byte("ri"), uint16(4200))
	f.Fuzz(func(t *testing.T, patch []byte, at uint16) {
		b := bytes.Clone(small)
		copy(b[min(int(at), len(b)):], patch)
		hives.Sum(b)
		h, err := hive.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		read := 0
		var visit func(k hive.Key, depth int)
		visit = func(k hive.Key, depth int) {
			keys, err := k.Keys()
			if read++; err != nil || depth > 3 || read > 100 {
				return
			}
			assert.LessOrEqual(t, len(k.Name()), 1024)
			for _, name := range []string{"Current", "y"} {
				_, _ = k.Number(name)
				_, _ = k.Text(name)
			}
			for _, sub := range keys {
				visit(sub, depth+1)
			}
		}
		if k, err := h.Key("x"); err == nil {
			visit(k, 0)
		}
	})
}
