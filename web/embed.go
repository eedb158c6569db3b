// Package web holds the built console, so that one binary serves it.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console is the built console, or an empty folder where it was not built.
func Console() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded
	}
	return sub
}
