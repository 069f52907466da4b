package http

import (
	"context"
	"errors"
	"net/url"
	"path/filepath"
	"strings"

	"bagaglio/core/storage"
)

func init() {
	storage.RegisterKind(storage.Kind{
		Name:  "http",
		Check: check,
		Open: func(_ context.Context, s storage.Server, folder string) (storage.Folder, error) {
			return Open(Login{URL: s.Address + "/" + strings.TrimLeft(filepath.ToSlash(folder), "/"), User: s.User, Password: s.Password})
		},
	})
}

func check(s *storage.Server) error {
	u, err := url.Parse(s.Address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.Trim(u.Path, "/") != "" {
		return errors.New("the address of a web server is written https://HOST; its folders are pools")
	}
	s.Address = strings.TrimRight(s.Address, "/")
	return nil
}
