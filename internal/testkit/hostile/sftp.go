// Package hostile has servers that do what nobody should, for tests: folders without end, folders that contain themselves, answers that
// never come or never end.
package hostile

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Password lets everybody in.
const Password = "all aboard"

// SFTP is a host with hostile folders: /endless has files without end, /itself has a hundred folders in each of its folders, any other has
// one file.
type SFTP struct {
	Address string
	HostKey string // fingerprint
	// Prints has its shell print without end.
	Prints bool
	config *ssh.ServerConfig
}

// StartSFTP starts one on loopback, until the test ends.
func StartSFTP(t testing.TB) *SFTP {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	key, err := ssh.NewSignerFromSigner(private)
	require.NoError(t, err)
	line, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = line.Close() })
	s := &SFTP{Address: line.Addr().String(), HostKey: ssh.FingerprintSHA256(key.PublicKey()), config: &ssh.ServerConfig{
		PasswordCallback: func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if string(password) != Password {
				return nil, fs.ErrPermission
			}
			return nil, nil
		},
	}}
	s.config.AddHostKey(key)
	go func() {
		for {
			conn, err := line.Accept()
			if err != nil {
				return
			}
			go s.serve(conn)
		}
	}()
	return s
}

func (s *SFTP) serve(conn net.Conn) {
	_, channels, requests, err := ssh.NewServerConn(conn, s.config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go s.session(channel, requests)
	}
}

func (s *SFTP) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for r := range requests {
		isShell, isFiles := r.Type == "exec", r.Type == "subsystem"
		_ = r.Reply(isFiles || isShell && s.Prints, nil)
		switch {
		case isFiles:
			go ssh.DiscardRequests(requests)
			_ = sftp.NewRequestServer(channel, sftp.Handlers{FileGet: files{}, FilePut: files{}, FileCmd: files{}, FileList: files{}}).Serve()
			return
		case isShell && s.Prints:
			go ssh.DiscardRequests(requests)
			if strings.Contains(string(r.Payload), "bagaglio-shell") {
				_, _ = io.WriteString(channel, "bagaglio-shell\n")
			}
			for {
				if _, err := io.WriteString(channel, strings.Repeat("tide ", 1000)+"\n"); err != nil {
					return
				}
			}
		}
	}
}

// files answers for the folders.
type files struct{}

func (files) Fileread(*sftp.Request) (io.ReaderAt, error)  { return strings.NewReader("tide"), nil }
func (files) Filewrite(*sftp.Request) (io.WriterAt, error) { return nil, os.ErrPermission }
func (files) Filecmd(*sftp.Request) error                  { return os.ErrPermission }

func (files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		return some{info{path.Base(r.Filepath), !strings.Contains(path.Base(r.Filepath), ".")}}, nil
	}
	switch {
	case strings.HasPrefix(r.Filepath, "/endless"):
		return endless{}, nil
	case strings.HasPrefix(r.Filepath, "/itself"):
		var all some
		for i := range 100 {
			all = append(all, info{fmt.Sprintf("deck%02d", i), true})
		}
		return all, nil
	}
	return some{info{"tide.raw", false}}, nil
}

// endless is a list without end.
type endless struct{}

func (endless) ListAt(out []os.FileInfo, off int64) (int, error) {
	for i := range out {
		out[i] = info{fmt.Sprintf("%s%012d.raw", strings.Repeat("x", 150), off+int64(i)), false}
	}
	return len(out), nil
}

type some []info

func (s some) ListAt(out []os.FileInfo, off int64) (int, error) {
	n := 0
	for ; n < len(out) && off+int64(n) < int64(len(s)); n++ {
		out[n] = s[off+int64(n)]
	}
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}

type info struct {
	name   string
	folder bool
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return 4 }
func (i info) ModTime() time.Time { return time.Unix(1_700_000_000, 0) }
func (i info) IsDir() bool        { return i.folder }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	if i.folder {
		return fs.ModeDir | 0o755
	}
	return 0o644
}
