package form

import (
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// Parts are the parts that a setting can name, those that fit; fits may be nil. What is chosen is among them.
func Parts(p *project.Project, s setting.Setting, chosen string, fits func(id string) bool) []Option {
	list := []Option{{Title: "none"}}
	switch {
	case s.Required:
		list[0].Title = "choose…"
	case s.None != "":
		list[0].Title = s.None
	}
	there := chosen == ""
	for _, part := range p.Parts(project.FolderOf(s.Of)) {
		if fits == nil || part.ID == chosen || fits(part.ID) {
			list = append(list, Option{part.ID, part.Title})
			there = there || part.ID == chosen
		}
	}
	if !there {
		list = append(list, Option{chosen, chosen + " is not there"})
	}
	return list
}

// Operations are those of a connection to choose from.
func Operations(c *connection.Connection) []Option {
	list := []Option{{Title: "choose…"}}
	if c == nil {
		return list
	}
	for _, op := range c.Operations {
		label := op.Name
		if op.Response != nil {
			label += " → " + op.Response.ID
		}
		list = append(list, Option{ID: op.ID, Title: label})
	}
	return list
}

// RowsOf has a row for every field of a request, with what is written for it; and for what is written and is
// no field of it.
func RowsOf(request *schema.Schema, match []setting.Pair, result func(string) string) (rows []Row) {
	if request == nil {
		return nil
	}
	written := map[string]string{}
	for _, m := range match {
		written[m.Name.Value] = m.Formula.Value
	}
	add := func(name, about string, must bool) {
		row := Row{Name: name, Formula: written[name], About: about, Must: must}
		if result != nil {
			row.Result = result(row.Formula)
		}
		rows = append(rows, row)
		delete(written, name)
	}
	for _, f := range request.Root.Fields {
		about := f.Kind.String()
		if f.List() {
			about = "list of " + about
		}
		add(f.Name, about, f.Required())
	}
	for _, m := range match {
		if _, left := written[m.Name.Value]; left {
			add(m.Name.Value, "unknown", false)
		}
	}
	return rows
}
