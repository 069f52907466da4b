package sftp

import (
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"bagaglio/core/storage"
	"bagaglio/internal/testkit/sshd"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

func TestHostsAreTrustedByTheirKeyOnly(t *testing.T) {
	server := sshd.Start(t)
	shown, err := ShownKey(t.Context(), server.Address)
	require.NoError(t, err)
	assert.Equal(t, server.HostKey, shown)
	login := Login{Address: server.Address, User: server.User, Key: server.Key}
	_, err = Open(t.Context(), login, "/")
	var refused *storage.HostKeyError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, err.Error(), "not trusted yet")
	assert.Contains(t, err.Error(), shown)
	login.HostKey = "SHA256:somebody+elses"
	_, err = Open(t.Context(), login, "/")
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, err.Error(), "is not the one that was trusted")
	login.HostKey = shown
	f, err := Open(t.Context(), login, t.TempDir())
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// TestConnectionsEndTogether: of two, the loss of one is that of the host, which is reached anew by the next call.
func TestConnectionsEndTogether(t *testing.T) {
	server := sshd.Start(t)
	f, err := Open(t.Context(), Login{Address: server.Address, User: server.User, Key: server.Key, HostKey: server.HostKey}, t.TempDir())
	require.NoError(t, err)
	defer f.Close()
	for i := range 2 {
		c := f.conn
		require.Len(t, c.wires, 2)
		require.Len(t, c.lanes, lanes)
		file, err := f.Create("tide-" + strconv.Itoa(i))
		require.NoError(t, err)
		require.NoError(t, c.wires[1-i].Close())
		require.Eventually(t, func() bool { return !c.alive() }, 10*time.Second, time.Millisecond)
		_, err = file.WriteAt(make([]byte, 4*partSize), 0)
		require.ErrorIs(t, err, storage.ErrLost)
		_, err = f.List(".")
		require.NoError(t, err)
		assert.NotSame(t, c, f.conn)
	}
}

func TestLoggingIn(t *testing.T) {
	server := sshd.Start(t)
	dir := t.TempDir()
	block, err := ssh.ParseRawPrivateKey(server.Key)
	require.NoError(t, err)
	locked, err := ssh.MarshalPrivateKeyWithPassphrase(*block.(*ed25519.PrivateKey), "", []byte("harbour"))
	require.NoError(t, err)
	keyring := agent.NewKeyring()
	require.NoError(t, keyring.Add(agent.AddedKey{PrivateKey: block}))
	socket := filepath.Join(t.TempDir(), "agent")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			_ = agent.ServeAgent(keyring, conn)
		}
	}()
	for name, c := range map[string]struct {
		change func(*Login)
		fails  string
	}{
		"key":              {func(l *Login) { l.Key = server.Key }, ""},
		"locked key":       {func(l *Login) { l.Key, l.Passphrase = pem.EncodeToMemory(locked), "harbour" }, ""},
		"no passphrase":    {func(l *Login) { l.Key = pem.EncodeToMemory(locked) }, "has a passphrase"},
		"wrong passphrase": {func(l *Login) { l.Key, l.Passphrase = pem.EncodeToMemory(locked), "tide" }, "reading the private key"},
		"no key":           {func(l *Login) { l.Key = []byte("ferry") }, "reading the private key"},
		"agent":            {func(l *Login) { l.Agent = socket }, ""},
		"no agent":         {func(l *Login) { l.Agent = socket + "-not" }, "reaching the SSH agent"},
		"nothing":          {func(*Login) {}, "no password, key or agent"},
		"wrong password":   {func(l *Login) { l.Password = "low tide" }, "logging in to"},
		"nobody there":     {func(l *Login) { l.Address, l.Key = "127.0.0.1:1", server.Key }, "reaching 127.0.0.1:1"},
	} {
		t.Run(name, func(t *testing.T) {
			l := Login{Address: server.Address, User: server.User, HostKey: server.HostKey}
			c.change(&l)
			f, err := Open(t.Context(), l, dir)
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				assert.NotContains(t, err.Error(), "low tide", "secrets are not told")
				return
			}
			require.NoError(t, err)
			require.NoError(t, f.Close())
		})
	}
	_, err = Open(t.Context(), Login{Address: server.Address, User: server.User, HostKey: server.HostKey, Key: server.Key}, dir+"/nowhere")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// TestTheConnectionIsMadeAgain after it was cut; what was open is lost.
func TestTheConnectionIsMadeAgain(t *testing.T) {
	server := sshd.Start(t)
	f, err := Open(t.Context(), Login{Address: server.Address, User: server.User, HostKey: server.HostKey, Key: server.Key}, t.TempDir())
	require.NoError(t, err)
	defer f.Close()
	file, err := f.Create("disk")
	require.NoError(t, err)
	_, err = file.WriteAt([]byte("sea"), 0)
	require.NoError(t, err)
	server.Kill()
	_, err = file.WriteAt([]byte("sea"), 3)
	require.ErrorIs(t, err, storage.ErrLost)
	_, err = f.Stat("disk")
	require.ErrorIs(t, err, storage.ErrLost)
	server.Run()
	again, err := f.Reopen("disk")
	require.NoError(t, err)
	size, err := again.Size()
	require.NoError(t, err)
	assert.Equal(t, int64(3), size)
	require.NoError(t, again.Close())
}

// TestAFileThatIsReplaced while it is read stays the one that was opened, on all channels.
func TestAFileThatIsReplaced(t *testing.T) {
	server := sshd.Start(t)
	dir := t.TempDir()
	f, err := Open(t.Context(), Login{Address: server.Address, User: server.User, HostKey: server.HostKey, Key: server.Key}, dir)
	require.NoError(t, err)
	defer f.Close()
	for name, content := range map[string]string{"disk": "sea", "new": "sky, wide"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	file, err := f.Open("disk")
	require.NoError(t, err)
	defer file.Close()
	require.NoError(t, os.Rename(filepath.Join(dir, "new"), filepath.Join(dir, "disk")))
	for range 2 * lanes {
		p := make([]byte, 3)
		_, err := file.ReadAt(p, 0)
		require.NoError(t, err)
		assert.Equal(t, "sea", string(p))
	}
	// A shell that has ended is begun again.
	c, err := f.client(t.Context())
	require.NoError(t, err)
	require.NoError(t, c.sh.session.Close())
	require.Error(t, f.Sync("."))
	require.NoError(t, f.Sync("."))
}

// liar is a server that answers what it likes.
type liar struct {
	infos   []os.FileInfo
	endless bool
	read    func(p []byte, off int64) (int, error)
}

type liarInfo struct {
	name string
	size int64
	mode fs.FileMode
}

func (i liarInfo) Name() string       { return i.name }
func (i liarInfo) Size() int64        { return i.size }
func (i liarInfo) Mode() fs.FileMode  { return i.mode }
func (i liarInfo) ModTime() time.Time { return time.Time{} }
func (i liarInfo) IsDir() bool        { return i.mode.IsDir() }
func (i liarInfo) Sys() any           { return nil }

func (l *liar) Fileread(*sftp.Request) (io.ReaderAt, error) { return readerAt(l.read), nil }
func (l *liar) Filewrite(*sftp.Request) (io.WriterAt, error) {
	return nil, errors.New("no\x1b[2Jthing\nat all")
}
func (l *liar) Filecmd(*sftp.Request) error { return nil }
func (l *liar) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "List" && l.endless {
		return endless{}, nil
	}
	if r.Method == "List" {
		return lister(l.infos), nil
	}
	if r.Filepath == "/" {
		return lister{liarInfo{"/", 0, fs.ModeDir | 0o755}}, nil
	}
	return lister{l.infos[0]}, nil
}

type readerAt func(p []byte, off int64) (int, error)

func (r readerAt) ReadAt(p []byte, off int64) (int, error) { return r(p, off) }

type lister []os.FileInfo

func (l lister) ListAt(out []os.FileInfo, off int64) (int, error) {
	n := copy(out, l[min(int(off), len(l)):])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}

// endless is a list that does not end.
type endless struct{}

func (endless) ListAt(out []os.FileInfo, off int64) (int, error) {
	for i := range out {
		out[i] = liarInfo{strings.Repeat("x", 200) + strconv.FormatInt(off+int64(i), 10), 1, 0o644}
	}
	return len(out), nil
}

// serve serves SSH on loopback; subsystem gets each channel for file transfer. Anybody with the password low tide may log in.
func serve(t *testing.T, subsystem func(ssh.Channel)) Login {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	config := &ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, p []byte) (*ssh.Permissions, error) {
		if string(p) == "low tide" {
			return nil, nil
		}
		return nil, errors.New("no")
	}}
	config.AddHostKey(signer)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			raw, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				_, channels, requests, err := ssh.NewServerConn(raw, config)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				for c := range channels {
					channel, requests, err := c.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range requests {
							_ = r.Reply(r.Type == "subsystem", nil)
							if r.Type == "subsystem" {
								go subsystem(channel)
							}
						}
					}()
				}
			}()
		}
	}()
	return Login{
		Address: listener.Addr().
			String(),
		User:     "crew",
		Password: "low tide",
		HostKey:  ssh.FingerprintSHA256(signer.PublicKey()),
		Patience: 300 * time.Millisecond,
	}
}

func lie(t *testing.T, l *liar) *Folder {
	login := serve(t, func(c ssh.Channel) {
		_ = sftp.NewRequestServer(c, sftp.Handlers{FileGet: l, FilePut: l, FileCmd: l, FileList: l}).Serve()
	})
	f, err := Open(t.Context(), login, "/")
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

// TestAServerThatLies is answered with clear errors that can be shown, and is never believed.
func TestAServerThatLies(t *testing.T) {
	l := &liar{infos: []os.FileInfo{
		liarInfo{"disk", 1 << 50, 0o644}, liarInfo{"..", 0, fs.ModeDir}, liarInfo{"../../etc/passwd", 5, 0o644}, liarInfo{"/abs", 5, 0o644},
		liarInfo{"new\nline", 5, 0o644}, liarInfo{"esc\x1b[2J", 5, 0o644}, liarInfo{"minus", -5, 0o644}, liarInfo{"", 1, 0o644},
	}}
	f := lie(t, l)
	infos, err := f.List(".")
	require.NoError(t, err)
	var names []string
	for _, i := range infos {
		names = append(names, i.Name)
		assert.GreaterOrEqual(t, i.Size, int64(0))
	}
	assert.Equal(
		t,
		[]string{"abs", "disk", `esc\x1b[2J`, "minus", `new\x0aline`, "passwd"},
		names,
		"of a name only the last part counts, and what cannot be shown is written as bytes",
	)
	l.read = func(p []byte, _ int64) (int, error) { return copy(p, "short"), io.EOF }
	file, err := f.Open("disk")
	require.NoError(t, err)
	p := make([]byte, 1<<20)
	n, err := file.ReadAt(p, 0)
	assert.Less(t, n, len(p))
	require.Error(t, err, "what is short is never passed off as whole")
	l.read = func([]byte, int64) (int, error) { return 0, errors.New("bad\x1b[31m news\n") }
	file, err = f.Open("disk")
	require.NoError(t, err)
	_, err = file.ReadAt(p[:5], 0)
	require.ErrorContains(t, err, "news")
	assert.False(t, strings.ContainsAny(err.Error(), "\x1b\n"), "%q", err)
	l.infos = []os.FileInfo{liarInfo{"own", 5, fs.ModeSymlink}}
	_, err = f.Open("own")
	require.ErrorIs(t, err, storage.ErrOutside)
}

// TestAListThatDoesNotEnd is given up before it fills the memory.
func TestAListThatDoesNotEnd(t *testing.T) {
	f := lie(t, &liar{infos: []os.FileInfo{liarInfo{"disk", 10, 0o644}}, endless: true})
	for range 2 { // the next one is asked for on another channel
		_, err := f.List(".")
		require.ErrorContains(t, err, "has the folder no end")
	}
}

// TestAServerThatNeverAnswers is given up.
func TestAServerThatNeverAnswers(t *testing.T) {
	login := serve(t, func(ssh.Channel) {})
	_, err := Open(t.Context(), login, "/")
	require.ErrorContains(t, err, "said nothing")
	require.ErrorIs(t, err, storage.ErrLost)

	hang := make(chan struct{})
	t.Cleanup(func() { close(hang) })
	f := lie(t, &liar{infos: []os.FileInfo{liarInfo{"disk", 10, 0o644}}, read: func([]byte, int64) (int, error) { <-hang; return 0, io.EOF }})
	file, err := f.Open("disk")
	require.NoError(t, err)
	_, err = file.ReadAt(make([]byte, 10), 0)
	require.ErrorIs(t, err, storage.ErrLost)
	require.ErrorContains(t, err, "said nothing")
}

// TestAChannelThatEnds under what is read is a line that was cut, and not the end of a file or of a list.
func TestAChannelThatEnds(t *testing.T) {
	f := lie(t, &liar{
		infos: []os.FileInfo{liarInfo{"disk", 10, 0o644}},
		read:  func(p []byte, _ int64) (int, error) { return len(p), nil },
	})
	opened, err := f.Open("disk")
	require.NoError(t, err)
	_, err = f.List(".")
	require.NoError(t, err)
	c := opened.(*file).client
	for name, ends := range map[string]struct {
		channel *sftp.Client
		ask     func() error
	}{
		"file": {c.sftp, func() error { _, err := opened.ReadAt(make([]byte, 10), 0); return err }},
		"list": {c.lists.sftp, func() error { _, err := f.List("."); return err }},
	} {
		go ends.channel.Close() // waits for the server, which does not close its end
		require.Eventually(t, func() bool { err = ends.ask(); return err != nil }, 10*time.Second, time.Millisecond, name)
		require.ErrorIs(t, err, storage.ErrLost, name)
	}
}
