// Package http reads the files of a pool from a web server, in ranges (RFC 9110, section 14). Nothing can be written there.
package http

import (
	"context"
	"crypto/tls"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// Login says how to reach a server.
type Login struct {
	URL      string // of the folder, http or https
	User     string // for basic authentication (RFC 7617), with Password; empty for none
	Password string
	// TLS is what is shown to the server, and what it is known by; nil for what the system trusts.
	TLS *tls.Config
	// Pack asks for ranges that are packed on their way, where the server does that.
	Pack bool
	// Used tells that files may be written to while they are read: whoever reads them knows what of them stands still.
	Used bool
	// Dial connects to the server, nil as the system does.
	Dial func(ctx context.Context) (net.Conn, error)
}

// patience is for how long a server may say nothing while it is asked something.
const patience = 60 * time.Second

// Folder is a folder of a web server. Make one with [Open].
type Folder struct {
	client *http.Client
	base   *url.URL
	login  Login
}

// Open prepares to read below a URL. Whether anything is there shows when a file is opened.
func Open(login Login) (*Folder, error) {
	base, err := url.Parse(login.URL)
	if err != nil || base.Host == "" || base.Scheme != "http" && base.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a folder on a web server: write https://HOST/FOLDER/", storage.Printable(login.URL))
	}
	if base.User != nil || base.RawQuery != "" || base.Fragment != "" {
		return nil, errors.New("the address of a web server has no user, password, question or fragment in it: give user and password apart")
	}
	base.Path = strings.TrimSuffix(base.Path, "/") + "/"
	transport := &http.Transport{
		Proxy:                  http.ProxyFromEnvironment,
		TLSClientConfig:        login.TLS,
		MaxIdleConnsPerHost:    16,
		ResponseHeaderTimeout:  patience,
		TLSHandshakeTimeout:    patience,
		DisableCompression:     true,
		MaxResponseHeaderBytes: 256 << 10,
	}
	if login.Dial != nil {
		transport.Proxy = nil
		transport.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) { return login.Dial(ctx) }
	}
	return &Folder{base: base, login: login, client: &http.Client{
		Transport: transport,
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if r.URL.Host != base.Host || r.URL.Scheme != base.Scheme || !strings.HasPrefix(r.URL.Path, base.Path) || len(via) > 5 {
				return fmt.Errorf("the server sends us to %s: %w", r.URL.Redacted(), storage.ErrOutside)
			}
			return nil
		},
	}}, nil
}

// ask sends a request for a name in the folder. The answer is one of the statuses that are good.
func (f *Folder) ask(
	ctx context.Context,
	method, name string,
	header map[string]string,
	body io.Reader,
	good ...int,
) (*http.Response, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	at := f.base
	if name != "." {
		at = f.base.JoinPath(strings.Split(storage.RawName(name), "/")...)
	}
	r, err := http.NewRequestWithContext(ctx, method, at.String(), body)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		r.Header.Set(k, v)
	}
	if f.login.User != "" {
		r.SetBasicAuth(f.login.User, f.login.Password)
	}
	answer, err := f.client.Do(r)
	if err != nil {
		if errors.Is(err, storage.ErrOutside) || ctx.Err() != nil && errors.Is(err, context.Canceled) {
			return nil, err
		}
		return nil, fmt.Errorf("%w: asking the server for %s: %w", storage.ErrLost, name, errors.Unwrap(err))
	}
	if slices.Contains(good, answer.StatusCode) {
		return answer, nil
	}
	_ = answer.Body.Close() // it says nothing that we want
	err = fmt.Errorf("the server answers %d %s for %s", answer.StatusCode, http.StatusText(answer.StatusCode), name)
	switch {
	case answer.StatusCode == http.StatusNotFound || answer.StatusCode == http.StatusGone:
		err = &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	case answer.StatusCode == http.StatusUnauthorized || answer.StatusCode == http.StatusForbidden:
		err = fmt.Errorf("%w: %w", err, fs.ErrPermission)
	case answer.StatusCode == http.StatusPreconditionFailed:
		err = fmt.Errorf("%w: the file was changed on the server while it was read: start again", err)
	case answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= http.StatusInternalServerError:
		err = fmt.Errorf("%w: %w", storage.ErrLost, err)
	}
	return nil, err
}

// Open opens a file for reading.
func (f *Folder) Open(name string) (storage.File, error) {
	a, err := f.head(name)
	if err != nil {
		return nil, err
	}
	if a.length < 0 {
		return nil, fmt.Errorf("the server does not say how long %s is: it cannot be read as a disk from there", name)
	}
	if a.header.Get("Accept-Ranges") != "bytes" {
		return nil, fmt.Errorf(
			"the server does not answer for ranges of %s, which reading a disk needs: fetch the file first, or ask the server's keeper for range requests",
			name,
		)
	}
	file := &file{folder: f, name: name, size: a.length, same: map[string]string{}}
	if f.login.Used {
		return file, nil
	}
	if tag := a.header.Get("ETag"); tag != "" && !strings.HasPrefix(tag, "W/") {
		file.same["If-Match"] = tag
	} else if at := a.header.Get("Last-Modified"); at != "" {
		file.same["If-Unmodified-Since"] = at
	}
	file.leaves = a.header.Get(leavesHeader) == strconv.Itoa(fingerprint.LeafSize)
	if a.header.Get(runsHeader) != "" {
		return &sparse{file: file}, nil
	}
	return file, nil
}

// about is what a server says of a file without sending it.
type about struct {
	length int64 // -1 when it is not said
	header http.Header
	folder bool
}

func (f *Folder) head(name string) (about, error) {
	answer, err := f.ask(context.Background(), http.MethodHead, name, nil, nil, http.StatusOK)
	if err != nil {
		return about{}, err
	}
	return about{answer.ContentLength, answer.Header, strings.HasSuffix(answer.Request.URL.Path, "/")}, answer.Body.Close()
}

// Stat tells what name is.
func (f *Folder) Stat(name string) (storage.Info, error) {
	a, err := f.head(name)
	if err != nil {
		return storage.Info{}, err
	}
	name = path.Clean(name)
	modified, _ := http.ParseTime(a.header.Get("Last-Modified")) // without one, the zero time
	if exact, err := time.Parse(time.RFC3339Nano, a.header.Get(modifiedHeader)); err == nil {
		modified = exact
	}
	folder := a.folder || name == "."
	return storage.Info{Name: name, Size: max(0, a.length), Room: storage.Unknown, Modified: modified, IsDir: folder, Regular: !folder}, nil
}

// response is a part of the answer to PROPFIND (RFC 4918, section 9.1), as far as it is used.
type response struct {
	Href string `xml:"DAV: href"`
	Prop []struct {
		Length   string    `xml:"DAV: prop>getcontentlength"`
		Modified string    `xml:"DAV: prop>getlastmodified"`
		Folder   *struct{} `xml:"DAV: prop>resourcetype>collection"`
	} `xml:"DAV: propstat"`
	Exact string `xml:"bagaglio: modified"` // as modifiedHeader has it
}

// Bounds of a server's list of files: its length in bytes, its entries, and how long it may take.
const (
	maxList    = 48 << 20
	maxEntries = 100_000
	listFor    = 5 * time.Minute
)

// responses calls each with the parts of an answer to PROPFIND, one after the other.
func responses(body io.Reader, each func(response)) error {
	limited := &io.LimitedReader{R: body, N: maxList}
	in := xml.NewDecoder(limited)
	for n := 0; ; {
		token, err := in.Token()
		if errors.Is(err, io.EOF) && limited.N > 0 {
			return nil
		}
		if limited.N <= 0 || n > maxEntries {
			return fmt.Errorf("it has more than %d bytes, or more than %d entries", maxList, maxEntries)
		}
		if err != nil {
			return err
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name != (xml.Name{Space: "DAV:", Local: "response"}) {
			continue
		}
		var r response
		if err := in.DecodeElement(&r, &start); err != nil {
			return err
		}
		each(r)
		n++
	}
}

// List asks the server what lies in dir, which one with WebDAV (RFC 4918) tells; any other fails with errors.ErrUnsupported.
func (f *Folder) List(dir string) ([]storage.Info, error) {
	const which = `<?xml version="1.0"?><propfind xmlns="DAV:"><prop><getcontentlength/><getlastmodified/><resourcetype/></prop></propfind>`
	ctx, cancel := context.WithTimeout(context.Background(), listFor)
	defer cancel()
	answer, err := f.ask(ctx, "PROPFIND", dir, map[string]string{"Depth": "1", "Content-Type": "application/xml"}, strings.NewReader(which),
		http.StatusMultiStatus, http.StatusMethodNotAllowed, http.StatusNotImplemented, http.StatusBadRequest, http.StatusOK)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusMultiStatus {
		return nil, fmt.Errorf("this server does not tell what lies in it (no WebDAV): name a file there instead: %w", errors.ErrUnsupported)
	}
	self, err := storage.Clean(dir)
	if err != nil {
		return nil, err
	}
	var infos []storage.Info
	err = responses(answer.Body, func(r response) {
		name, ok := f.nameOf(r.Href)
		if !ok || path.Dir(name) != self || name == self {
			return // the folder itself, or what nobody asked for
		}
		info := storage.Info{Name: name, Room: storage.Unknown, Regular: true}
		for _, p := range r.Prop {
			if n, err := strconv.ParseInt(p.Length, 10, 64); err == nil && n >= 0 {
				info.Size = n
			}
			if t, err := http.ParseTime(p.Modified); err == nil {
				info.Modified = t
			}
			if p.Folder != nil {
				info.IsDir, info.Regular = true, false
			}
		}
		if exact, err := time.Parse(time.RFC3339Nano, r.Exact); err == nil {
			info.Modified = exact
		}
		infos = append(infos, info)
	})
	if err != nil {
		return nil, fmt.Errorf("reading the server's list of %s: %w", dir, err)
	}
	slices.SortFunc(infos, func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) })
	return infos, nil
}

// nameOf is the name in the folder of what an answer refers to.
func (f *Folder) nameOf(href string) (string, bool) {
	u, err := f.base.Parse(href)
	if err != nil || u.Host != f.base.Host || !strings.HasPrefix(u.Path, f.base.Path) {
		return "", false
	}
	name, err := storage.Clean(storage.ShownName(strings.TrimPrefix(strings.TrimPrefix(u.Path, f.base.Path), "/")))
	return name, err == nil
}

// readOnly is the error of everything that would change something.
func readOnly(names ...string) error {
	for _, name := range names {
		if _, err := storage.Clean(name); err != nil {
			return err
		}
	}
	return fmt.Errorf("a web server is only read from: %w", fs.ErrPermission)
}

// Create fails: a web server is only read from.
func (f *Folder) Create(name string) (storage.File, error) { return nil, readOnly(name) }

// Reopen fails likewise.
func (f *Folder) Reopen(name string) (storage.File, error) { return nil, readOnly(name) }

// Rename fails likewise.
func (f *Folder) Rename(from, to string) error { return readOnly(from, to) }

// Exchange fails likewise.
func (f *Folder) Exchange(a, b string) error { return readOnly(a, b) }

// Remove fails likewise.
func (f *Folder) Remove(name string) error { return readOnly(name) }

// Sync has nothing to do.
func (f *Folder) Sync(string) error { return nil }

// Space tells that nothing can be written.
func (f *Folder) Space() (storage.Space, error) {
	return storage.Space{
		Kind:     f.base.Scheme,
		Total:    storage.Unknown,
		Free:     storage.Unknown,
		ReadOnly: true,
		Served:   true,
		ID:       f.base.Host,
	}, nil
}

// Close lets go of connections.
func (f *Folder) Close() error {
	f.client.CloseIdleConnections()
	return nil
}
