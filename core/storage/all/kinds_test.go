package all

import (
	"testing"

	"bagaglio/core/storage"
	_ "bagaglio/core/storage/http"
	_ "bagaglio/core/storage/objects"
	_ "bagaglio/core/storage/sftp"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryKindChecksItsServers: a new kind adds its row.
func TestEveryKindChecksItsServers(t *testing.T) {
	for name, c := range map[string]struct {
		good storage.Server
		want string // address
		bad  []storage.Server
	}{
		"sftp": {
			storage.Server{Address: "192.0.2.7", User: "crew"}, "192.0.2.7:22",
			[]storage.Server{{Address: "192.0.2.7"}, {Address: "crew@quay", User: "crew"}, {Address: "quay", User: "crew", TrustedKey: "MD5:00"}},
		},
		"http": {
			storage.Server{Address: "https://pier.example/"}, "https://pier.example",
			[]storage.Server{{Address: "pier.example"}, {Address: "ftp://pier.example"}, {Address: "https://pier.example/disks"}},
		},
		"s3": {
			storage.Server{Address: "https://depot.example/"}, "https://depot.example",
			[]storage.Server{{Address: "depot.example"}, {Address: "s3://depot"}, {Address: "https://depot.example/disks"}},
		},
	} {
		k, err := storage.LookupKind(name)
		require.NoError(t, err)
		require.NoError(t, k.Check(&c.good), name)
		assert.Equal(t, c.want, c.good.Address)
		for _, bad := range c.bad {
			assert.Error(t, k.Check(&bad), "%s %+v", name, bad)
		}
	}
	_, err := storage.LookupKind("floppy")
	require.ErrorIs(t, err, storage.ErrNoKind)
	assert.ErrorContains(t, err, "http, porter, s3, sftp")
}
