package bench

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// duplicatePart adds a copy of a part beside it.
func (b bench) duplicatePart(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	path := c.PostForm("path")
	kind, _, ok := project.Kind(path)
	text, there := p.Texts[path]
	if !ok || !there {
		return store.ErrNotFound
	}
	if key := project.TitleKeys[kind]; key != "" {
		i := slices.IndexFunc(p.Parts(kind), func(part project.Part) bool { return part.Path == path })
		if i < 0 {
			return store.ErrNotFound
		}
		changed, err := doc.Set([]byte(text), []any{key}, p.Parts(kind)[i].Title+" copy")
		if err != nil {
			return err
		}
		text = string(changed)
	}
	err = pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error {
		path, err = store.AddNumbered(c, tx, p.ID, path, text, b.Person.ID)
		return err
	})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, page.PartHref(path))
	return nil
}

var deleteView = page.Parse(files, "partdelete.html")

// deletePage says what deleting a part would break.
type deletePage struct {
	page.Frame
	Part     project.Part
	Revision int64
	Breaks   []project.Part // parts that have faults without it
	Along    []project.Part // all that would have to go with it
}

// breaks are the parts that have faults which they would not have if some parts were there.
func breaks(p *project.Project, without ...string) []project.Part {
	texts := map[string]string{}
	for path, text := range p.Texts {
		if !slices.Contains(without, path) {
			texts[path] = text
		}
	}
	had := map[string]int{}
	for _, f := range p.Faults {
		had[f.Place.Source]++
	}
	after := project.Next(p, p.ID, texts)
	has := map[string]int{}
	for _, f := range after.Faults {
		has[f.Place.Source]++
	}
	var list []project.Part
	for _, part := range after.Parts("") {
		if has[part.Path] > had[part.Path] {
			list = append(list, part)
		}
	}
	return list
}

// along are the parts that have to go with a part for nothing to break: those that it breaks, and those that they do.
func along(p *project.Project, path string) []project.Part {
	gone := []string{path}
	var all []project.Part
	for {
		more := breaks(p, gone...)
		if len(more) == 0 {
			return all
		}
		for _, part := range more {
			gone, all = append(gone, part.Path), append(all, part)
		}
	}
}

// askDelete shows what deleting a part would break.
func (b bench) askDelete(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := deletePage{Frame: b.Frame(c, "bench", "Delete")}
	i := slices.IndexFunc(p.Parts(""), func(part project.Part) bool { return part.Path == c.Query("path") })
	if i < 0 {
		return store.ErrNotFound
	}
	d.Part = p.Parts("")[i]
	draft, err := store.PartDraft(c, b.DB, p.ID, d.Part.Path)
	if err != nil {
		return err
	}
	d.Revision = draft.Revision
	if d.Part.Kind != project.Samples {
		d.Breaks, d.Along = breaks(p, d.Part.Path), along(p, d.Part.Path)
	}
	deleteView.Page(c, d)
	return nil
}

// deletePart removes a part: alone, leaving faults where it is used, or with all that would break. A sample leaves the
// schemas that name it.
func (b bench) deletePart(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	path, how := c.PostForm("path"), c.PostForm("how")
	kind, id, ok := project.Kind(path)
	if _, there := p.Texts[path]; !there || !ok {
		return store.ErrNotFound
	}
	gone := []string{path}
	if kind != project.Samples {
		broken := breaks(p, path)
		switch {
		case how == "along":
			for _, part := range along(p, path) {
				gone = append(gone, part.Path)
			}
		case len(broken) > 0 && how != "leave":
			return fault.New(fault.Setting, "%s would break", titles(broken)).Mended("Choose whether they go with it, or keep their faults")
		}
	}
	err = pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error {
		if kind == project.Samples {
			if err := b.unnameSample(c, tx, p, id); err != nil {
				return err
			}
		}
		for _, path := range gone {
			draft, err := store.LockDraft(c, tx, p.ID, path)
			if err != nil {
				return err
			}
			if path == gone[0] && fmt.Sprint(draft.Revision) != c.PostForm("revision") {
				return store.ErrChanged
			}
			if err := store.RemovePart(c, tx, p.ID, path, draft.Revision); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/parts?said="+url.QueryEscape(fmt.Sprintf("Deleted %s. It can be restored below.", strings.Join(gone, ", "))))
	return nil
}

func titles(parts []project.Part) string {
	names := make([]string, len(parts))
	for i, p := range parts {
		names[i] = p.Title
	}
	return strings.Join(names, ", ")
}

// unnameSample takes a sample out of the lists of the schemas that name it.
func (b bench) unnameSample(c *gin.Context, tx pgx.Tx, p *project.Project, name string) error {
	for _, part := range p.Parts(project.Schemas) {
		at := slices.Index(p.Schema(part.ID).Samples, name)
		if at < 0 {
			continue
		}
		draft, err := store.LockDraft(c, tx, p.ID, part.Path)
		if err != nil {
			return err
		}
		text, err := doc.Remove([]byte(draft.Text), []any{"samples"}, at)
		if err != nil {
			return err
		}
		if err := store.SavePart(c, tx, p.ID, part.Path, string(text), draft.Revision, b.Person.ID); err != nil {
			return err
		}
	}
	return nil
}

// restorePart brings a part back that was deleted.
func (b bench) restorePart(c *gin.Context) error {
	path := c.PostForm("path")
	err := pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error { return store.RestorePart(c, tx, b.Project, path) })
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/parts?said="+url.QueryEscape("Restored "+path))
	return nil
}

// exportProject sends the project's text files as a ZIP archive.
func (b bench) exportProject(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	packed, err := project.Pack(p.Texts)
	if err != nil {
		return err
	}
	c.Header("Content-Disposition", `attachment; filename="`+FileName(p.ID+".zip")+`"`)
	c.Data(http.StatusOK, "application/zip", packed)
	return nil
}

// importProject makes the drafts what a ZIP archive of text files has.
func (b bench) importProject(c *gin.Context) error {
	texts, err := UnpackedFile(c)
	if err != nil {
		return err
	}
	project.Load(b.Project, texts) // what takes long in it holds up nobody else
	var changes store.Changes
	err = pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error {
		changes, err = store.ReplaceParts(c, tx, b.Project, texts, b.Person.ID)
		return err
	})
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/parts?said="+url.QueryEscape(fmt.Sprintf("Imported: %d added, %d changed, %d removed. Removed parts can be restored below, changed ones undone on their pages.", changes.Added, changes.Changed, changes.Removed)))
	return nil
}

// UnpackedFile reads the project of an uploaded ZIP archive.
func UnpackedFile(c *gin.Context) (map[string]string, error) {
	header, err := c.FormFile("file")
	if err != nil {
		return nil, fault.New(fault.Required, "no file was chosen").Mended("Choose a ZIP archive of a project folder")
	}
	if header.Size > project.MaxPacked {
		return nil, fault.New(fault.Limit, "the archive is larger than %d MB", project.MaxPacked>>20)
	}
	f, err := header.Open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	content, err := io.ReadAll(io.LimitReader(f, project.MaxPacked))
	if err != nil {
		return nil, err
	}
	return project.Unpack(content)
}
