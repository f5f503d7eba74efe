package base

import (
	"bytes"
	"io"
	"mime/multipart"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/design"
)

// maxUpload is the most bytes of a file or text that a schema is made of.
const maxUpload = project.MaxPart

// Upload is a file of a form, with the name that it can have in a project.
type Upload struct {
	Name    string
	Content []byte
}

// maxFiles bounds the files of one form.
const maxFiles = 50

// Uploads are the files of a form, or its pasted text. There is always at least one, which may be empty.
func Uploads(c *gin.Context) ([]Upload, error) {
	form, err := c.MultipartForm()
	if err != nil || len(form.File["file"]) == 0 || form.File["file"][0].Size == 0 {
		text := c.PostForm("text")
		if len(text) > maxUpload {
			return nil, fault.New(fault.Limit, "the text is longer than %d bytes", maxUpload)
		}
		return []Upload{{Content: []byte(text)}}, nil
	}
	headers := form.File["file"]
	if len(headers) > maxFiles {
		return nil, fault.New(fault.Limit, "more than %d files", maxFiles)
	}
	files := make([]Upload, len(headers))
	for i, h := range headers {
		if files[i], err = readFile(h); err != nil {
			return nil, err
		}
	}
	return files, nil
}

func readFile(h *multipart.FileHeader) (Upload, error) {
	if h.Size > maxUpload {
		return Upload{}, fault.New(fault.Limit, "the file %s is larger than %d bytes", FileName(h.Filename), maxUpload)
	}
	f, err := h.Open()
	if err != nil {
		return Upload{}, err
	}
	defer f.Close()
	content, err := io.ReadAll(io.LimitReader(f, maxUpload))
	return Upload{FileName(h.Filename), content}, err
}

// Outermost puts the file first that no other one names: of several documents of one description
// that is the one that takes the others in.
func Outermost(files []Upload) []Upload {
	for i, f := range files {
		named := slices.ContainsFunc(files, func(other Upload) bool { return other.Name != f.Name && bytes.Contains(other.Content, []byte(f.Name)) })
		if !named {
			return append([]Upload{f}, slices.Delete(slices.Clone(files), i, i+1)...)
		}
	}
	return files
}

var unfit = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// FileName is a name under which a file can stand in a project's folder.
func FileName(name string) string {
	name = strings.Trim(unfit.ReplaceAllString(path.Base(strings.ReplaceAll(name, `\`, "/")), "-"), ".-")
	return name[:min(len(name), 80)]
}

// KeepSchema adds the schema and the samples that it was made from.
func (b Pages) KeepSchema(c *gin.Context, s *schema.Schema, samples []Upload) error {
	list := make([]design.Sample, len(samples))
	for i, f := range samples {
		list[i] = design.Sample{Name: f.Name, Content: f.Content}
	}
	return b.Designer(c).AddSchema(c, s, list)
}
