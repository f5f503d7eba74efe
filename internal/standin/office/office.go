// Package office is the stand-in for the office's shared folder, into which rosters, lists and scanned papers
// are written.
package office

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"hollowreed/internal/standin"
)

// shown is how much of a file the page shows, in bytes.
const shown = 1500

// Page lists the files with the beginning of each.
func Page(folder string) func(context.Context) (standin.Page, error) {
	return func(context.Context) (standin.Page, error) {
		t := standin.Table{Title: "Files", Head: []string{"file", "bytes", "begins with"}}
		err := filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || len(t.Rows) > 60 {
				return err
			}
			content, err := os.ReadFile(path)
			name, _ := filepath.Rel(folder, path)
			t.Rows = append(t.Rows, []string{name, fmt.Sprint(len(content)), string(content[:min(len(content), shown)])})
			return err
		})
		return standin.Page{Title: "Office folder", About: "What flows write is in " + folder, Tables: []standin.Table{t}}, err
	}
}

// Standin is the office's folder.
var Standin = standin.Standin{
	Name: "office-folder", About: "a folder into which rosters, lists and papers are written",
	Start: func(ctx context.Context, data string) (*standin.Running, error) {
		folder := filepath.Join(data, "stand-ins", "office")
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, Page(folder))
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{
			"office-folder": {Kind: "file", Values: map[string]string{"folder": folder, "after": "leave"}},
		}}, err
	},
}
