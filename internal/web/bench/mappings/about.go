package mappings

import (
	"fmt"
	"net/url"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var aboutView = page.Parse(files, "about.html")

// aboutPage tells a mapping: where its fields come from and go to, or all of it as a specification.
type aboutPage struct {
	page.Frame
	ID, MapTitle  string
	Tab           string // lineage or specification
	Field, Source string
	Fields        []string // of the target that have a rule
	SourceFields  []string
	Rows          []lineageRow
	Lines         []mapping.Line
	Sample        string
	Record        int
	Sources       []string
	Target        string
	Done, All     int
}

// lineageRow is one field of a lineage, with how far it is from the one asked for.
type lineageRow struct {
	*project.Lineage
	Depth   int
	Entered bool // the first of another mapping
}

// Href is where the field of a row is looked at.
func (r lineageRow) Href() string {
	q := url.Values{}
	if r.Field != "" {
		q.Set("field", r.Field)
	} else {
		q.Set("source", r.Source)
	}
	return "/bench/mappings/" + url.PathEscape(r.Mapping) + "/lineage?" + q.Encode()
}

// lineage shows from what a target field comes, or whereto a source's field goes.
func (b pages) lineage(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	d := &aboutPage{Frame: b.Frame(c, "bench", "Lineage"), ID: id, MapTitle: plan.Mapping.Title, Tab: "lineage", Field: c.Query("field"), Source: c.Query("source")}
	for _, f := range plan.Fields {
		if f.Rule != nil {
			d.Fields = append(d.Fields, f.Name())
		}
	}
	page := &mappingPage{ID: id, plan: plan}
	page.sources(plan, plan.NewFrame())
	for _, row := range page.Sources {
		if page.counted(row.Path) && row.Indent > 0 {
			d.SourceFields = append(d.SourceFields, row.Path)
		}
	}
	if d.Field == "" && d.Source == "" && len(d.Fields) > 0 {
		d.Field = d.Fields[0]
	}
	var l *project.Lineage
	if d.Source != "" {
		l = p.Downstream(id, d.Source)
	} else {
		l = p.Upstream(id, d.Field)
	}
	if l == nil {
		return store.ErrNotFound
	}
	d.row(l, 0, id)
	aboutView.Page(c, d)
	return nil
}

func (d *aboutPage) row(l *project.Lineage, depth int, within string) {
	d.Rows = append(d.Rows, lineageRow{Lineage: l, Depth: depth, Entered: l.Mapping != within})
	for _, n := range l.Next {
		d.row(n, depth+1, l.Mapping)
	}
}

// specification shows the mapping as a document, or gives it as CSV or as a page that stands by itself.
func (b pages) specification(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	at := &mappingPage{ID: id, plan: plan, UsedBy: flowsUsing(p, project.Path(project.Mappings, id))}
	fr := plan.NewFrame()
	at.message(c, b, p, plan, c.Query("record"), fr)
	o, _ := outcomesOf(plan, fr)
	d := &aboutPage{
		Frame: b.Frame(c, "bench", "Specification"), ID: id, MapTitle: plan.Mapping.Title, Tab: "specification",
		Lines: plan.Specification(o.results), Sample: at.Sample, Record: at.Record, Target: plan.Target.Title,
	}
	for _, s := range plan.Sources {
		d.Sources = append(d.Sources, s.Title)
	}
	d.Done, d.All = plan.Complete()
	attach := func(kind, ending string) {
		c.Header("Content-Type", kind+"; charset=utf-8")
		c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", id+ending))
	}
	switch c.Query("as") {
	case "csv":
		attach("text/csv", ".csv")
		return mapping.WriteSpecification(c.Writer, d.Lines)
	case "html":
		attach("text/html", ".html")
		aboutView.Part(c, "document", d)
	default:
		aboutView.Page(c, d)
	}
	return nil
}
