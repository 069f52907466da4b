package places

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"golang.org/x/sys/unix"
)

const (
	// maxSecret bounds a secret that is read from a file, in bytes.
	maxSecret = 64 << 10
	// secretVariable begins the names of variables that hold secrets.
	secretVariable = "BAGAGLIO_SECRET_"
)

// serverOf is the name or number of the computer that a host is reached at, without a port.
func serverOf(h store.Host) string {
	address := h.Address
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Hostname()
	}
	if server, _, err := net.SplitHostPort(address); err == nil {
		return server
	}
	return address
}

// fetch returns a secret of a host: as it was given, or from the file, variable or credential that it names. Those are for one computer each, which
// their names say: nobody can have them sent to another one.
func (s *Places) fetch(h store.Host, secret string) (string, error) {
	server := serverOf(h)
	if name, ok := strings.CutPrefix(secret, "file:"); ok {
		text, err := s.secretFile(server, name)
		if err != nil {
			return "", fmt.Errorf("%w: reading a secret: %w", records.ErrInvalid, err)
		}
		return strings.TrimRight(text, "\r\n"), nil
	}
	if name, ok := strings.CutPrefix(secret, "credential:"); ok {
		text, err := s.credential(server, name)
		if err != nil {
			return "", fmt.Errorf("%w: reading a credential: %w", records.ErrInvalid, err)
		}
		return strings.TrimRight(text, "\r\n"), nil
	}
	if name, ok := strings.CutPrefix(secret, "env:"); ok {
		begins := secretVariable + variableOf(server) + "_"
		value, ok := os.LookupEnv(name)
		if !strings.HasPrefix(name, begins) || !ok {
			return "", fmt.Errorf(
				"%w: a secret for %s is to come from the variable %s: its name has to begin with %s, and it has to be set where the service runs",
				records.ErrInvalid,
				server,
				name,
				begins,
			)
		}
		return value, nil
	}
	return secret, nil
}

// variableOf is a computer's name as a variable has it: letters and digits, others as underscores.
func variableOf(server string) string {
	return strings.Map(func(c rune) rune {
		if c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' {
			return c
		}
		return '_'
	}, strings.ToUpper(server))
}

// secretFile reads a file that the operator has put into the folder for secrets, below the name of the computer that it is for. It is a
// plain file, short, and closed to others like a key.
func (s *Places) secretFile(server, name string) (string, error) {
	if s.secrets == "" {
		return "", errors.New(
			"no folder for secrets is configured: start the service with --secrets FOLDER, and put the file into FOLDER/" + server,
		)
	}
	if err := s.kept.Apart(s.secrets); err != nil {
		return "", err
	}
	at := filepath.Join(server, name)
	if filepath.IsAbs(name) || !filepath.IsLocal(name) || filepath.Base(server) != server {
		return "", fmt.Errorf("%q is not the name of a file in %s: write file:NAME for the one in FOLDER/%s", name, s.secrets, server)
	}
	return s.readSecret(s.secrets, at)
}

// credentials is the variable with the folder that systemd puts the credentials of a unit into (systemd.exec(5), LoadCredential=).
const credentials = "CREDENTIALS_DIRECTORY"

// credential reads a credential of the service's unit, whose name begins with that of the computer that it is for.
func (s *Places) credential(server, name string) (string, error) {
	dir := os.Getenv(credentials)
	if dir == "" {
		return "", errors.New("the service was given none: load it in its unit (LoadCredential=NAME:FILE)")
	}
	if !strings.HasPrefix(name, server+".") || filepath.Base(name) != name {
		return "", fmt.Errorf("a credential for %s is to come from %q: its name has to begin with %s. (with the dot)", server, name, server)
	}
	return s.readSecret(dir, name)
}

// readSecret reads a file in a folder.
func (s *Places) readSecret(dir, at string) (string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	file, err := root.OpenFile(at, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return "", err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return "", err
	}
	if err := s.kept.Holds(info); err != nil {
		return "", err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	switch {
	case !info.Mode().IsRegular():
		return "", fmt.Errorf("%s is no plain file", at)
	case info.Mode().Perm()&0o077 != 0 || !ok || st.Uid != 0 && int(st.Uid) != os.Geteuid():
		return "", fmt.Errorf("%s has to belong to the user of the service, and be closed to all others (chmod 600)", at)
	case info.Size() > maxSecret:
		return "", fmt.Errorf("%s is longer than %d bytes", at, maxSecret)
	}
	b, err := io.ReadAll(io.LimitReader(file, maxSecret))
	return string(b), err
}
