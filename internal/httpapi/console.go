package httpapi

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
)

// consolePolicy keeps the console from loading anything from elsewhere and from being framed. Styles may be inline, since the
// primitives set positions that way.
const consolePolicy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; " +
	"connect-src 'self'; frame-ancestors 'none'; base-uri 'self'; form-action 'self'"

// serveConsole answers everything that is not an operation: the console's files, its page for each of its addresses,
// and a problem for an unknown operation.
func serveConsole(files fs.FS) gin.HandlerFunc {
	server := http.FileServerFS(files)
	return func(c *gin.Context) {
		name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		header := c.Writer.Header()
		header.Set("X-Content-Type-Options", "nosniff")
		header.Set("Referrer-Policy", "same-origin")
		switch {
		case name == "api" || strings.HasPrefix(name, "api/"):
			writeProblem(c.Writer, http.StatusNotFound, "There is no such operation; /api/openapi.yaml lists them all.")
			return
		case c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead:
			writeProblem(c.Writer, http.StatusMethodNotAllowed, "The console is only read.")
			return
		}
		header.Set("Content-Security-Policy", consolePolicy)
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") { // their names hold a hash of what is in them
				header.Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			c.Status(http.StatusOK)
			server.ServeHTTP(c.Writer, c.Request)
			return
		}
		if strings.HasPrefix(name, "assets/") {
			c.Data(http.StatusNotFound, "text/plain; charset=utf-8", []byte("There is no such file; the console was probably updated. Reload the page.\n"))
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			c.Data(http.StatusNotFound, "text/plain; charset=utf-8", []byte("The console is not in this build. Run `make build`, which builds it first.\n"))
			return
		}
		header.Set("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", page)
	}
}
