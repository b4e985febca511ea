// Package web holds the built console.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console is the folder of the built console.
func Console() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("web: " + err.Error()) // the folder is embedded above
	}
	return sub
}
