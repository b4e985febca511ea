package server

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
)

// serveConsole serves the built console: its files as they are, and its first page for every other
// path that a browser asks for, since the console finds its way by the address.
func (s *Server) serveConsole(files fs.FS) {
	compress := middleware.Gzip()
	s.echo.GET("/*", compress(func(c *echo.Context) error {
		name := strings.TrimPrefix(path.Clean("/"+c.Request().URL.Path), "/")
		if strings.HasPrefix(name, "api/") || strings.HasPrefix(name, "access/") {
			return echo.ErrNotFound
		}
		if info, err := fs.Stat(files, name); name == "" || err != nil || info.IsDir() {
			if strings.Contains(path.Base(name), ".") && strings.HasPrefix(name, "assets/") {
				return echo.ErrNotFound
			}
			name = "index.html"
		}
		if strings.HasPrefix(name, "assets/") {
			c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable") // names hold a hash
		} else {
			c.Response().Header().Set("Cache-Control", "no-cache")
		}
		http.ServeFileFS(c.Response(), c.Request(), files, name)
		return nil
	}))
}
