package attack

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/internal/authority"
	"bagaglio/internal/errand"
	"bagaglio/internal/porters"
	"bagaglio/internal/testkit"

	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stolen is what somebody has who has the folder of a porter.
type stolen struct {
	Porter, Service, Certificate, Authority, Engine string
	pair                                            tls.Certificate
}

func steal(t *testing.T, p *testkit.Porter) (s stolen) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(p.State, "porter", "porter.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &s))
	key, err := os.ReadFile(filepath.Join(p.State, "porter", "porter.key"))
	require.NoError(t, err)
	s.pair, err = tls.X509KeyPair([]byte(s.Certificate), key)
	require.NoError(t, err)
	return s
}

// dial connects to a service as somebody with certificates, or without, for something.
func (s stolen) dial(t *testing.T, protocol string, certificates ...tls.Certificate) (net.Conn, error) {
	t.Helper()
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM([]byte(s.Authority)))
	conn, err := tls.Dial("tcp", s.Service, &tls.Config{
		RootCAs:      roots,
		ServerName:   authority.ServiceName,
		NextProtos:   []string{protocol},
		Certificates: certificates,
		MinVersion:   tls.VersionTLS13,
	})
	if err != nil {
		return nil, err
	}
	t.Cleanup(func() { _ = conn.Close() })
	return conn, nil
}

// refused tells that nothing can be had over a connection.
func refused(conn net.Conn, err error) bool {
	if err != nil {
		return true
	}
	_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	_, err = conn.Read(make([]byte, 1))
	return err != nil && !errors.Is(err, os.ErrDeadlineExceeded)
}

// toEngine connects to the engine over a connection that is made already.
type toEngine struct{ net.Conn }

func (e toEngine) Dial(string, string) (net.Conn, error) { return e.Conn, nil }

// TestAStolenPorter reaches what is its own, and nothing of other porters or of the service.
func TestAStolenPorter(t *testing.T) {
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", "127.0.0.1:0")
	its := steal(t, testkit.Join(t, s, "annex"))
	testkit.Join(t, s, "lighthouse")

	for _, protocol := range []string{porters.ProtocolLine, porters.ProtocolEngine} {
		assert.True(t, refused(its.dial(t, protocol)), "%s without a certificate", protocol)
	}
	elsewhere, err := authority.Open(t.TempDir())
	require.NoError(t, err)
	forged, err := elsewhere.Certify("annex", its.pair.Leaf.PublicKey)
	require.NoError(t, err)
	strange := its.pair
	strange.Certificate = [][]byte{derOf(t, forged)}
	assert.True(t, refused(its.dial(t, porters.ProtocolEngine, strange)), "a certificate of another authority")

	connect := func(user, secret string) (*nats.Conn, error) {
		conn, err := its.dial(t, porters.ProtocolEngine, its.pair)
		require.NoError(t, err)
		return nats.Connect(
			"nats://engine",
			nats.SetCustomDialer(toEngine{conn}),
			nats.UserInfo(user, secret),
			nats.CustomInboxPrefix(errand.Inbox(user)),
			nats.NoReconnect(),
		)
	}
	_, err = connect("lighthouse", its.Engine)
	assert.Error(t, err, "another name with its own secret")
	_, err = connect("service", its.Engine)
	assert.Error(t, err, "the service's name")

	c, err := connect("annex", its.Engine)
	require.NoError(t, err)
	defer c.Close()
	violations := make(chan error, 16)
	c.SetErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { violations <- err })
	refuses := func(what string, do func() error) {
		t.Helper()
		require.NoError(t, do())
		require.NoError(t, c.Flush())
		select {
		case err := <-violations:
			assert.ErrorIs(t, err, nats.ErrPermissionViolation, what)
		case <-time.After(10 * time.Second):
			assert.Fail(t, "it is not refused", what)
		}
	}
	for _, subject := range []string{">", errand.Stop("lighthouse"), errand.AllCalls, errand.Work("*"), errand.Inbox("lighthouse") + ".>", "_INBOX.>", "$JS.>"} {
		refuses("to hear "+subject, func() error { _, err := c.SubscribeSync(subject); return err })
	}
	for _, subject := range []string{
		errand.Stop("lighthouse"), errand.Work("lighthouse"), errand.Work("annex"), errand.Here("lighthouse"), errand.Call("lighthouse", 1, 1, errand.Done),
		"$JS.API.STREAM.DELETE." + errand.Stream, "$JS.API.STREAM.PURGE." + errand.Stream, "$JS.API.CONSUMER.MSG.NEXT." + errand.Stream + ".lighthouse",
	} {
		refuses("to send to "+subject, func() error { return c.Publish(subject, []byte("{}")) })
	}
	answer, err := c.Request(errand.Call("annex", 1, 1, errand.Done), []byte("{}"), 10*time.Second)
	require.NoError(t, err)
	assert.Contains(t, string(answer.Data), "knows of no such job of this porter")
	for _, junk := range []string{"errand.annex.x.y.z", "errand.annex.1", "errand.annex.1.1.keep.more"} {
		require.NoError(t, c.Publish(junk, []byte("\x00{{{")))
	}
	require.NoError(t, c.Flush())

	require.NoError(t, s.RevokePorter(t.Context(), "annex"))
	assert.True(t, refused(its.dial(t, porters.ProtocolEngine, its.pair)), "it is revoked")
	_, err = c.Request(errand.Here("annex"), []byte("{}"), time.Second)
	assert.Error(t, err, "also what was connected before")
	now, err := s.Porter(t.Context(), "lighthouse")
	require.NoError(t, err)
	assert.EqualValues(t, "connected", now.State, "the other one works on")
}

func derOf(t *testing.T, text []byte) []byte {
	t.Helper()
	block, _ := pem.Decode(text)
	require.NotNil(t, block)
	return block.Bytes
}

// TestAStolenPorterAtAnotherOne: it reads nothing of another porter, and has nothing carried, unless the service said so.
func TestAStolenPorterAtAnotherOne(t *testing.T) {
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", "127.0.0.1:0")
	its := steal(t, testkit.Join(t, s, "annex"))
	p := testkit.Join(t, s, "lighthouse")
	p.Stop()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	require.NoError(t, free.Close())
	p.Flags("--peers", at)
	p.Start()
	p.Connected(s)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM([]byte(its.Authority)))
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("of the lighthouse"), 0o600))
	folder := "/" + base64.RawURLEncoding.EncodeToString([]byte(filepath.Dir(secret))) + "/secret"
	for _, asked := range []string{"GET " + folder, "CONNECT " + at, "CONNECT 127.0.0.1:22"} {
		conn, err := tls.Dial(
			"tcp",
			at,
			&tls.Config{RootCAs: roots, ServerName: "lighthouse", Certificates: []tls.Certificate{its.pair}},
		)
		require.NoError(t, err)
		_, err = fmt.Fprintf(conn, "%s HTTP/1.1\r\nHost: lighthouse\r\n\r\n", asked)
		require.NoError(t, err)
		answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err)
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, asked)
		require.NoError(t, answer.Body.Close())
		require.NoError(t, conn.Close())
	}
}
