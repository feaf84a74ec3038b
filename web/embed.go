// Package web is the built interface, embedded.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the files of the built interface.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil { // the folder is there: it is embedded
		panic(err)
	}
	return sub
}
