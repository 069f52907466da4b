package cli

import (
	"crypto/tls"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"bagaglio/client"
	"bagaglio/internal/authority"
)

const (
	// addressFile is the file in the state folder from which the client takes where the service answers, and tokenFile the one with what lets it in.
	addressFile = "address"
	tokenFile   = authority.TokenFile
)

// dial returns the service to talk to.
func (a *app) dial() (*client.Service, error) {
	state, err := a.stateFolder()
	if err != nil {
		return nil, err
	}
	address, trusted := a.config.GetString("address"), a.config.GetString("authority")
	if address == "" {
		if trusted == "" {
			trusted = filepath.Join(state, authority.Trusted)
		}
		if b, err := os.ReadFile(filepath.Join(state, addressFile)); err == nil {
			address = strings.TrimSpace(string(b))
		} else {
			return nil, fmt.Errorf(
				"no service has been started with the state folder %s: start one with bagaglio serve, or name another's --address",
				state,
			)
		}
	}
	token := a.config.GetString("token")
	if token == "" {
		b, err := os.ReadFile(filepath.Join(state, tokenFile))
		if err != nil {
			return nil, fmt.Errorf("finding the service's token: %w; set BAGAGLIO_TOKEN, or run as the user that started the service", err)
		}
		token = strings.TrimSpace(string(b))
	}
	if trusted == "" || !strings.HasPrefix(address, "https:") {
		return client.Dial(address, token)
	}
	certificates, err := os.ReadFile(trusted)
	var check *tls.Config
	if err == nil {
		check, err = authority.Trust(certificates)
	}
	if err != nil {
		return nil, fmt.Errorf("reading what to trust: %w", err)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = check
	return client.Dial(address, token, client.WithHTTPClient(&http.Client{Transport: transport}))
}
