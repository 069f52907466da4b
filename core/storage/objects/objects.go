// Package objects keeps the files of a pool in an object store that speaks the S3 protocol. An object cannot be written to: a file that is made is kept in parts,
// each an object of its own, until it gets its final name. Then the store puts the parts together, and its checksums are compared with ours.
package objects

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"bagaglio/core/storage"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Facts of the protocol (Amazon S3 API Reference, "Amazon S3 multipart upload limits").
const (
	mostParts   = 10_000  // of an object
	largestCopy = 5 << 30 // bytes that are copied at once
)

const (
	// partSize is the length of a part, in bytes.
	partSize = 32 << 20
	// mostLoaded is how many parts of a file are kept in memory as it is written.
	mostLoaded = 4
	// partsOf ends the name of the folder with the parts of a file.
	partsOf = ".bagparts"
	// sizeOf is the object there that has the length of the file as its content.
	sizeOf = "size"
	// patience is for how long a store may say nothing.
	patience = 60 * time.Second
	callFor  = 10 * time.Minute
)

// Login says how to reach a store.
type Login struct {
	URL       string // http or https, of the store
	AccessKey string // and SecretKey: empty for what everybody may read
	SecretKey string
	TLS       *tls.Config // nil for what the system trusts
	PartSize  int64       // in bytes, 0 for the usual
}

// Folder is what lies below a prefix in a bucket. Make one with [Open].
type Folder struct {
	core   minio.Core
	bucket string
	prefix string // empty, or ends with a slash
	part   int64
}

// Open prepares to use a folder, written BUCKET or BUCKET/PREFIX. Whether it is there shows when it is used.
func Open(login Login, folder string) (*Folder, error) {
	u, err := url.Parse(login.URL)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a store: write https://HOST", storage.Printable(login.URL))
	}
	bucket, prefix, _ := strings.Cut(strings.Trim(folder, "/"), "/")
	if bucket == "" || bucket == "." {
		return nil, errors.New("a folder in a store is written /BUCKET or /BUCKET/FOLDER")
	}
	transport := &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		TLSClientConfig:       login.TLS,
		MaxIdleConnsPerHost:   16,
		ResponseHeaderTimeout: patience,
		TLSHandshakeTimeout:   patience,
		DisableCompression:    true,
	}
	client, err := minio.New(u.Host, &minio.Options{
		Creds: credentials.NewStaticV4(login.AccessKey, login.SecretKey, ""), Secure: u.Scheme == "https", Transport: transport, MaxRetries: 3,
	})
	if err != nil {
		return nil, fmt.Errorf("reaching the store %s: %w", u.Host, err)
	}
	f := &Folder{core: minio.Core{Client: client}, bucket: bucket, part: partSize}
	if prefix != "" {
		f.prefix = strings.Trim(prefix, "/") + "/"
	}
	if login.PartSize > 0 {
		f.part = login.PartSize
	}
	return f, nil
}

// key is the object of a name.
func (f *Folder) key(name string) (string, error) {
	clean, err := storage.Clean(name)
	if err != nil {
		return "", err
	}
	if clean == "." {
		return f.prefix, nil
	}
	return f.prefix + storage.RawName(clean), nil
}

// nameOf is the name of an object, or not ok for one that has none here.
func (f *Folder) nameOf(key string) (string, bool) {
	rest, ok := strings.CutPrefix(key, f.prefix)
	if !ok || rest == "" || strings.Contains(rest, "//") || strings.HasPrefix(rest, "/") {
		return "", false
	}
	shown := storage.ShownName(rest)
	name, err := storage.Clean(shown)
	return name, err == nil && name == shown
}

// calling bounds a call.
func calling() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), callFor)
}

// plain is what a store says, as an error of a kind.
func plain(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var said minio.ErrorResponse
	if !errors.As(err, &said) || said.Code == "" {
		return fmt.Errorf("%w: asking the store for %s: %w", storage.ErrLost, name, err)
	}
	text := fmt.Errorf("the store answers %s for %s", storage.Printable(said.Code+": "+said.Message), name)
	switch {
	case said.Code == minio.NoSuchBucket:
		return fmt.Errorf("%w: there is no such bucket, or it is not shown to this user", text)
	case said.Code == minio.NoSuchKey || said.StatusCode == http.StatusNotFound:
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
	case said.Code == minio.PreconditionFailed || said.StatusCode == http.StatusPreconditionFailed:
		return fmt.Errorf("%w: it was changed in the store meanwhile: start again", text)
	case said.StatusCode == http.StatusForbidden || said.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("%w: %w", text, fs.ErrPermission)
	case said.StatusCode == http.StatusTooManyRequests || said.StatusCode >= http.StatusInternalServerError:
		return fmt.Errorf("%w: %w", storage.ErrLost, text)
	}
	return text
}

// object is what is known of one, or fs.ErrNotExist.
func (f *Folder) object(name, key string) (minio.ObjectInfo, error) {
	ctx, cancel := calling()
	defer cancel()
	info, err := f.core.StatObject(ctx, f.bucket, key, minio.StatObjectOptions{})
	return info, plain("stat", name, err)
}

// Stat tells what a name is. A file that is in parts is one.
func (f *Folder) Stat(name string) (storage.Info, error) {
	key, err := f.key(name)
	if err != nil {
		return storage.Info{}, err
	}
	name = path.Clean(name)
	if name != "." {
		info, err := f.object(name, key)
		if err == nil {
			return infoOf(name, info), nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return storage.Info{}, err
		}
		in, err := f.inParts(name, key)
		if err == nil {
			return storage.Info{Name: name, Size: in.size, Room: storage.Unknown, Modified: in.modified, Regular: true}, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return storage.Info{}, err
		}
		key += "/"
	}
	found, err := f.listed(key, "/", 1)
	if err != nil {
		return storage.Info{}, err
	}
	if name != "." && len(found.Contents)+len(found.CommonPrefixes) == 0 {
		return storage.Info{}, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	return storage.Info{Name: name, Room: storage.Unknown, IsDir: true}, nil
}

func infoOf(name string, o minio.ObjectInfo) storage.Info {
	return storage.Info{Name: name, Size: max(0, o.Size), Room: storage.Unknown, Modified: o.LastModified, Regular: true}
}

// Version is the tag of an object: times there are in seconds.
func (f *Folder) Version(name string) (string, error) {
	key, err := f.key(name)
	if err != nil {
		return "", err
	}
	info, err := f.object(path.Clean(name), key)
	if errors.Is(err, fs.ErrNotExist) { // it is in parts, or a folder
		return "", nil
	}
	return info.ETag, err
}

// Space tells that nothing is known of the room there, and how long a file can be.
func (f *Folder) Space() (storage.Space, error) {
	if _, err := f.listed(f.prefix, "/", 1); err != nil {
		return storage.Space{}, err
	}
	return storage.Space{
		Kind: "s3", Total: storage.Unknown, Free: storage.Unknown, LargestFile: mostParts * f.part,
		ID: f.core.EndpointURL().Host + "/" + f.bucket,
	}, nil
}

// Sync has nothing to do: a store has what it said that it has.
func (f *Folder) Sync(dir string) error {
	_, err := f.key(dir)
	return err
}

// Exchange cannot be done there.
func (f *Folder) Exchange(a, b string) error {
	_, errA := f.key(a)
	_, errB := f.key(b)
	return errors.Join(errA, errB, fmt.Errorf("a store cannot swap two names: %w", errors.ErrUnsupported))
}

// Close has nothing to let go of.
func (f *Folder) Close() error { return nil }
