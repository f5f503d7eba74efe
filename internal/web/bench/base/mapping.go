package base

import (
	"fmt"
	"strconv"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
)

// MappingSource is a source of a new mapping: its name in formulas, the id of its schema, and whether it is a list.
type MappingSource struct {
	Name, Schema string
	List         bool
}

// NewMapping is the id and the text of a new mapping. Without a title it is called by its first source and its target.
func NewMapping(p *project.Project, title string, sources []MappingSource, target string, script bool) (id string, text []byte, ft *fault.Fault) {
	to := p.Schema(target)
	if to == nil || len(sources) == 0 {
		return "", nil, fault.New(fault.Required, "a mapping has at least one source and a target")
	}
	var from []partfile.Ordered
	for _, src := range sources {
		s := p.Schema(src.Schema)
		if s == nil {
			return "", nil, fault.Expect(fault.Unknown, "a schema of the project", fault.Quote(src.Schema))
		}
		if title == "" {
			title = fmt.Sprintf("%s → %s", s.Title, to.Title)
		}
		one := partfile.Ordered{{Key: "name", Value: src.Name}, {Key: "schema", Value: src.Schema}}
		if src.List {
			one.Add("list", "true")
		}
		from = append(from, one)
	}
	if id = design.ID(title); id == "" {
		return "", nil, fault.New(fault.Required, "the mapping needs a title")
	}
	var o partfile.Ordered
	o.Add("mapping", title)
	o.Add("from", from)
	o.Add("to", target)
	if script {
		o.Add("script", "return {};\n")
	}
	return id, partfile.Encode(o), nil
}

// SourceName makes a name of a schema's id that can stand in a formula.
func SourceName(id string) string {
	name := []rune(id)
	for i, r := range name {
		if r == '-' || r == '.' {
			name[i] = '_'
		}
	}
	return string(name)
}

// FreeTitle is a title for a mapping that no other has.
func FreeTitle(p *project.Project, title string) string {
	free := title
	for i := 2; p.Texts[project.Path(project.Mappings, design.ID(free))] != ""; i++ {
		free = title + " " + strconv.Itoa(i)
	}
	return free
}
