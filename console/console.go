// Package console holds the built web console.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the console's files; without a build there is no index.html among them.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil { // the folder is part of the binary
		return embed.FS{}
	}
	return sub
}
