// Package web holds the console: React, built by Vite into dist, and embedded into the service.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console is the built console, with index.html at its root.
func Console() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // dist is part of every build
	}
	return files
}
