package attack

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"bagaglio/api"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestSecretsGoWhereTheyBelong: a secret that is named by its file comes only out of the folder for that, only for the computer that it
// was put there for, and only out of a file that is one.
func TestSecretsGoWhereTheyBelong(t *testing.T) {
	t.Parallel()
	var got sync.Map // passwords by the user they came with: the service may look at a host once more while it is being removed
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, ok := r.BasicAuth(); ok {
			got.Store(user, password)
		}
		http.NotFound(w, r)
	}))
	defer web.Close()
	secrets := t.TempDir()
	mine, theirs := filepath.Join(secrets, "127.0.0.1"), filepath.Join(secrets, "192.0.2.9")
	for _, dir := range []string{mine, theirs} {
		require.NoError(t, os.Mkdir(dir, 0o700))
	}
	write := func(file, text string, mode os.FileMode) {
		require.NoError(t, os.WriteFile(file, []byte(text), mode))
		require.NoError(t, os.Chmod(file, mode))
	}
	write(filepath.Join(mine, "right"), "low tide", 0o600)
	write(filepath.Join(mine, "open"), "low tide", 0o644)
	write(filepath.Join(mine, "long"), string(make([]byte, 100<<10)), 0o600)
	write(filepath.Join(theirs, "password"), "not for you", 0o600)
	require.NoError(t, unix.Mkfifo(filepath.Join(mine, "pipe"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(mine, "endless")))
	require.NoError(t, os.Symlink(filepath.Join(theirs, "password"), filepath.Join(mine, "link")))
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--secrets", secrets)
	token := filepath.Join(s.State, "token")
	require.NoError(t, os.Link(token, filepath.Join(mine, "hard")))
	ask := func(s *testkit.Service, user, password string) string {
		_, err := s.AddHost(
			t.Context(),
			api.NewHost{Name: "pier", Kind: api.NewHostKindHttp, Address: web.URL, User: &user, Login: &api.Secrets{Password: &password}},
		)
		require.NoError(t, err)
		defer func() { require.NoError(t, s.RemoveHost(t.Context(), "pier")) }()
		_, err = s.AddPool(t.Context(), api.NewPool{Name: "pier-store", Host: ptr("pier"), Folder: "/disks"})
		if err == nil {
			require.NoError(t, s.RemovePool(t.Context(), "pier-store"))
			return ""
		}
		return err.Error()
	}
	_ = ask(s, "right", "file:right")
	sent, _ := got.Load("right")
	assert.Equal(t, "low tide", sent)
	for password, says := range map[string]string{
		"file:open": "be closed to all others", "file:long": "longer than", "file:pipe": "no plain file", "file:endless": "", "file:link": "",
		"file:../192.0.2.9/password": "is not the name of a file", "file:" + token: "is not the name of a file", "file:/dev/zero": "is not the name of a file",
		"file:gone": "no such file", "env:BAGAGLIO_STATE": "has to begin with BAGAGLIO_SECRET_127_0_0_1_", "file:hard": "it belongs to the service itself",
	} {
		user := fmt.Sprintf("%x", password)
		assert.Contains(t, ask(s, user, password), says, password)
		sent, _ := got.Load(user)
		assert.Empty(t, sent, password)
	}
	without := start(t)
	assert.Contains(t, ask(without, "crew", "file:right"), "no folder for secrets is configured")
	assert.Contains(t, ask(without, "crew", "credential:127.0.0.1.password"), "LoadCredential=")
	unit := t.TempDir()
	write(filepath.Join(unit, "127.0.0.1.password"), "spring tide", 0o400)
	write(filepath.Join(unit, "192.0.2.9.password"), "not for you", 0o400)
	with := testkit.StartBinary(t, testkit.Binary(t), []string{"CREDENTIALS_DIRECTORY=" + unit}, filepath.Join(t.TempDir(), "state"))
	_ = ask(with, "unit", "credential:127.0.0.1.password")
	sent, _ = got.Load("unit")
	assert.Equal(t, "spring tide", sent)
	for _, name := range []string{"192.0.2.9.password", "../x", "127.0.0.1", "127.0.0.1./../192.0.2.9.password"} {
		assert.Contains(t, ask(with, "unit-"+name, "credential:"+name), "has to begin with 127.0.0.1.", name)
		sent, _ := got.Load("unit-" + name)
		assert.Empty(t, sent, name)
	}

	// A password that is kept does not follow a host to another computer.
	_, err := s.AddHost(
		t.Context(),
		api.NewHost{
			Name:    "pier",
			Kind:    api.NewHostKindHttp,
			Address: "http://192.0.2.9",
			User:    ptr("crew"),
			Login:   &api.Secrets{Password: ptr("kept")},
		},
	)
	require.NoError(t, err)
	_, err = s.ChangeHost(t.Context(), "pier", api.HostChange{Address: &web.URL})
	require.ErrorContains(t, err, "give the password again")
}
