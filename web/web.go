// Package web holds the built console, so that the service is one file.
//
// From: `make console`, which builds it into dist.
// To: package httpapi, which serves it.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console returns the files of the console. It holds no index.html where the console has not been built.
func Console() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("bug: " + err.Error())
	}
	return files
}
