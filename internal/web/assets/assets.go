// Package assets holds what the pages ship with: styles, scripts and fonts. The files in dist are
// built from src and from packages by make assets and are committed.
package assets

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"io/fs"
)

//go:embed dist
var files embed.FS

// FS is the folder that is served.
func FS() fs.FS {
	sub, err := fs.Sub(files, "dist")
	if err != nil {
		panic(err) // the folder is embedded
	}
	return sub
}

// Version changes with the assets; pages name it, so that browsers may keep them for long.
var Version = func() string {
	h := sha256.New()
	for _, name := range []string{"app.css", "app.js", "code.js", "htmx.js"} {
		b, err := fs.ReadFile(FS(), name)
		if err != nil {
			panic(err)
		}
		h.Write(b)
	}
	return hex.EncodeToString(h.Sum(nil))[:10]
}()
