package recovery

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/internal/store"
	"bagaglio/internal/testkit/engines"

	"filippo.io/age"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// held is a service's state with records, whose right to them is held in an engine.
func held(t *testing.T, url string, key *age.X25519Identity) (*shipper, *store.Store, string) {
	t.Helper()
	state := t.TempDir()
	p, err := Connect(t.Context(), url, "", 1)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	o := Options{State: state, To: key.Recipient().String(), Log: slog.New(slog.DiscardHandler)}
	h, err := p.Hold(t.Context(), o, nil)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	s, err := store.Open(t.Context(), filepath.Join(state, recordsFile))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	c, err := s.NewCopier(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return &shipper{place: p, held: h, o: o, to: key.Recipient(), copier: c}, s, state
}

func newKey(t *testing.T) *age.X25519Identity {
	t.Helper()
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return key
}

// TestRandomRecords come back as they were when the last frame was whole, whatever was written, with frames that were cut off between them.
func TestRandomRecords(t *testing.T) {
	engine := engines.Start(t, 1)
	key := newKey(t)
	ship, s, state := held(t, engine.URL, key)
	conn, err := nats.Connect(engine.URL)
	require.NoError(t, err)
	defer conn.Close()
	random := mathrand.New(mathrand.NewPCG(3, 5))
	var want []byte
	small := map[string]string{}
	for round := range 40 {
		for range random.IntN(6) {
			noise := make([]byte, random.IntN(40_000))
			_, _ = rand.Read(noise)
			require.NoError(t, s.SetSetting(t.Context(), string(rune('a'+random.IntN(26))), string(bytes.ToValidUTF8(noise, nil))))
		}
		if random.IntN(3) == 0 {
			name := filepath.Join("porters", string(rune('a'+random.IntN(4))))
			require.NoError(t, os.MkdirAll(filepath.Join(state, "porters"), 0o700))
			if _, has := small[name]; has && random.IntN(2) == 0 {
				require.NoError(t, os.Remove(filepath.Join(state, name)))
				delete(small, name)
			} else {
				small[name] = rand.Text()
				require.NoError(t, os.WriteFile(filepath.Join(state, name), []byte(small[name]), 0o600))
			}
		}
		switch random.IntN(5) {
		case 0: // it is cut off behind its first part
			m := nats.NewMsg(framesSubject)
			m.Data = []byte("half a frame")
			m.Header.Set(frameHeader, ship.snapshot+".99")
			m.Header.Set(partHeader, "0")
			require.NoError(t, conn.PublishMsg(m))
			require.NoError(t, conn.Flush())
			info, err := ship.place.info(t.Context())
			require.NoError(t, err)
			ship.last = info.State.LastSeq
		case 1: // what was sent is not known to have arrived
			ship.snapshot = ""
		}
		if _, err := ship.frame(t.Context()); err != nil {
			require.NoError(t, err)
		}
		want, err = os.ReadFile(filepath.Join(state, copyFile))
		require.NoError(t, err)
		if round%8 != 7 {
			continue
		}
		there := t.TempDir()
		found, err := ship.place.Restore(t.Context(), key, there)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(there, recordsFile))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), "round %d", round)
		assert.Equal(t, int64(1), found.Term)
		for name, content := range small {
			text, err := os.ReadFile(filepath.Join(there, name))
			require.NoError(t, err)
			assert.Equal(t, content, string(text))
		}
		entries, _ := os.ReadDir(filepath.Join(there, "porters")) // which may not be there
		assert.Len(t, entries, len(small))
		again, err := store.Open(t.Context(), filepath.Join(there, recordsFile))
		require.NoError(t, err)
		_, _, err = again.Check(t.Context())
		require.NoError(t, err)
		require.NoError(t, again.Close())
	}
}

// TestAnotherKey reads nothing, and one who has the records without holding them writes nothing.
func TestAnotherKey(t *testing.T) {
	engine := engines.Start(t, 1)
	ship, s, _ := held(t, engine.URL, newKey(t))
	_, err := ship.frame(t.Context())
	require.NoError(t, err)
	_, err = ship.place.Restore(t.Context(), newKey(t), t.TempDir())
	require.ErrorContains(t, err, "not the recovery key")

	// Somebody else has written.
	me := ship.held.me
	h, revision, err := ship.place.holder(t.Context())
	require.NoError(t, err)
	assert.Equal(t, me.ID, h.ID)
	h.ID, h.Run, h.Term, h.Name = "other", "other", 2, "lighthouse"
	_, err = ship.place.put(t.Context(), h, revision)
	require.NoError(t, err)
	_, err = ship.place.js.Publish(context.WithoutCancel(t.Context()), framesSubject, []byte("of the other one"))
	require.NoError(t, err)
	require.NoError(t, s.SetSetting(t.Context(), "tide", "ebb"))
	_, err = ship.frame(t.Context())
	require.ErrorIs(t, err, ErrTakenOver)
	require.ErrorContains(t, err, "lighthouse")
	_, err = ship.place.put(t.Context(), me, revision)
	require.ErrorIs(t, err, ErrTakenOver)
}

// FuzzFrame: a frame that makes no sense is refused, and nothing is written outside of the folder.
func FuzzFrame(f *testing.F) {
	key, err := age.GenerateX25519Identity()
	require.NoError(f, err)
	f.Add(`{"pages":2,"has":1}`, []byte("page"), int64(1))
	f.Add(`{"pages":1,"has":1,"files":{"../../x":"eA=="}}`, []byte{}, int64(0))
	f.Add(`{"pages":-1}`, []byte{}, int64(7))
	f.Fuzz(func(t *testing.T, head string, page []byte, number int64) {
		var out bytes.Buffer
		require.NoError(t, seal(&out, key.Recipient(), func(to io.Writer) error {
			_, err := fmt.Fprintf(to, "%s\n%s%s", head, binary.BigEndian.AppendUint32(nil, uint32(number)), page)
			return err
		}))
		dir := t.TempDir()
		inside := filepath.Join(dir, "a", "b")
		require.NoError(t, os.MkdirAll(inside, 0o700))
		_, _ = readFrame(&out, key, inside)
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, entries, 1)
		entries, err = os.ReadDir(filepath.Join(dir, "a"))
		require.NoError(t, err)
		assert.Len(t, entries, 1)
	})
}
