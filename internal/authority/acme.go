package authority

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
	"golang.org/x/sync/singleflight"
)

// acmeFolder is the folder in the state folder with the account at an authority that speaks ACME, and the certificates that came from there.
const acmeFolder = "acme"

// ACME is an authority elsewhere that speaks ACME (RFC 8555).
type ACME struct {
	Directory string // its address, https
	Contact   string // an address for mail that it tells of trouble, empty for none
}

// Serve returns what a server proves with who it is: by certificates that the authority elsewhere gives for the names, and renews before they
// end, and by those of the own authority wherever it is reached by another name, such as from its own computer, or as long as the other one
// gives none; that is logged. The other one looks for the server at port 443 of each name (RFC 8737).
func (c ACME) Serve(state string, names []string, own *tls.Config, log *slog.Logger) (*tls.Config, error) {
	if !strings.HasPrefix(c.Directory, "https://") {
		return nil, fmt.Errorf("%q is no address of an authority that speaks ACME: it begins with https://", c.Directory)
	}
	if len(names) == 0 {
		return nil, errors.New("an authority that speaks ACME gives certificates for names: say by --name how the service is reached")
	}
	for i, name := range names {
		names[i] = strings.ToLower(name)
	}
	manager := &autocert.Manager{
		Prompt:     autocert.AcceptTOS,
		Cache:      autocert.DirCache(filepath.Join(state, acmeFolder)),
		HostPolicy: autocert.HostWhitelist(names...),
		Email:      c.Contact,
		Client:     &acme.Client{DirectoryURL: c.Directory, UserAgent: "bagaglio"},
	}
	var (
		asked singleflight.Group
		mu    sync.Mutex
		said  string
	)
	out := config(func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		if !slices.Contains(names, strings.ToLower(hello.ServerName)) {
			return own.GetCertificate(hello)
		}
		if slices.Contains(hello.SupportedProtos, acme.ALPNProto) { // it looks who is here
			return manager.GetCertificate(hello)
		}
		certificate, err := soon(&asked, manager, hello)
		if err == nil {
			return certificate, nil
		}
		mu.Lock()
		defer mu.Unlock()
		if said != err.Error() {
			said = err.Error()
			log.Error("getting a certificate", "name", hello.ServerName, "from", c.Directory, "error", err)
		}
		return own.GetCertificate(hello)
	})
	out.NextProtos = append(out.NextProtos, acme.ALPNProto)
	return out, nil
}

// answerIn is for how long whoever connects waits for the authority elsewhere. It goes on to be asked behind that, and whoever connects later has what came of it.
const answerIn = 6 * time.Second

// soon returns the certificate for who connects, or fails where the authority elsewhere has not given it in time.
func soon(asked *singleflight.Group, manager *autocert.Manager, hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	kind := fmt.Sprint(hello.ServerName, hello.SignatureSchemes, hello.CipherSuites) // what fits one client may not fit another
	came := asked.DoChan(kind, func() (any, error) { return manager.GetCertificate(hello) })
	select {
	case r := <-came:
		certificate, _ := r.Val.(*tls.Certificate)
		return certificate, r.Err
	case <-time.After(answerIn):
		return nil, fmt.Errorf("it did not answer within %s", answerIn)
	}
}
