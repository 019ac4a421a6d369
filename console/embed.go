// Package console holds the built console, embedded into the binary.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files; without a build there is no index.html among them.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		return dist // cannot be: the folder is embedded
	}
	return sub
}
