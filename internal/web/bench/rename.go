package bench

import (
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var renameView = page.Parse(files, "partrename.html")

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

func partAt(p *project.Project, path string) (project.Part, error) {
	i := slices.IndexFunc(p.Parts(""), func(part project.Part) bool { return part.Path == path })
	if i < 0 {
		return project.Part{}, store.ErrNotFound
	}
	return p.Parts("")[i], nil
}

// askRename shows who names a part before it is renamed.
func (b bench) askRename(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := renamePage{Frame: b.Frame(c, "bench", "Rename")}
	if d.Part, err = partAt(p, c.Query("path")); err != nil {
		return err
	}
	_, d.ID, _ = project.Kind(d.Part.Path)
	d.Titled, d.Stays = project.TitleKeys[d.Part.Kind] != "", b.staysWhy(c, p, d.Part)
	draft, err := store.PartDraft(c, b.DB, p.ID, d.Part.Path)
	if err != nil {
		return err
	}
	d.Revision, d.UsedBy = draft.Revision, p.UsedBy(d.Part.Path)
	renameView.Page(c, d)
	return nil
}

// staysWhy is why a part keeps its id: beside what the project knows, a table whose rows flows have changed.
func (b bench) staysWhy(c *gin.Context, p *project.Project, part project.Part) string {
	if part.Kind == project.Tables {
		if changed, err := store.KeptIn(c, b.DB, p.ID, flow.TableSpace(part.ID), 1); err == nil && len(changed) > 0 {
			return "flows have changed rows of it, which are kept under its id"
		}
	}
	return p.Stays(part.Path)
}

// renamePart gives a part another title and another id, and all that name it the new one, in one go.
func (b bench) renamePart(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	part, err := partAt(p, c.PostForm("path"))
	if err != nil {
		return err
	}
	title, id := strings.TrimSpace(c.PostForm("title")), strings.TrimSpace(c.PostForm("id"))
	if why := b.staysWhy(c, p, part); why != "" {
		id = part.ID
	}
	if title == "" && project.TitleKeys[part.Kind] != "" {
		return fault.Expect(fault.Required, "a title", "none").In("Title")
	}
	if id == "" {
		return fault.Expect(fault.Required, "an id", "none").In("Id")
	}
	texts, to, err := p.Rename(part.Path, title, id)
	if err != nil {
		return err
	}
	err = pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error { return b.saveRenamed(c, tx, p, part.Path, to, texts) })
	if err != nil {
		return err
	}
	said := fmt.Sprintf("Renamed %s.", part.Path)
	if n := len(texts) - 1; n > 0 {
		said = fmt.Sprintf("Renamed %s; %d parts that name it follow.", part.Path, n)
	}
	q := url.Values{"said": {said}, "renamed": {to}, "was": {part.ID}, "called": {part.Title}}
	c.Redirect(http.StatusSeeOther, "/bench/parts?"+q.Encode())
	return nil
}

func (b bench) saveRenamed(c *gin.Context, tx pgx.Tx, p *project.Project, path, to string, texts map[string]string) error {
	draft, err := store.LockDraft(c, tx, p.ID, path)
	if err != nil {
		return err
	}
	if r := c.PostForm("revision"); r != "" && fmt.Sprint(draft.Revision) != r {
		return store.ErrChanged
	}
	if to != path {
		if err := store.MovePart(c, tx, p.ID, path, to, draft.Revision); err != nil {
			return err
		}
	}
	for _, at := range slices.Sorted(maps.Keys(texts)) {
		draft, err := store.LockDraft(c, tx, p.ID, at)
		if err != nil {
			return err
		}
		if old := p.Texts[at]; at != to && draft.Text != old {
			return store.ErrChanged
		}
		if draft.Text == texts[at] {
			continue
		}
		if err := store.SavePart(c, tx, p.ID, at, texts[at], draft.Revision, b.Person.ID); err != nil {
			return err
		}
	}
	return nil
}
