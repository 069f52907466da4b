package access

import (
	"path/filepath"
	"testing"
	"time"

	"bagaglio/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhoStays until their token is revoked, or what let them in has expired, also where that happens while they come in.
func TestWhoStays(t *testing.T) {
	state := t.TempDir()
	records, err := store.Open(t.Context(), filepath.Join(state, "records.sqlite"))
	require.NoError(t, err)
	defer records.Close()
	a, err := Open(t.Context(), state, records)
	require.NoError(t, err)
	made := func() Person {
		t.Helper()
		_, secret, err := a.NewToken(t.Context(), "night-watch", Viewer, nil, nil)
		require.NoError(t, err)
		p, ok, err := a.Token(t.Context(), secret)
		require.NoError(t, err)
		require.True(t, ok)
		return p
	}
	p := made()
	inside, leave := a.While(t.Context(), p)
	defer leave()
	others, leaveOthers := a.While(t.Context(), Person{Role: Admin})
	defer leaveOthers()
	require.NoError(t, a.Revoke(t.Context(), "night-watch"))
	<-inside.Done()
	require.NoError(t, others.Err())
	late, leaveLate := a.While(t.Context(), p)
	defer leaveLate()
	require.Error(t, late.Err(), "it was revoked meanwhile")
	again, leaveAgain := a.While(t.Context(), made())
	defer leaveAgain()
	require.NoError(t, again.Err())
	past := time.Now().Add(-time.Second)
	expired, leaveExpired := a.While(t.Context(), Person{Name: "day-watch", Expires: &past})
	defer leaveExpired()
	require.Error(t, expired.Err())
	require.ErrorIs(t, a.Revoke(t.Context(), "nobody"), store.ErrNotFound)
}

// TestWhoComesInMeanwhile by a session that is ended, or as somebody who is removed, does not stay.
func TestWhoComesInMeanwhile(t *testing.T) {
	state := t.TempDir()
	records, err := store.Open(t.Context(), filepath.Join(state, "records.sqlite"))
	require.NoError(t, err)
	defer records.Close()
	a, err := Open(t.Context(), state, records)
	require.NoError(t, err)
	_, err = a.AddPerson(t.Context(), "crew", Operator, nil, "nine gulls on a mast")
	require.NoError(t, err)
	in := func() Person {
		t.Helper()
		_, session, ok, err := a.SignIn(t.Context(), "crew", "nine gulls on a mast", "127.0.0.1")
		require.NoError(t, err)
		require.True(t, ok)
		p, ok, err := a.Session(t.Context(), session)
		require.NoError(t, err)
		require.True(t, ok)
		return p
	}
	before, err := records.Person(t.Context(), "crew")
	require.NoError(t, err)
	_, err = a.ChangePerson(t.Context(), "crew", "", nil, "ten gulls on a mast")
	require.NoError(t, err)
	require.ErrorIs(t, records.UsePerson(t.Context(), before), store.ErrNotFound, "they signed in with what is not so any more")
	_, _, ok, err := a.SignIn(t.Context(), "crew", "nine gulls on a mast", "127.0.0.1")
	require.NoError(t, err)
	require.False(t, ok)
	after, err := a.ChangePerson(t.Context(), "crew", Viewer, nil, "")
	require.NoError(t, err)
	assert.NotEqual(t, before.Password, after.Password, "another role leaves the password")
	_, err = a.ChangePerson(t.Context(), "crew", Operator, nil, "nine gulls on a mast")
	require.NoError(t, err)
	first, second := in(), in()
	require.NoError(t, a.EndSession(t.Context(), first, first.Session))
	late, leaveLate := a.While(t.Context(), first)
	defer leaveLate()
	require.Error(t, late.Err())
	stays, leave := a.While(t.Context(), second)
	defer leave()
	require.NoError(t, stays.Err())
	require.NoError(t, a.RemovePerson(t.Context(), "crew"))
	<-stays.Done()
	late, leaveLater := a.While(t.Context(), second)
	defer leaveLater()
	require.Error(t, late.Err())
	_, _, ok, err = a.SignIn(t.Context(), "crew", "nine gulls on a mast", "127.0.0.1")
	require.NoError(t, err)
	assert.False(t, ok)
}

// TestRoles: each has what those before it have.
func TestRoles(t *testing.T) {
	for has, role := range roles {
		for needs, needed := range roles {
			assert.Equal(t, has >= needs, role.May(needed), "%s for %s", role, needed)
		}
		assert.False(t, role.May("captain"))
	}
	assert.False(t, Role("captain").May(Viewer))
}
