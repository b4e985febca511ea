package server

import (
	"bytes"
	"fmt"
	"html"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// reserved are the paths below which there is no page of the console.
var reserved = []string{"api", "access", "scim", "sign-on", ".well-known", "healthz", "readyz", "metrics", "problems"}

// console serves the built console: its files as they are, and its first page for every other path that a browser asks for,
// since the console finds its way by the address.
type console struct {
	files fs.FS
	page  *packed // the first page, which says below which path the service lies
}

func newConsole(files fs.FS, prefix string) (*console, error) {
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		return nil, fmt.Errorf("read the console: %w", err)
	}
	base := fmt.Sprintf(`<head><base href="%s/">`, html.EscapeString(prefix))
	return &console{files, pack(bytes.Replace(page, []byte("<head>"), []byte(base), 1))}, nil
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
	return s.console.serve(c, name)
}

func (p *console) serve(c *echo.Context, name string) error {
	h := c.Response().Header()
	info, err := fs.Stat(p.files, name)
	isFile := name != "" && err == nil && !info.IsDir() && name != "index.html" && !strings.HasSuffix(name, packedFile)
	switch {
	case !isFile && strings.HasPrefix(name, "assets/"):
		return echo.ErrNotFound
	case strings.HasPrefix(name, "assets/"):
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // names hold a hash
	default:
		h.Set("Cache-Control", "no-cache")
	}
	switch {
	case !isFile:
		p.page.serve(c.Response(), c.Request(), "text/html; charset=utf-8")
	case !servePacked(c.Response(), c.Request(), p.files, name, mime.TypeByExtension(path.Ext(name))):
		http.ServeFileFS(c.Response(), c.Request(), p.files, name)
	}
	return nil
}
