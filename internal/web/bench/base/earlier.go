package base

import (
	"context"
	"maps"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// MaxEdits is how many earlier states of a schema can be compared with.
const MaxEdits = 30

// FilesBefore are the files of a release of a flow, or those of the draft with one part as it was before.
func (b Pages) FilesBefore(c context.Context, p *project.Project, path, of string, n int) (map[string]string, error) {
	if of != "edit" {
		return store.ReleaseFiles(c, b.DB, p.ID, of, n)
	}
	text, err := store.EditText(c, b.DB, p.ID, path, int64(n))
	if err != nil {
		return nil, err
	}
	files := maps.Clone(p.Texts)
	files[path] = text
	return files, nil
}
