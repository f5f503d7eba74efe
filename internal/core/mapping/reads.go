package mapping

import (
	"slices"

	"hollowreed/internal/core/formula"
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
		if !slices.ContainsFunc(info.Reads, func(p []string) bool { return slices.Equal(p, path) }) {
			info.Reads = append(info.Reads, path)
		}
	}
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
