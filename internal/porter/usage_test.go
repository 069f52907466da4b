package porter

import (
	"encoding/json"
	"testing"

	"bagaglio/core/storage"
	"bagaglio/core/storage/memory"
	"bagaglio/internal/errand"
	"bagaglio/internal/testkit/engines"

	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// locked is a folder of which a file is in use, as this computer sees it.
type locked struct{ *memory.Folder }

func (locked) InUse(name string) (string, error) {
	if name == "locked.raw" {
		return "another program has locked it", nil
	}
	return "", nil
}

// TestWhatIsInUse is what this computer or the service knows of, and with suspended machines what the service says alone.
func TestWhatIsInUse(t *testing.T) {
	conn, err := nats.Connect(engines.Start(t, 1).URL)
	require.NoError(t, err)
	t.Cleanup(conn.Close)
	var asked []string
	_, err = conn.Subscribe(errand.Call("annex", 7, 1, errand.InUse), func(m *nats.Msg) {
		var a errand.Asked
		assert.NoError(t, json.Unmarshal(m.Data, &a))
		asked = append(asked, a.Subject+" "+a.Files[0])
		var said errand.Answer[string]
		if a.Files[0] == "runs.raw" && !a.There {
			said.Value = "the machine annex:ticketing is running"
		}
		b, err := json.Marshal(said)
		assert.NoError(t, err)
		assert.NoError(t, m.Respond(b))
	})
	require.NoError(t, err)
	require.NoError(t, conn.Flush())
	p := &Porter{id: &Identity{Porter: "annex"}, conn: conn}
	w := &work{porter: p, order: errand.Order{Job: 7, Epoch: 1}, ctx: t.Context()}
	of := func(suspended, there bool, name string) string {
		t.Helper()
		folder := locked{&memory.Folder{}}
		u, ok := storage.As[storage.Usage](asking{folder, usage{folder, w, "d", there, suspended}})
		require.True(t, ok)
		why, err := u.InUse(name)
		require.NoError(t, err)
		return why
	}
	assert.Empty(t, of(false, false, "free.raw"))
	assert.Equal(t, "another program has locked it", of(false, false, "locked.raw"))
	assert.Equal(t, "the machine annex:ticketing is running", of(false, false, "runs.raw"))
	assert.Empty(t, of(false, true, "runs.raw"), "that is another folder")
	assert.Empty(t, of(true, false, "locked.raw"), "by a machine that is suspended, as the service knows")
	assert.Equal(t, []string{"d free.raw", "d runs.raw", "d runs.raw", "d locked.raw"}, asked)
}
