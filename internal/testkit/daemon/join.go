package daemon

import (
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/require"
)

// runs is what machines of such a host are run by.
var runs = "libvirt"

// JoinHere starts one that runs the machines of a service's own computer, with the folder of its disks as a pool.
func JoinHere(t testing.TB, s *client.Service, pool string) *Daemon {
	t.Helper()
	d := Start(t)
	_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &d.Socket})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: pool, Folder: d.Dir})
	require.NoError(t, err)
	return d
}

// JoinOver starts one that is reached over SSH as a host of a name, likewise; what goes into its pool belongs to it.
func JoinOver(t testing.TB, s *client.Service, name, pool string) (*Daemon, *sshd.Server) {
	t.Helper()
	d, server := Start(t), sshd.Start(t)
	key, agent := string(server.Key), false
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: name, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	_, err = s.ChangeHost(t.Context(), name, api.HostChange{Runs: &runs, Socket: &d.Socket})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: pool, Host: &name, Folder: d.Dir})
	require.NoError(t, err)
	_, err = s.ChangePool(t.Context(), pool, api.PoolChange{Rules: plan.Rules{Owner: d.Owner, Mode: "0660"}})
	require.NoError(t, err)
	return d, server
}
