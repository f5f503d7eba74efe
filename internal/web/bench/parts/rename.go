package parts

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var renameView = page.Parse(files, "rename.html")

// renamePage says what follows when a part is renamed.
type renamePage struct {
	page.Frame
	Part     project.Part
	ID       string
	Titled   bool   // it has a title of its own
	Stays    string // why it keeps its id; empty where it may get another
	Revision int64
	UsedBy   []project.Part
}

// askRename shows who names a part before it is renamed.
func (b pages) askRename(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := renamePage{Frame: b.Frame(c, "bench", "Rename")}
	if d.Part, err = design.PartAt(p, c.Query("path")); err != nil {
		return err
	}
	_, d.ID, _ = project.Kind(d.Part.Path)
	d.Titled, d.Stays = project.TitleKey(d.Part.Kind) != "", b.Designer(c).KeepsID(c, p, d.Part)
	draft, err := store.PartDraft(c, b.DB, p.ID, d.Part.Path)
	if err != nil {
		return err
	}
	d.Revision, d.UsedBy = draft.Revision, p.UsedBy(d.Part.Path)
	renameView.Page(c, d)
	return nil
}

// renamePart gives a part another title and another id, and all that name it the new one, in one go.
func (b pages) renamePart(c *gin.Context) error {
	from, err := page.Revision(c)
	if c.PostForm("revision") == "" {
		from, err = design.AnyRevision, nil
	}
	if err != nil {
		return err
	}
	r, err := b.Designer(c).Rename(c, c.PostForm("path"), from, strings.TrimSpace(c.PostForm("title")), strings.TrimSpace(c.PostForm("id")))
	if err != nil {
		return err
	}
	said := fmt.Sprintf("Renamed %s.", r.Was.Path)
	if r.Follow > 0 {
		said = fmt.Sprintf("Renamed %s; %d parts that name it follow.", r.Was.Path, r.Follow)
	}
	q := url.Values{"said": {said}, "renamed": {r.To}, "was": {r.Was.ID}, "called": {r.Was.Title}}
	c.Redirect(http.StatusSeeOther, "/bench/parts?"+q.Encode())
	return nil
}
