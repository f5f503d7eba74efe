package mapping

import (
	"slices"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/value"
)

// base says what a path below a name reads of the sources.
type base func(rest []string) [][]string

// union adds to a list what it does not have.
func union(list, more []string) []string {
	for _, s := range more {
		if !slices.Contains(list, s) {
			list = append(list, s)
		}
	}
	return list
}

// reads keeps what a formula reads, as paths from the sources, each once.
func (c *compiler) reads(info *Field, prog *formula.Program) {
	for _, path := range prog.Reads {
		if v := c.vars[path[0]]; v != nil && !slices.Contains(info.Through, v) {
			info.Through = append(info.Through, v)
		}
	}
	for _, path := range c.resolved(prog) {
		path = c.named(path)
		if !slices.ContainsFunc(info.Reads, func(p []string) bool { return slices.Equal(p, path) }) {
			info.Reads = append(info.Reads, path)
		}
	}
}

// named is a path by the names of the source's fields: what an entry of a map has as its value is the map's field, and its key is the
// map itself.
func (c *compiler) named(path []string) []string {
	at := slices.IndexFunc(c.plan.Mapping.From, func(s Source) bool { return s.Name.Value == path[0] })
	if at < 0 || at >= len(c.plan.Sources) {
		return path
	}
	f, out := c.plan.Sources[at].Root, path[:1:1]
	for i, name := range path[1:] {
		next := f.Field(name)
		if f.Kind == value.MapKind && next == nil && name == "value" {
			next = f.Each()
		}
		switch {
		case f.Kind == value.MapKind && next == nil && name == "key":
			return out
		case next == nil:
			return append(out, path[1+i:]...)
		}
		out, f = append(out, next.Name), next
	}
	return out
}

// resolved is what a formula reads, as paths from the sources.
func (c *compiler) resolved(prog *formula.Program) [][]string {
	var out [][]string
	for _, path := range prog.Reads {
		if below, ok := c.bases[path[0]]; ok {
			out = append(out, below(path[1:])...)
		} else {
			out = append(out, path)
		}
	}
	return out
}

// below is the base of a name for what a formula gives: its first path goes on with what is read below
// the name, where it is a record or a list.
func below(paths [][]string, t formula.Type) base {
	deep := t.Fields != nil || t.Item != nil
	return func(rest []string) [][]string {
		if len(paths) == 0 || len(rest) == 0 || !deep {
			return paths
		}
		first := paths[0]
		return append([][]string{append(first[:len(first):len(first)], rest...)}, paths[1:]...)
	}
}
