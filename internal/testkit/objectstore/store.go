// Package objectstore is a stand-in for an object store with the S3 protocol, in memory, for tests.
package objectstore

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// The keys that it knows.
const (
	AccessKey = "quay-crew"
	SecretKey = "the tide waits for nobody"
)

// Store is one that runs until the test ends.
type Store struct {
	URL    string
	Sent   atomic.Int64 // bytes of objects that came in
	Copied atomic.Int64 // bytes that it copied by itself
	// Fault is asked about each call; what it returns is answered instead, 0 for nothing, and -1 for no answer.
	Fault func(r *http.Request) int
	// Rot has what is copied differ from what it is copied from.
	Rot atomic.Bool

	mu      sync.Mutex
	objects map[string]*object // by /BUCKET/KEY
	uploads map[string]*upload
	number  int
}

type object struct {
	content  []byte
	tag      string
	modified time.Time
}

type upload struct {
	target string
	parts  map[int]*object
}

// Start starts one with a bucket.
func Start(t testing.TB) *Store {
	s := &Store{objects: map[string]*object{}, uploads: map[string]*upload{}}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	s.URL = server.URL
	return s
}

// Put stores an object behind everybody's back, and Get returns one, nil where there is none. Names begin with the bucket.
func (s *Store) Put(name string, content []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.objects["/"+name] = made(content)
}

// Get returns the content of an object, nil where there is none.
func (s *Store) Get(name string) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.objects["/"+name]; o != nil {
		return o.content
	}
	return nil
}

// Names are those of all objects.
func (s *Store) Names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.objects))
}

func made(content []byte) *object {
	return &object{content, fmt.Sprintf("%x", md5.Sum(content)), time.Now().UTC().Truncate(time.Second)}
}

func fail(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	fmt.Fprintf(w, "<Error><Code>%s</Code><Message>%s</Message></Error>", code, code)
}

func (s *Store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.Fault != nil {
		switch status := s.Fault(r); {
		case status < 0:
			panic(http.ErrAbortHandler)
		case status > 0:
			fail(w, status, "SlowDown")
			return
		}
	}
	if r.Header.Get("Authorization") == "" || !isSigned(r) {
		fail(w, http.StatusForbidden, "SignatureDoesNotMatch")
		return
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	q := r.URL.Query()
	switch {
	case bucket != "depot":
		fail(w, http.StatusNotFound, "NoSuchBucket")
	case key == "" && q.Has("location"):
		fmt.Fprint(w, `<LocationConstraint xmlns="http://s3.amazonaws.com/doc/2006-03-01/"></LocationConstraint>`)
	case key == "":
		s.list(w, bucket, q)
	case q.Has("uploads"):
		s.begin(w, r)
	case q.Has("uploadId"):
		s.parts(w, r, q)
	default:
		s.object(w, r)
	}
}

// object serves one.
func (s *Store) object(w http.ResponseWriter, r *http.Request) {
	switch r.Method {
	case http.MethodPut:
		s.put(w, r)
	case http.MethodDelete:
		s.mu.Lock()
		delete(s.objects, r.URL.Path)
		s.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	default:
		s.mu.Lock()
		o := s.objects[r.URL.Path]
		s.mu.Unlock()
		if o == nil {
			fail(w, http.StatusNotFound, "NoSuchKey")
			return
		}
		w.Header().Set("ETag", `"`+o.tag+`"`)
		w.Header().Set("Content-Type", "application/octet-stream")
		http.ServeContent(w, r, "", o.modified, bytes.NewReader(o.content))
	}
}

func (s *Store) put(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("X-Amz-Copy-Source") != "" {
		o, err := s.copied(r)
		if err != nil {
			fail(w, http.StatusNotFound, "NoSuchKey")
			return
		}
		s.mu.Lock()
		s.objects[r.URL.Path] = o
		s.mu.Unlock()
		tell(w, "CopyObjectResult", o)
		return
	}
	content, ok := s.arrived(w, r)
	if !ok {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.objects[r.URL.Path] != nil && r.Header.Get("If-None-Match") == "*" {
		fail(w, http.StatusPreconditionFailed, "PreconditionFailed")
		return
	}
	o := made(content)
	s.objects[r.URL.Path] = o
	w.Header().Set("ETag", `"`+o.tag+`"`)
}

// arrived reads what is sent, and compares it with the MD5 that was sent along.
func (s *Store) arrived(w http.ResponseWriter, r *http.Request) ([]byte, bool) {
	content, err := io.ReadAll(r.Body)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	sum := md5.Sum(content)
	if want := r.Header.Get("Content-Md5"); want != base64.StdEncoding.EncodeToString(sum[:]) {
		fail(w, http.StatusBadRequest, "BadDigest")
		return nil, false
	}
	s.Sent.Add(int64(len(content)))
	return content, true
}

// copied is what a header says that is to be copied.
func (s *Store) copied(r *http.Request) (*object, error) {
	from, err := url.PathUnescape(r.Header.Get("X-Amz-Copy-Source"))
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	o := s.objects["/"+strings.TrimPrefix(from, "/")]
	s.mu.Unlock()
	if o == nil {
		return nil, errors.New("there is none")
	}
	content := o.content
	if text := r.Header.Get("X-Amz-Copy-Source-Range"); text != "" {
		var first, last int
		if _, err := fmt.Sscanf(text, "bytes=%d-%d", &first, &last); err != nil || last >= len(content) {
			return nil, errors.New("no such range")
		}
		content = content[first : last+1]
	}
	content = bytes.Clone(content)
	if s.Rot.Load() && len(content) > 0 {
		content[len(content)/2] ^= 1
	}
	s.Copied.Add(int64(len(content)))
	return made(content), nil
}

func tell(w io.Writer, what string, o *object) {
	fmt.Fprintf(
		w,
		`<%s><ETag>&quot;%s&quot;</ETag><LastModified>%s</LastModified></%s>`,
		what,
		o.tag,
		o.modified.Format("2006-01-02T15:04:05.000Z"),
		what,
	)
}

// begin begins an object of parts.
func (s *Store) begin(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.number++
	id := fmt.Sprint("upload-", s.number)
	s.uploads[id] = &upload{r.URL.Path, map[int]*object{}}
	fmt.Fprintf(w, "<InitiateMultipartUploadResult><UploadId>%s</UploadId></InitiateMultipartUploadResult>", id)
}

// parts takes a part, ends an upload, or gives it up.
func (s *Store) parts(w http.ResponseWriter, r *http.Request, q url.Values) {
	s.mu.Lock()
	u := s.uploads[q.Get("uploadId")]
	s.mu.Unlock()
	if u == nil || u.target != r.URL.Path {
		fail(w, http.StatusNotFound, "NoSuchUpload")
		return
	}
	switch r.Method {
	case http.MethodPut:
		o, err := s.copied(r)
		if err != nil {
			fail(w, http.StatusNotFound, "NoSuchKey")
			return
		}
		n, _ := strconv.Atoi(q.Get("partNumber"))
		s.mu.Lock()
		u.parts[n] = o
		s.mu.Unlock()
		tell(w, "CopyPartResult", o)
	case http.MethodPost:
		s.end(w, r, q.Get("uploadId"), u)
	default:
		s.mu.Lock()
		delete(s.uploads, q.Get("uploadId"))
		s.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	}
}

func (s *Store) end(w http.ResponseWriter, r *http.Request, id string, u *upload) {
	var asked struct {
		Part []struct {
			PartNumber int
			ETag       string
		}
	}
	if err := xml.NewDecoder(r.Body).Decode(&asked); err != nil {
		fail(w, http.StatusBadRequest, "MalformedXML")
		return
	}
	var content, sums []byte
	for _, p := range asked.Part {
		o := u.parts[p.PartNumber]
		if o == nil || o.tag != strings.Trim(p.ETag, `"`) {
			fail(w, http.StatusBadRequest, "InvalidPart")
			return
		}
		sum, _ := hex.DecodeString(o.tag)
		content, sums = append(content, o.content...), append(sums, sum...)
	}
	o := made(content)
	o.tag = fmt.Sprintf("%x-%d", md5.Sum(sums), len(asked.Part))
	s.mu.Lock()
	s.objects[r.URL.Path] = o
	delete(s.uploads, id)
	s.mu.Unlock()
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	fmt.Fprintf(
		w,
		`<CompleteMultipartUploadResult><Bucket>%s</Bucket><Key>%s</Key><ETag>&quot;%s&quot;</ETag></CompleteMultipartUploadResult>`,
		bucket,
		key,
		o.tag,
	)
}

// list lists a bucket, some entries at a time.
func (s *Store) list(w http.ResponseWriter, bucket string, q url.Values) {
	type content struct {
		Key, LastModified, ETag string
		Size                    int
	}
	type prefix struct{ Prefix string }
	var out struct {
		XMLName               xml.Name `xml:"ListBucketResult"`
		IsTruncated           bool
		NextContinuationToken string `xml:",omitempty"`
		Contents              []content
		CommonPrefixes        []prefix
	}
	most := 7 // few, so that going on is needed
	if n, err := strconv.Atoi(q.Get("max-keys")); err == nil && n > 0 {
		most = min(most, n)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	last := ""
	for _, name := range slices.Sorted(maps.Keys(s.objects)) {
		key := strings.TrimPrefix(name, "/"+bucket+"/")
		rest, in := strings.CutPrefix(key, q.Get("prefix"))
		if !in {
			continue
		}
		entry := key
		first, _, deeper := strings.Cut(rest, "/")
		if deeper = deeper && q.Get("delimiter") == "/"; deeper {
			entry = q.Get("prefix") + first + "/"
		}
		if entry <= q.Get("continuation-token") || entry == last {
			continue
		}
		if len(out.Contents)+len(out.CommonPrefixes) == most {
			out.IsTruncated, out.NextContinuationToken = true, last
			break
		}
		last = entry
		if deeper {
			out.CommonPrefixes = append(out.CommonPrefixes, prefix{entry})
			continue
		}
		o := s.objects[name]
		out.Contents = append(out.Contents, content{key, o.modified.Format("2006-01-02T15:04:05.000Z"), `"` + o.tag + `"`, len(o.content)})
	}
	_ = xml.NewEncoder(w).Encode(out)
}

// isSigned checks who has signed a call (Amazon S3 API Reference, "Authenticating Requests: Using the Authorization Header").
func isSigned(r *http.Request) bool {
	var fields = map[string]string{}
	algorithm, rest, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	for _, f := range strings.Split(rest, ",") {
		k, v, _ := strings.Cut(strings.TrimSpace(f), "=")
		fields[k] = v
	}
	scope := strings.Split(fields["Credential"], "/")
	if algorithm != "AWS4-HMAC-SHA256" || len(scope) != 5 || scope[0] != AccessKey {
		return false
	}
	var text strings.Builder
	fmt.Fprintf(&text, "%s\n%s\n%s\n", r.Method, r.URL.EscapedPath(), strings.ReplaceAll(r.URL.Query().Encode(), "+", "%20"))
	for _, h := range strings.Split(fields["SignedHeaders"], ";") {
		v := strings.Join(r.Header.Values(h), ",")
		switch h {
		case "host":
			v = r.Host
		case "content-length":
			v = strconv.FormatInt(r.ContentLength, 10)
		}
		fmt.Fprintf(&text, "%s:%s\n", h, strings.TrimSpace(v))
	}
	fmt.Fprintf(&text, "\n%s\n%s", fields["SignedHeaders"], r.Header.Get("X-Amz-Content-Sha256"))
	sum := sha256.Sum256([]byte(text.String()))
	key := []byte("AWS4" + SecretKey)
	for _, part := range scope[1:] {
		key = sign(key, part)
	}
	what := strings.Join([]string{algorithm, r.Header.Get("X-Amz-Date"), strings.Join(scope[1:], "/"), hex.EncodeToString(sum[:])}, "\n")
	return hex.EncodeToString(sign(key, what)) == fields["Signature"]
}

func sign(key []byte, what string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(what))
	return h.Sum(nil)
}
