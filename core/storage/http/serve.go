package http

import (
	"cmp"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// runsType is the type of the list of what of a file holds data, in JSON: begin and end of each run, in bytes. It is our own, and offered by the header runsHeader.
const (
	runsType   = "application/vnd.bagaglio.runs+json"
	runsHeader = "Bagaglio-Runs"
	// modifiedHeader is when a file was modified (RFC 3339), since Last-Modified has no parts of a second: who skips holes by a list sees a change only by that.
	modifiedHeader = "Bagaglio-Modified"
	maxRuns        = 100_000 // of a file; one with more has none that is told
)

// Handler serves the files of a folder to be read below a path, as [Open] reads them: by ranges (RFC 9110) and by lists of folders (RFC 4918, section 9.1). What another program
// writes to is not given out.
func Handler(prefix string, folder storage.Folder) http.Handler { return handler{prefix, folder} }

type handler struct {
	prefix string
	folder storage.Folder
}

func (h handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := storage.ShownName(cmp.Or(strings.Trim(strings.TrimPrefix(r.URL.Path, h.prefix), "/"), "."))
	var err error
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		err = h.file(w, r, name)
	case "PROPFIND":
		err = h.list(w, r, name)
	default:
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
	var said fault
	switch {
	case err == nil:
	case errors.As(err, &said):
		http.Error(w, said.Error(), said.status)
	case errors.Is(err, fs.ErrNotExist):
		http.Error(w, err.Error(), http.StatusNotFound)
	case errors.Is(err, storage.ErrOutside), errors.Is(err, fs.ErrPermission):
		http.Error(w, err.Error(), http.StatusForbidden)
	default:
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
	}
}

// fault is an error with a status of its own.
type fault struct {
	error
	status int
}

// file sends a file, or a range of it, or which of it holds data.
func (h handler) file(w http.ResponseWriter, r *http.Request, name string) error {
	info, err := h.folder.Stat(name)
	if err != nil {
		return err
	}
	if info.IsDir {
		w.Header().Set("Last-Modified", info.Modified.UTC().Format(http.TimeFormat))
		return nil
	}
	if !info.Regular {
		return fmt.Errorf("%s is no file: %w", name, fs.ErrPermission)
	}
	if u, ok := storage.As[storage.Usage](h.folder); ok && r.Method == http.MethodHead {
		if why, err := u.InUse(name); err == nil && why != "" {
			return fault{fmt.Errorf("%s is in use: %s", name, why), http.StatusLocked}
		}
	}
	file, err := h.folder.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	if info, err = h.folder.Stat(name); err != nil { // behind opening it: what is sent is never newer than its tag
		return err
	}
	finder, sparse := file.(storage.RangeFinder)
	if sparse {
		w.Header().Set(runsHeader, "1")
	}
	tag := fmt.Sprintf(`"%x-%x-%x-%x"`, info.Size, info.Modified.UnixNano(), info.Changed.UnixNano(), info.ID)
	w.Header().Set("ETag", tag)
	w.Header().Set(modifiedHeader, info.Modified.UTC().Format(time.RFC3339Nano))
	if sparse && r.Header.Get("Accept") == runsType {
		if same := r.Header.Get("If-Match"); same != "" && same != tag {
			return fault{fmt.Errorf("%s was changed", name), http.StatusPreconditionFailed}
		}
		return sendRuns(w, finder, info.Size)
	}
	w.Header().Set(leavesHeader, strconv.Itoa(fingerprint.LeafSize))
	if r.Header.Get("Accept") == leavesType {
		if same := r.Header.Get("If-Match"); same != "" && same != tag {
			return fault{fmt.Errorf("%s was changed", name), http.StatusPreconditionFailed}
		}
		return sendLeaves(w, r, file, info.Size)
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	out := &packed{ResponseWriter: w}
	content := io.NewSectionReader(file, 0, info.Size)
	if r.Header.Get(packHeader) != zstdName {
		http.ServeContent(w, r, "", info.Modified, content)
		return nil
	}
	http.ServeContent(out, r, "", info.Modified, content)
	out.end()
	return nil
}

func sendRuns(w http.ResponseWriter, f storage.RangeFinder, size int64) error {
	runs := [][2]int64{}
	for off := int64(0); off < size; {
		end, data, err := f.Range(off)
		if err != nil {
			return err
		}
		if data {
			runs = append(runs, [2]int64{off, min(end, size)})
		}
		if len(runs) > maxRuns {
			return fault{errors.New("it has too many runs"), http.StatusNotAcceptable}
		}
		off = end
	}
	w.Header().Set("Content-Type", runsType)
	return json.NewEncoder(w).Encode(runs)
}

// entry is a part of a list (RFC 4918, section 14.24).
type entry struct {
	XMLName  xml.Name  `xml:"DAV: response"`
	Href     string    `xml:"DAV: href"`
	Length   string    `xml:"DAV: propstat>prop>getcontentlength,omitempty"`
	Modified string    `xml:"DAV: propstat>prop>getlastmodified"`
	Folder   *struct{} `xml:"DAV: propstat>prop>resourcetype>collection,omitempty"`
	Status   string    `xml:"DAV: propstat>status"`
	Exact    string    `xml:"bagaglio: modified"` // as modifiedHeader has it
}

func (h handler) list(w http.ResponseWriter, r *http.Request, name string) error {
	infos, err := h.folder.List(name)
	if err != nil {
		return err
	}
	all := struct {
		XMLName xml.Name `xml:"DAV: multistatus"`
		Entries []entry
	}{}
	base := strings.TrimSuffix(r.URL.Path, "/") + "/"
	for _, info := range infos {
		e := entry{
			Href:     (&url.URL{Path: base + path.Base(storage.RawName(info.Name))}).EscapedPath(),
			Modified: info.Modified.UTC().Format(http.TimeFormat), Status: "HTTP/1.1 200 OK",
			Exact: info.Modified.UTC().Format(time.RFC3339Nano),
		}
		switch {
		case info.IsDir:
			e.Href, e.Folder = e.Href+"/", &struct{}{}
		case info.Regular:
			e.Length = fmt.Sprint(info.Size)
		default:
			continue
		}
		all.Entries = append(all.Entries, e)
	}
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	w.WriteHeader(http.StatusMultiStatus)
	return xml.NewEncoder(w).Encode(all)
}
