package bench

import (
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
	"hollowreed/internal/web/page"
)

// duplicatePart adds a copy of a part beside it.
func (b bench) duplicatePart(c *gin.Context) error {
	path, err := b.Designer(c).Duplicate(c, c.PostForm("path"))
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

// askDelete shows what deleting a part would break.
func (b bench) askDelete(c *gin.Context) error {
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
func (b bench) deletePart(c *gin.Context) error {
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
func (b bench) restorePart(c *gin.Context) error {
	path := c.PostForm("path")
	if err := b.Designer(c).Restore(c, path); err != nil {
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
