package web

import (
	"cmp"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/match"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// Bounds of a search.
const (
	maxHits  = 12     // that are shown
	maxFound = 2_000  // that are ranked
	maxCells = 50_000 // of tables that are looked into
)

// hit is something that was found.
type hit struct {
	Title, Kind, Detail, Href string
	rank, order               int
}

// finder collects what goes with what was typed.
type finder struct {
	p     *project.Project
	typed string
	hits  []hit
	cells int
}

// find looks for parts, fields, functions, formulas, values and references of runs; what goes best with what was typed stands
// first.
func find(c *gin.Context, s *page.Site) error {
	typed := strings.TrimSpace(c.Query("q"))
	if typed == "" {
		foundView.Part(c, "found", nil)
		return nil
	}
	p, err := s.Load(c)
	if err != nil {
		return err
	}
	f := &finder{p: p, typed: typed}
	f.parts()
	f.functions()
	runs, err := store.Runs(c, s.DB, store.RunFilter{Scope: s.Scope, Reference: strings.ToLower(typed), Most: 6})
	if err != nil {
		return err
	}
	for _, r := range runs {
		f.named(hit{Title: r.Reference, Kind: "run, " + string(r.State), Href: "/traffic/runs/" + r.ID.String()}, r.Reference, "")
	}
	foundView.Part(c, "found", map[string]any{"Hits": f.best(), "Query": typed})
	return nil
}

// best are the hits that are shown: the best first, and of those as good in the order in which they were looked for.
func (f *finder) best() []hit {
	slices.SortStableFunc(f.hits, func(a, b hit) int { return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(a.order, b.order)) })
	return f.hits[:min(len(f.hits), maxHits)]
}

// The order of what goes as well with what was typed.
const (
	ofPart = iota
	ofName
	ofText
)

// named takes a hit whose name or description goes with what was typed.
func (f *finder) named(h hit, name, about string) {
	rank, ok := match.Rank(f.typed, name, about)
	if !ok || len(f.hits) >= maxFound {
		return
	}
	h.rank = rank
	f.hits = append(f.hits, h)
}

// text takes a hit whose text holds what was typed.
func (f *finder) text(h hit, text string) {
	if text == "" || len(f.hits) >= maxFound || !strings.Contains(strings.ToLower(text), strings.ToLower(f.typed)) {
		return
	}
	h.rank, h.order, h.Detail = match.Holds, ofText, text
	if strings.EqualFold(text, f.typed) {
		h.rank = match.Begins
	}
	f.hits = append(f.hits, h)
}

// inside are how things are found in parts, by the kind of part.
var inside = map[string]func(f *finder, part project.Part, href string){
	project.Schemas: (*finder).schema, project.Mappings: (*finder).rules, project.Flows: (*finder).steps,
	project.Connections: (*finder).operations, project.Tables: (*finder).rows,
}

func (f *finder) schema(part project.Part, href string) {
	if sch := f.p.Schema(part.ID); sch != nil {
		f.fields(sch.Root, nil, part.Title, href)
	}
}

func (f *finder) parts() {
	for _, part := range f.p.Parts("") {
		h := hit{Title: part.Title, Kind: part.KindName(), Href: page.PartHref(part.Path)}
		was := len(f.hits)
		if f.named(h, part.Title, ""); len(f.hits) == was {
			f.named(h, part.ID, "")
		}
		if within := inside[part.Kind]; within != nil {
			within(f, part, h.Href)
		}
	}
}

// fields finds fields by name, however deep they stand, and the codes that they may have.
func (f *finder) fields(root *schema.Field, path edit.Path, title, href string) {
	for i, c := range root.Fields {
		at := append(path[:len(path):len(path)], i)
		to := href + "?field=" + at.String()
		f.named(hit{Title: title + " · " + c.Name, Kind: "field", Href: to, order: ofName}, c.Name, "")
		for _, code := range c.Constraints.Codes {
			f.text(hit{Title: title + " · " + c.Name, Kind: "value", Href: to}, code.Value)
			f.text(hit{Title: title + " · " + c.Name, Kind: "value", Href: to}, code.Meaning)
		}
		f.fields(c, at, title, href)
	}
}

func (f *finder) rules(part project.Part, href string) {
	plan := f.p.Mapping(part.ID)
	if plan == nil {
		return
	}
	for _, field := range plan.Fields {
		if field.Rule == nil {
			continue
		}
		h := hit{Title: part.Title + " · " + field.Name(), Kind: "rule", Href: href + "?field=" + url.QueryEscape(field.Name())}
		for _, text := range []string{field.Rule.Text.Value, field.Rule.When.Value, field.Rule.Default.Value} {
			f.text(h, text)
		}
	}
}

// steps finds steps by name, and by what their settings and formulas hold.
func (f *finder) steps(part project.Part, href string) {
	plan := f.p.Flow(part.ID)
	if plan == nil {
		return
	}
	plan.Flow.Walk(func(s *flow.Step) {
		h := hit{Title: part.Title + " · " + s.Name, Kind: "step", Href: href + "?step=" + url.QueryEscape(s.ID), order: ofName}
		f.named(h, s.Name, "")
		k := flow.KindOf(s.Kind)
		if k == nil {
			return
		}
		for _, set := range k.Settings {
			if set.Type == setting.Formula || set.Type == setting.Template || set.Type == setting.Text && set.Name != "as" {
				f.text(h, s.Setting(set.Name))
			}
		}
		for _, m := range s.Match {
			f.text(h, m.Formula.Value)
		}
	})
}

func (f *finder) operations(part project.Part, href string) {
	if conn := f.p.Connection(part.ID); conn != nil {
		for _, op := range conn.Operations {
			f.named(hit{Title: part.Title + " · " + op.Name, Kind: "operation", Href: href + "/operations/" + url.PathEscape(op.ID), order: ofName}, op.Name, op.ID)
		}
	}
}

// rows finds values in tables.
func (f *finder) rows(part project.Part, href string) {
	t := f.p.Table(part.ID)
	if t == nil {
		return
	}
	for _, row := range t.Rows {
		for i, name := range t.Columns() {
			if f.cells++; f.cells > maxCells {
				return
			}
			if v := row.Record().Fields[i]; !v.IsMissing() {
				f.text(hit{Title: part.Title + " · " + name, Kind: "value", Href: href}, v.String())
			}
		}
	}
}

// functions finds those of the project's libraries, then those of formulas.
func (f *finder) functions() {
	for _, part := range f.p.Parts(project.Libraries) {
		lib := f.p.Library(part.ID)
		if lib == nil {
			continue
		}
		for _, fn := range lib.Functions {
			f.named(hit{Title: part.Title + " · " + fn.Name, Kind: "function", Href: page.PartHref(part.Path) + "?function=" + url.QueryEscape(fn.Name), order: ofName}, fn.Name, "")
			f.text(hit{Title: part.Title + " · " + fn.Name, Kind: "function", Href: page.PartHref(part.Path) + "?function=" + url.QueryEscape(fn.Name)}, fn.Text.Value)
		}
	}
	for _, fn := range formula.Catalogue {
		f.named(hit{Title: fn.Name, Kind: "function", Detail: fn.About, Href: "/bench/formulas?find=" + url.QueryEscape(fn.Name), order: ofName}, fn.Name, "")
	}
}
