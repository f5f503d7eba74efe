// Package demo holds the demo project as text files, as it is loaded when the demo first starts.
package demo

import "embed"

// Files is the project folder.
//
//go:embed project.yaml connections schemas mappings flows samples cases tables libraries alerts apis contracts channels
var Files embed.FS
