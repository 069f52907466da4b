package hostile

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// StartHTTP starts a web server with hostile folders, until the test ends: /long/ has a list without end, /itself/ has a hundred folders
// in each of its folders, and /slow/ has a disk of which a byte comes every two seconds.
func StartHTTP(t testing.TB) string {
	done := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == "PROPFIND":
			w.Header().Set("Content-Type", "application/xml")
			w.WriteHeader(http.StatusMultiStatus)
			_, _ = io.WriteString(w, `<?xml version="1.0"?><D:multistatus xmlns:D="DAV:">`)
			folder := ""
			n := 1 << 40
			if strings.HasPrefix(r.URL.Path, "/itself/") {
				folder, n = "<D:resourcetype><D:collection/></D:resourcetype>", 100
			}
			for i := range n {
				_, err := fmt.Fprintf(
					w,
					`<D:response><D:href>%s%s%07d/</D:href><D:propstat><D:prop>%s<D:getcontentlength>4</D:getcontentlength></D:prop></D:propstat></D:response>`,
					r.URL.Path,
					strings.Repeat("x", 100),
					i,
					folder,
				)
				if err != nil {
					return
				}
			}
			_, _ = io.WriteString(w, `</D:multistatus>`)
		case strings.HasPrefix(r.URL.Path, "/slow/"):
			w.Header().Set("Accept-Ranges", "bytes")
			w.Header().Set("Content-Length", "1048576")
			if r.Method == http.MethodHead {
				return
			}
			var from, to int64
			if _, err := fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-%d", &from, &to); err != nil {
				return
			}
			w.Header().Set("Content-Length", fmt.Sprint(to-from+1))
			w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/1048576", from, to))
			w.WriteHeader(http.StatusPartialContent)
			for range to - from + 1 {
				if _, err := w.Write([]byte{0}); err != nil {
					return
				}
				w.(http.Flusher).Flush()
				select {
				case <-time.After(2 * time.Second):
				case <-r.Context().Done():
					return
				case <-done:
					return
				}
			}
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(server.Close)
	t.Cleanup(func() { close(done) })
	return server.URL
}
