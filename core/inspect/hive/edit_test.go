package hive_test

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/inspect/hive"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/hives"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"www.velocidex.com/golang/regparser"
)

// deepen gives a berth another depth, in a registry.
func deepen(b []byte, berth string, depth uint32) ([]byte, hive.Edit, error) {
	h, err := hive.Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, hive.Edit{}, err
	}
	k, err := h.Key(`Berths\` + berth)
	if err != nil {
		return nil, hive.Edit{}, err
	}
	e, err := k.SetNumber("Depth", depth)
	if err != nil {
		return nil, e, err
	}
	out, err := hive.Apply(b, []hive.Edit{e})
	return out, e, err
}

// TestANumberIsGivenAnotherValue, as an independent reader finds it too; all others are what they were, and so is the content that it was made of.
func TestANumberIsGivenAnotherValue(t *testing.T) {
	b := harbour(100)
	was := bytes.Clone(b)
	out, e, err := deepen(b, "Berth042", 9000)
	require.NoError(t, err)
	assert.Equal(t, uint32(42), e.Was)
	assert.Equal(t, was, b)
	assert.False(t, opened(t, out).Unfinished)
	theirs, err := regparser.NewRegistry(bytes.NewReader(out))
	require.NoError(t, err)
	for i, name := range []string{"Berth041", "Berth042", "Berth043"} {
		k, err := opened(t, out).Key(`Berths\` + name)
		require.NoError(t, err)
		n, err := k.Number("Depth")
		require.NoError(t, err)
		want := uint32([]int{41, 9000, 43}[i])
		assert.Equal(t, want, n)
		key := theirs.OpenKey("/Berths/" + name)
		require.NotNil(t, key)
		require.Len(t, key.Values(), 1)
		assert.Equal(t, uint64(want), key.Values()[0].ValueData().Uint64)
	}
	_, err = hive.Apply(out, []hive.Edit{e})
	require.ErrorIs(t, err, disk.ErrDamaged, "it is another one by now")
	_, err = hive.Apply(b, []hive.Edit{{Off: 40}})
	require.ErrorIs(t, err, disk.ErrDamaged, "the base block is nobody's")
	b[4]++
	hives.Sum(b)
	_, err = hive.Apply(b, []hive.Edit{e})
	require.ErrorIs(t, err, hive.ErrUnfinished)
}

// TestMutatedRegistries are read or refused, never with a panic, and never is a byte another one that was not asked for: the number, those of the last write, and the checksum.
func TestMutatedRegistries(t *testing.T) {
	small := hives.Make(hives.Key{Name: "ROOT", Keys: []hives.Key{{Name: "Berths", Each: 2, Keys: []hives.Key{
		{
			Name:   "Berth001",
			Values: map[string]any{"Depth": uint32(1), "Name": "first"},
		},
		{Name: "Berth002", Values: map[string]any{"Depth": uint32(2)}},
		{Name: "empty"},
	}}}})
	r := rand.New(rand.NewPCG(22, rand.Uint64()))
	edited := 0
	for range fewer.Times(20_000, 1_000_000) {
		b := bytes.Clone(small)
		for range 1 + r.IntN(4) {
			at := 4096 + r.IntN(1024)
			if r.IntN(8) == 0 {
				at = r.IntN(508)
			}
			b[at] = byte(r.Uint32())
		}
		hives.Sum(b)
		out, e, err := deepen(b, "Berth002", 7)
		if err != nil {
			continue
		}
		edited++
		require.Len(t, out, len(b))
		for i := range b {
			if b[i] != out[i] {
				require.True(t, i >= 4 && i < 12 || i >= 508 && i < 512 || int64(i) >= e.Off && int64(i) < e.Off+4, "byte %d", i)
			}
		}
	}
	assert.Positive(t, edited)
}
