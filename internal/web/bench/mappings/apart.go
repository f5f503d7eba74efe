package mappings

import (
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// apartPage offers the branches of a list, for those that are wanted.
type apartPage struct {
	ID, Record     string
	Sample         string
	Field          string // the row that stays chosen
	Revision       int64
	Source, Target string // the list: one of them is empty
	List           string // its name
	Items          int    // at hand
	Branches       []mapping.Branch
}

// apart shows by which qualifiers and places the entries of a list can be told apart.
func (b pages) apart(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	draft, err := store.PartDraft(c, b.DB, p.ID, project.Path(project.Mappings, id))
	if err != nil {
		return err
	}
	d := apartPage{ID: id, Record: c.Query("record"), Revision: draft.Revision, Source: c.Query("source"), Target: c.Query("target"), Field: c.Query("field"), Sample: c.Query("sample")}
	list, items, err := b.listOf(c, p, plan, d.Source, d.Target, d.Record)
	if err != nil {
		return err
	}
	d.List, d.Items, d.Branches = list.Name, len(items), mapping.SplitByQualifier(list, items)
	mappingView.Part(c, "apart", d)
	return nil
}

// listOf finds a list of a source, with its items in the message at hand, or a list of the target.
func (b pages) listOf(c *gin.Context, p *project.Project, plan *mapping.Plan, source, target, record string) (*schema.Field, []value.Value, error) {
	for _, f := range plan.Fields {
		if target != "" && f.Name() == target && f.Field.Kind == value.RecordKind && f.Field.List() {
			return f.Field, nil, nil
		}
	}
	path := strings.Split(source, ".")
	at := slices.IndexFunc(plan.Mapping.From, func(s mapping.Source) bool { return s.Name.Value == path[0] })
	if at < 0 {
		return nil, nil, store.ErrNotFound
	}
	f := plan.Sources[at].Root
	for _, name := range path[1:] {
		if f = f.Field(name); f == nil {
			return nil, nil, store.ErrNotFound
		}
	}
	if f.Kind != value.RecordKind || !f.List() {
		return nil, nil, store.ErrNotFound
	}
	d := &mappingPage{ID: c.Param("id"), UsedBy: flowsUsing(p, project.Path(project.Mappings, c.Param("id")))}
	fr := plan.NewFrame()
	d.message(c, b, p, plan, record, fr)
	return f, plan.Sources[at].Root.Within(fr.Slots[1+at], path[1:]...).Items(), nil
}

// tellApart makes the chosen branches: variables of a source's list, entries of the target's.
func (b pages) tellApart(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	source, target := c.PostForm("source"), c.PostForm("target")
	list, items, err := b.listOf(c, p, plan, source, target, c.PostForm("record"))
	if err != nil {
		return err
	}
	chosen := c.PostFormArray("branch")
	err = b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		for _, br := range mapping.SplitByQualifier(list, items) {
			if !slices.Contains(chosen, br.Condition()) {
				continue
			}
			if target != "" {
				text, err = addEntry(text, plan, target, br)
			} else {
				text, err = addBranch(text, plan, source, br)
			}
			if err != nil {
				return nil, err
			}
		}
		return text, nil
	})
	if err != nil {
		return err
	}
	return b.redrawn(c, id)
}

// addBranch adds a variable that stands for one item of a source's list, unless there is one.
func addBranch(text []byte, plan *mapping.Plan, source string, br mapping.Branch) ([]byte, error) {
	if slices.ContainsFunc(plan.Mapping.Variables, func(v mapping.Variable) bool { return v.Name == br.Name }) {
		return text, nil
	}
	return partfile.Insert(text, []any{"variables"}, -1, partfile.Ordered{{Key: "name", Value: br.Name}, {Key: "formula", Value: br.Formula(formula.Path(strings.Split(source, ".")))}})
}

// addEntry adds a feed with one entry to a list of the target, with the qualifier's value in it.
func addEntry(text []byte, plan *mapping.Plan, list string, br mapping.Branch) ([]byte, error) {
	feed := list + "[" + br.Name + "]"
	if slices.ContainsFunc(plan.Mapping.Rules, func(r mapping.Rule) bool { return r.Field.Value == feed }) {
		return text, nil
	}
	text, err := partfile.Insert(text, []any{"rules"}, -1, partfile.Ordered{{Key: "field", Value: feed}})
	if err != nil || br.Field == "" {
		return text, err
	}
	return partfile.Insert(text, []any{"rules"}, -1, partfile.Ordered{{Key: "field", Value: feed + "/" + br.Field}, {Key: "constant", Value: br.Value}})
}
