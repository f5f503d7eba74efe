// Package parts lists the parts of a project and renames, copies, deletes and restores them; it imports and exports the project.
package parts

import (
	"embed"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of the parts of a project: listing, renaming, deleting and restoring them.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench/parts/delete", s.Do(b.askDelete))
	r.POST("/bench/parts/delete", s.Do(b.deletePart))
	r.GET("/bench/parts/rename", s.Do(b.askRename))
	r.POST("/bench/parts/rename", s.Do(b.renamePart))
	r.POST("/bench/parts/duplicate", s.Do(b.duplicatePart))
	r.POST("/bench/parts/restore", s.Do(b.restorePart))
	r.GET("/bench/export.zip", s.Do(b.exportProject))
	r.POST("/bench/import", s.Do(b.importProject))
	r.GET("/bench/parts", s.Do(b.parts))
	r.GET("/bench/text", s.Do(b.text))
	r.POST("/bench/undo", s.Do(b.undo))
}

// duplicatePart adds a copy of a part beside it.
func (b pages) duplicatePart(c *gin.Context) error {
	path, err := b.Designer(c).Duplicate(c, c.PostForm("path"))
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, page.PartHref(path))
	return nil
}

var deleteView = page.Parse(files, "delete.html")

// deletePage says what deleting a part would break.
type deletePage struct {
	page.Frame
	Part     project.Part
	Revision int64
	Breaks   []project.Part // parts that have faults without it
	Along    []project.Part // all that would have to go with it
}

// askDelete shows what deleting a part would break.
func (b pages) askDelete(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := deletePage{Frame: b.Frame(c, "bench", "Delete")}
	if d.Part, err = design.PartAt(p, c.Query("path")); err != nil {
		return err
	}
	draft, err := store.PartDraft(c, b.DB, p.ID, d.Part.Path)
	if err != nil {
		return err
	}
	d.Revision = draft.Revision
	if d.Part.Kind != project.Samples {
		d.Breaks, d.Along = design.Breaks(p, d.Part.Path), design.Along(p, d.Part.Path)
	}
	deleteView.Page(c, d)
	return nil
}

// deletions are what the form of deleting asks.
var deletions = map[string]design.Deletion{"along": design.DeleteAlong, "leave": design.DeleteAndBreak}

// deletePart removes a part: alone, leaving faults where it is used, or with all that would break.
func (b pages) deletePart(c *gin.Context) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	gone, err := b.Designer(c).Delete(c, c.PostForm("path"), from, deletions[c.PostForm("how")])
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/parts?said="+url.QueryEscape(fmt.Sprintf("Deleted %s. It can be restored below.", strings.Join(gone, ", "))))
	return nil
}

// restorePart brings a part back that was deleted.
func (b pages) restorePart(c *gin.Context) error {
	path := c.PostForm("path")
	if err := b.Designer(c).Restore(c, path); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/parts?said="+url.QueryEscape("Restored "+path))
	return nil
}

// exportProject sends the project's text files as a ZIP archive.
func (b pages) exportProject(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	packed, err := project.Pack(p.Texts)
	if err != nil {
		return err
	}
	c.Header("Content-Disposition", `attachment; filename="`+base.FileName(p.ID+".zip")+`"`)
	c.Data(http.StatusOK, "application/zip", packed)
	return nil
}

// importProject makes the drafts what a ZIP archive of text files has.
func (b pages) importProject(c *gin.Context) error {
	texts, err := UnpackedFile(c)
	if err != nil {
		return err
	}
	changes, err := b.Designer(c).Import(c, texts)
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
		return nil, fault.New(fault.Required, "no file was chosen").WithFix("Choose a ZIP archive of a project folder")
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

// undo goes a change back or forward in a part, and then back to the page it was asked from.
func (b pages) undo(c *gin.Context) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	step := b.Designer(c).Undo
	if c.PostForm("way") == "redo" {
		step = b.Designer(c).Redo
	}
	if err := step(c, c.PostForm("path"), from); err != nil {
		return err
	}
	back := c.PostForm("back")
	if !strings.HasPrefix(back, "/bench/") {
		back = "/bench"
	}
	c.Redirect(303, back)
	return nil
}

var partsView = page.Parse(files, "parts.html")

type partsPage struct {
	page.Frame
	Tab     string
	Parts   []partRow
	Path    string
	Text    string
	Faults  int
	Said    string
	Renamed string // the path of what was renamed, to take that back: to its id and title before
	Was     string
	Called  string
	Removed []store.Removed // parts that can be restored
}

type partRow struct {
	project.Part
	Href   string
	UsedBy []project.Part
	Faults int
}

func (b pages) partRows(p *project.Project) []partRow {
	var rows []partRow
	for _, part := range p.Parts("") {
		row := partRow{Part: part, UsedBy: p.UsedBy(part.Path)}
		row.Href = page.PartHref(part.Path)
		for _, f := range p.Faults {
			if f.Place.Source == part.Path {
				row.Faults++
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// maxRemoved bounds the deleted parts that are listed.
const maxRemoved = 50

func (b pages) parts(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	removed, err := store.RemovedParts(c, b.DB, p.ID, maxRemoved)
	if err != nil {
		return err
	}
	partsView.Page(c, partsPage{Frame: b.Frame(c, "bench", "Parts"), Tab: "parts", Parts: b.partRows(p), Faults: len(p.Faults), Said: c.Query("said"), Removed: removed, Renamed: c.Query("renamed"), Was: c.Query("was"), Called: c.Query("called")})
	return nil
}

func (b pages) text(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := partsPage{Frame: b.Frame(c, "bench", "Text files"), Tab: "text", Parts: b.partRows(p), Path: c.Query("path"), Faults: len(p.Faults)}
	if d.Path == "" && len(d.Parts) > 0 {
		d.Path = d.Parts[0].Path
	}
	text, ok := p.Texts[d.Path]
	if !ok {
		return store.ErrNotFound
	}
	d.Text = text
	partsView.Page(c, d)
	return nil
}
