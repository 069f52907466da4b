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
		Open: func(ctx context.Context, s storage.Server, folder string) (storage.Folder, error) {
			login := Login{Address: s.Address, User: s.User, Password: s.Password, Key: s.Key, Passphrase: s.Passphrase, HostKey: s.TrustedKey}
			if s.Agent {
				login.Agent = AgentSocket()
			}
			return Open(ctx, login, folder)
		},
	})
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
