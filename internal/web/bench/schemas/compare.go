package schemas

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/compare"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

var compareView = page.Parse(files, "compare.html")

// maxChanges is how many differences are listed.
const maxChanges = 250

// comparePage says what differs between the draft of a schema and another state or schema.
type comparePage struct {
	page.Frame
	ID, SchemaTitle string
	With            string
	Others          []form.Option
	Changes         []schemaChange
	All             int // changes
	Hidden          int // changes that are not listed
	Breaking        int
	UsedBy          []project.Part
}

type schemaChange struct {
	compare.Change
	Class   string
	Touches []string // the rules that read or make the field
}

func (b pages) compareSchema(c *gin.Context) error {
	p, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	path := project.Path(project.Schemas, s.ID)
	d := comparePage{Frame: b.Frame(c, "bench", "Compare "+s.Title), ID: s.ID, SchemaTitle: s.Title, With: c.Query("with"), UsedBy: p.UsedBy(path)}
	releases, err := store.NewestReleases(c, b.DB, p.ID)
	if err != nil {
		return err
	}
	for _, r := range releases {
		files, err := store.ReleaseFiles(c, b.DB, p.ID, r.Flow, r.Number)
		if err != nil {
			return err
		}
		if _, holds := files[path]; holds {
			d.Others = append(d.Others, form.Option{ID: fmt.Sprintf("%s:%d", r.Flow, r.Number), Title: fmt.Sprintf("release %d of %s", r.Number, p.Flow(r.Flow).Flow.Title)})
		}
	}
	edits, err := store.PartEdits(c, b.DB, p.ID, path, base.MaxEdits)
	if err != nil {
		return err
	}
	for _, e := range edits[min(1, len(edits)):] { // the newest is the draft itself
		d.Others = append(d.Others, form.Option{ID: fmt.Sprintf("edit:%d", e.ID), Title: "as of " + e.MadeAt.UTC().Format("2 Jan 15:04:05") + ", " + e.MadeBy})
	}
	for _, part := range p.Parts(project.Schemas) {
		if part.ID != s.ID {
			d.Others = append(d.Others, form.Option{ID: part.ID, Title: part.Title})
		}
	}
	if d.With == "" && len(d.Others) > 0 {
		d.With = d.Others[0].ID
	}
	other, err := b.otherSchema(c, p, path, d.With)
	if err != nil {
		return err
	}
	d.compare(p, other, s)
	if d.All = len(d.Changes); d.All > maxChanges {
		slices.SortStableFunc(d.Changes, func(a, b schemaChange) int { return cmp.Compare(harm(b), harm(a)) })
		d.Hidden, d.Changes = d.All-maxChanges, d.Changes[:maxChanges]
	}
	compareView.Page(c, d)
	return nil
}

// otherSchema is another schema of the project, or the same as it was released.
func (b pages) otherSchema(c *gin.Context, p *project.Project, path, with string) (*schema.Schema, error) {
	flowID, number, released := strings.Cut(with, ":")
	if !released {
		if s := p.Schema(with); s != nil {
			return s, nil
		}
		return nil, store.ErrNotFound
	}
	n, err := strconv.Atoi(number)
	if err != nil {
		return nil, store.ErrNotFound
	}
	files, err := b.FilesBefore(c, p, path, flowID, n)
	if err != nil {
		return nil, err
	}
	_, id, _ := project.Kind(path)
	if s := project.Load(p.ID, files).Schema(id); s != nil {
		return s, nil
	}
	return nil, store.ErrNotFound
}

var changeClasses = map[compare.Kind]string{compare.Added: "ok", compare.Removed: "bad", compare.Narrowed: "draft", compare.Widened: "live"}

func (d *comparePage) compare(p *project.Project, old, now *schema.Schema) {
	plans, renamed := mappingsOver(p, now.ID, old), map[string]string{}
	for _, ch := range compare.Schemas(old, now) {
		row := schemaChange{Change: ch, Class: changeClasses[ch.Kind]}
		if ch.Kind == compare.Renamed {
			renamed[ch.Path] = ch.Was
		}
		row.Touches = touches(plans, now.ID, olderPath(ch.Path, renamed))
		if ch.Readers || ch.Writers {
			d.Breaking++
		}
		d.Changes = append(d.Changes, row)
	}
}

// harm is how many sides a change breaks.
func harm(ch schemaChange) (n int) {
	for _, broken := range []bool{ch.Readers, ch.Writers} {
		if broken {
			n++
		}
	}
	return n
}

// olderPath is the path that a field had before it, or a record around it, was renamed.
func olderPath(path string, renamed map[string]string) []string {
	names := strings.Split(path, "/")
	out := append([]string{}, names...)
	for i := range names {
		if was, ok := renamed[strings.Join(names[:i+1], "/")]; ok {
			out[i] = was
		}
	}
	return out
}

// mappingsOver compiles the project's mappings as they were with the older schema: rules for fields
// that are gone can only be understood so.
func mappingsOver(p *project.Project, id string, old *schema.Schema) []*mapping.Plan {
	var plans []*mapping.Plan
	for _, part := range p.Parts(project.Mappings) {
		plans = append(plans, p.Mapping(part.ID).Mapping.Compile(func(want string) *schema.Schema {
			if want == id {
				return old
			}
			return p.Schema(want)
		}, p.Formulas()))
	}
	return plans
}

// touches lists the rules that make a field of the schema, or read it.
func touches(plans []*mapping.Plan, schemaID string, path []string) []string {
	var out []string
	for _, plan := range plans {
		for _, f := range plan.Fields {
			if plan.Mapping.To.Value == schemaID && under(f.Path, path) && f.Rule != nil || reads(plan, f, schemaID, path) {
				out = append(out, plan.Mapping.Title+": "+f.Name())
			}
		}
	}
	return out
}

// reads says whether a rule reads a field of the schema.
func reads(plan *mapping.Plan, f *mapping.Field, schemaID string, path []string) bool {
	if f.Program == nil {
		return false
	}
	for _, read := range f.Program.Reads {
		for _, src := range plan.Mapping.From {
			if src.Schema.Value == schemaID && len(read) > 1 && read[0] == src.Name.Value && under(read[1:], path) {
				return true
			}
		}
	}
	return false
}

// under says whether a path is another one or stands below it.
func under(path, top []string) bool {
	return len(path) >= len(top) && strings.Join(path[:len(top)], "/") == strings.Join(top, "/")
}
