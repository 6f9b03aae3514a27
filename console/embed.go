// Package console holds the built web console.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

//go:embed placeholder
var placeholder embed.FS

// Built tells whether the console was built before the binary was.
func Built() bool {
	_, err := fs.Stat(dist, "dist/index.html")
	return err == nil
}

// Files are the console's files, or a page that says how to build it.
func Files() fs.FS {
	from, folder := fs.FS(placeholder), "placeholder"
	if Built() {
		from, folder = dist, "dist"
	}
	files, err := fs.Sub(from, folder)
	if err != nil {
		panic(err) // the folders are embedded
	}
	return files
}
