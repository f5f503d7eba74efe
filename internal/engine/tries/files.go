package tries

import (
	"strings"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/outfile"
)

// TriedFile is a file that a try would have written.
type TriedFile struct {
	Name    string
	Records int
	Size    int64  // bytes, before it is compressed
	Text    string // the first part of it
}

// shownOf is how much of a file a page shows, in bytes.
const shownOf = 4 << 10

// Files are the files that a try's step would have written, by name.
func (t *TestRun) Files(to *running.FileTarget) ([]TriedFile, error) {
	set, files, err := outfile.Of(to, func(use func(content []byte) error) error { return use(outfile.Collected(t.batch)[to.Step.ID]) })
	if err != nil {
		return nil, err
	}
	defer set.Close(nil)
	var list []TriedFile
	for _, f := range files {
		text, err := f.Text(shownOf)
		if err != nil {
			return nil, err
		}
		list = append(list, TriedFile{f.Name, f.Records, f.Size(), strings.ToValidUTF8(string(text), "\uFFFD")})
	}
	return list, nil
}
