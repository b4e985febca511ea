package server

import (
	"bytes"
	"fmt"
	"html"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
)

// reserved are the paths below which there is no page of the console.
var reserved = []string{"api", "access", "scim", "sign-on", ".well-known", "healthz", "readyz", "metrics", "problems"}

// console serves the built console: its files as they are, and its first page for every other path that a browser asks for,
// since the console finds its way by the address.
type console struct {
	files fs.FS
	page  []byte // the first page, which says below which path the service lies
	begun time.Time
	zip   echo.MiddlewareFunc
}

func newConsole(files fs.FS, prefix string) (*console, error) {
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		return nil, fmt.Errorf("read the console: %w", err)
	}
	base := fmt.Sprintf(`<head><base href="%s/">`, html.EscapeString(prefix))
	return &console{files, bytes.Replace(page, []byte("<head>"), []byte(base), 1), time.Now(), middleware.Gzip()}, nil
}

// elsewhere answers what no route does.
func (s *Server) elsewhere(c *echo.Context) error {
	name := strings.TrimPrefix(path.Clean("/"+c.Request().URL.Path), "/")
	first, _, _ := strings.Cut(name, "/")
	if s.console == nil || slices.Contains(reserved, first) {
		return echo.ErrNotFound
	}
	if method := c.Request().Method; method != http.MethodGet && method != http.MethodHead {
		c.Response().Header().Set("Allow", "GET, HEAD")
		return echo.ErrMethodNotAllowed
	}
	return s.console.zip(func(c *echo.Context) error { return s.console.serve(c, name) })(c)
}

func (p *console) serve(c *echo.Context, name string) error {
	h := c.Response().Header()
	info, err := fs.Stat(p.files, name)
	isFile := name != "" && err == nil && !info.IsDir() && name != "index.html"
	switch {
	case !isFile && strings.HasPrefix(name, "assets/"):
		return echo.ErrNotFound
	case strings.HasPrefix(name, "assets/"):
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // names hold a hash
	default:
		h.Set("Cache-Control", "no-cache")
	}
	if !isFile {
		http.ServeContent(c.Response(), c.Request(), "index.html", p.begun, bytes.NewReader(p.page))
		return nil
	}
	http.ServeFileFS(c.Response(), c.Request(), p.files, name)
	return nil
}
