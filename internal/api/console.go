package api

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
)

// console serves the console's files. Its own addresses, which are no files, get its page.
func console(files fs.FS) gin.HandlerFunc {
	server := http.FileServerFS(files)
	return func(c *gin.Context) {
		p := c.Request.URL.Path
		if strings.HasPrefix(p, "/v1/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			problemWith(c, http.StatusNotFound, "there is nothing at "+p)
			return
		}
		c.Status(http.StatusOK) // gin begins with 404 here
		if info, err := fs.Stat(files, strings.TrimPrefix(path.Clean(p), "/")); err != nil || info.IsDir() {
			c.Request.URL.Path = "/"
			c.Header("Cache-Control", "no-cache")
		} else if strings.HasPrefix(p, "/assets/") { // named after their content
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		server.ServeHTTP(c.Writer, c.Request)
	}
}
