package mapping

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/value"
)

// variables compiles variables into a scope, each after those that it reads.
func (c *compiler) variables(vars []Variable, scope *formula.Scope) []variable {
	var out []variable
	for _, i := range c.sequence(vars) {
		v := &vars[i]
		info := &Field{Path: []string{v.Name}, Index: i, Variable: v}
		prog := c.program(info, v.Formula, scope, value.Absent)
		info.Program = prog
		t := formula.Type{}
		if prog != nil {
			t = prog.Type
		}
		c.bases[v.Name], c.vars[v.Name] = below(info.Reads, t), info
		out = append(out, variable{info: info, program: prog, slot: scope.Define(v.Name, t)})
	}
	return out
}

// sequence puts variables behind those that they read. Those in a circle, and names that are taken, are
// reported and left out.
func (c *compiler) sequence(vars []Variable) []int {
	at := map[string]int{}
	for i, v := range vars {
		_, twice := at[v.Name]
		source := slices.ContainsFunc(c.plan.Mapping.From, func(s Source) bool { return s.Name.Value == v.Name })
		if twice || source || v.Name == "run" {
			c.plan.note(v.Formula, fault.New(fault.Setting, "the name %q is taken", v.Name))
			continue
		}
		at[v.Name] = i
	}
	s := sorter{vars: vars, at: at, state: make([]int, len(vars)), circle: c.circle}
	for i, v := range vars {
		if at[v.Name] == i {
			s.visit(i, nil)
		}
	}
	return s.out
}

func (c *compiler) circle(v *Variable, names []string) {
	c.plan.note(v.Formula, fault.New(fault.Setting, "the variables read each other in a circle: %s", strings.Join(names, " → ")).InField(v.Name))
}

// sorter puts variables in the order in which they can be computed.
type sorter struct {
	vars   []Variable
	at     map[string]int
	state  []int // 0 not seen, 1 under way, 2 done
	out    []int
	circle func(v *Variable, names []string)
}

func (s *sorter) visit(i int, way []string) {
	v := &s.vars[i]
	way = append(way, v.Name)
	switch s.state[i] {
	case 2:
		return
	case 1:
		s.circle(v, way[slices.Index(way, v.Name):])
		return
	}
	s.state[i] = 1
	for _, name := range formula.Names(v.Formula.Value) {
		if j, ok := s.at[name]; ok {
			s.visit(j, way)
		}
	}
	s.state[i] = 2
	s.out = append(s.out, i)
}
