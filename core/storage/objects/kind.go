package objects

import (
	"context"
	"errors"
	"net/url"
	"strings"

	"bagaglio/core/storage"
)

func init() {
	storage.RegisterKind(storage.Kind{
		Name:  "s3",
		Check: check,
		Open: func(_ context.Context, s storage.Server, folder string) (storage.Folder, error) {
			return Open(Login{URL: s.Address, AccessKey: s.User, SecretKey: s.Password}, folder)
		},
	})
}

func check(s *storage.Server) error {
	u, err := url.Parse(s.Address)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "http" && u.Scheme != "https" || strings.Trim(u.Path, "/") != "" {
		return errors.New(
			"the address of a store is written https://HOST; its buckets, and folders in them, are pools; user and password are its access key and secret key",
		)
	}
	s.Address = strings.TrimRight(s.Address, "/")
	return nil
}
