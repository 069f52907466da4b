package sftp

import (
	"context"
	"errors"
	"net"
	"strings"

	"bagaglio/core/storage"
)

func init() {
	storage.RegisterKind(storage.Kind{
		Name:     "sftp",
		Check:    check,
		ShownKey: ShownKey,
		Open:     open,
	})
	storage.RegisterKind(storage.Kind{Name: Porter, Check: checkPorter, Open: open})
}

// Porter is the kind of a host with a porter, which connects to us: the protocol is the same, over a connection that the porter has made.
const Porter = "porter"

func open(ctx context.Context, s storage.Server, folder string) (storage.Folder, error) {
	login := Login{
		Address: s.Address, User: s.User, Password: s.Password, Key: s.Key, Passphrase: s.Passphrase, HostKey: s.TrustedKey, Dial: s.Dial,
	}
	if s.Agent {
		login.Agent = AgentSocket()
	}
	return Open(ctx, login, folder)
}

// checkPorter: a porter is known by its name, and by the key that it had when it joined.
func checkPorter(s *storage.Server) error {
	if !strings.HasPrefix(s.TrustedKey, "SHA256:") {
		return errors.New("a host with a porter is added by inviting that: bagaglio porter invite NAME")
	}
	return nil
}

// check completes an address with the usual port.
func check(s *storage.Server) error {
	if _, _, err := net.SplitHostPort(s.Address); err != nil {
		s.Address = net.JoinHostPort(strings.Trim(s.Address, "[]"), "22")
	}
	if s.User == "" || strings.ContainsAny(s.Address, " /@") {
		return errors.New("name the address as HOST or HOST:PORT, and the user to log in as")
	}
	if s.TrustedKey != "" && !strings.HasPrefix(s.TrustedKey, "SHA256:") {
		return errors.New("the key to trust is written as its fingerprint, SHA256:…")
	}
	return nil
}
