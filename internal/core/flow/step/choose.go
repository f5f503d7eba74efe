package step

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var chooseKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "choose", Title: "Choose", Group: flow.GroupControl, About: "Leads each record to the first branch whose condition is true. What all branches yield under one name is seen behind them.",
		Drawn: flow.AsFork,
		Wraps: &flow.Wrapping{Settings: partfile.Ordered{{Key: "when", Value: []partfile.Ordered{{{Key: "if", Value: "true"}}}}}, Inside: []any{"when", 0, "steps"}},
		Begin: func(flow.Offering) partfile.Ordered {
			return partfile.Ordered{{Key: "when", Value: []partfile.Ordered{{{Key: "if", Value: partfile.Text{}}}}}}
		},
		Branches: []flow.BranchKind{
			{Key: "when", Title: "When", About: "at least one branch with a condition", Many: true, If: true, Conditional: true},
			{Key: "otherwise", Title: "Otherwise", Conditional: true},
		},
		Settings: setting.List{
			{Name: "no match", Older: []string{"none"}, Label: "When no condition is true", Type: setting.Choice, Was: older, Default: "otherwise", Choices: []string{"otherwise", "set aside", "skip"}, Help: "Continue with the steps under Otherwise, of which there may be none"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			if len(s.Branches) == 2 {
				return s.Branches[0].If.Value
			}
			return plural(len(s.Branches)-1, "condition")
		},
	},
	Compile: compileChoose,
	Ending:  chooses,
}

// branch is one way on from a step; moves bring what it yields to the slots that are seen behind it.
type branch struct {
	when  *formula.Program // nil: always
	steps []*running.PlannedStep
	named []running.Named
	ends  bool
	moves [][2]int
}

func compileChoose(c *compile.Compiler, s *flow.Step) running.Runner {
	var branches []*branch
	seen := map[string]bool{}
	always := ""
	for _, t := range s.Branches {
		if t.Kind.Key == "compensate" {
			continue
		}
		br := &branch{}
		if t.Kind.If {
			br.when = c.Want(t.If, value.Boolean, "true or false")
			source := strings.TrimSpace(t.If.Value)
			switch {
			case always != "":
				c.Fault(t.If, fault.New(fault.Setting, "this branch is never taken: %s before it is always true", always))
			case seen[source]:
				c.Fault(t.If, fault.New(fault.Setting, "this branch is never taken: one before it has the same condition"))
			case source == "true":
				always = source
			}
			seen[source] = true
		} else if always != "" && len(t.Steps) > 0 {
			c.Fault(t.At, fault.New(fault.Setting, "otherwise is never taken: %s before it is always true", always))
		}
		compileBranch(c, t, br)
		branches = append(branches, br)
	}
	uncovered(c, s, branches)
	join(c, s, branches)
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		return choose(ctx, b, s, branches, items)
	}
}

// compileBranch compiles the steps of one branch.
func compileBranch(c *compile.Compiler, t *flow.Branch, br *branch) {
	known := len(c.Named)
	c.Within(func() {
		br.steps = c.Branch(t)
		br.named = append(br.named, c.Named[known:]...)
	})
	for _, ps := range br.steps {
		br.ends = br.ends || ps.Kind.Ends && !ps.Step.Disabled
	}
}

// join makes the names that all branches yield alike, those that end the way left aside, seen behind them.
func join(c *compile.Compiler, s *flow.Step, branches []*branch) {
	var open []*branch
	for _, br := range branches {
		if !br.ends {
			open = append(open, br)
		}
	}
	if len(open) == 0 {
		return
	}
	for _, n := range open[0].named {
		slots := []int{n.Slot}
		for _, br := range open[1:] {
			for _, m := range br.named {
				if m.Name == n.Name && m.List == n.List && m.Schema != nil && n.Schema != nil && m.Schema.Root == n.Schema.Root {
					slots = append(slots, m.Slot)
				}
			}
		}
		if n.Schema == nil || len(slots) < len(open) {
			continue
		}
		n.Slot = c.Scope.Define(n.Name, n.Type)
		c.Named = append(c.Named, n)
		c.Cur.Common = append(c.Cur.Common, n)
		for i, br := range open {
			br.moves = append(br.moves, [2]int{slots[i], n.Slot})
		}
	}
}

func choose(ctx context.Context, b *running.Batch, s *flow.Step, branches []*branch, items []*running.Item) error {
	groups := make([][]*running.Item, len(branches))
	for _, it := range items {
		if i := chosen(s, branches, it); i >= 0 {
			groups[i] = append(groups[i], it)
			it.Branches = append(it.Branches, running.BranchTaken{Step: s.ID, Track: i})
		}
	}
	for i, br := range branches {
		if len(groups[i]) == 0 {
			continue
		}
		live, err := b.Advance(ctx, br.steps, groups[i])
		if err != nil {
			return err
		}
		for _, it := range live {
			for _, m := range br.moves {
				it.Frame.Slots[m[1]] = it.Frame.Slots[m[0]]
			}
		}
	}
	return nil
}

// chosen is the branch that an item takes; -1 where it takes none.
func chosen(s *flow.Step, branches []*branch, it *running.Item) int {
	for i, br := range branches {
		if br.when == nil {
			break
		}
		it.Frame.Reset()
		v, f := br.when.Eval(&it.Frame)
		switch {
		case f != nil:
			it.Aside(s.ID, f.InField(s.Name))
			return -1
		case v.IsTrue():
			return i
		}
	}
	switch s.Setting("no match") {
	case "set aside":
		it.Aside(s.ID, fault.New(fault.NotFound, "no condition is true").InField(s.Name).WithFix("Add a branch for it, or let it continue"))
		return -1
	case "skip":
		it.Skip(s.ID, "no condition is true")
		return -1
	}
	return len(branches) - 1
}

func chooses(c *compile.Compiler, s *flow.Step) compile.Ending {
	none := s.Setting("no match")
	if none == "otherwise" {
		return c.Alternatives(s, compile.Branches(s, "when", "otherwise"), compile.Under)
	}
	e := c.Alternatives(s, compile.Branches(s, "when"), compile.Under)
	if none == "skip" {
		e.Without = append(e.Without, compile.Without{Step: s, When: "to what is skipped since no condition is true", Ended: true})
	}
	return e
}

// maxCodes bounds the values of a field that are tried against the conditions of a choose.
const maxCodes = 500

// uncovered points out the values of a code list for which a choose has no branch, where all its conditions are about
// that one field and nothing is said about the rest: each value is tried against each condition.
func uncovered(c *compile.Compiler, s *flow.Step, branches []*branch) {
	if s.Setting("no match") != "otherwise" || len(s.Branch("otherwise").Steps) > 0 {
		return
	}
	var path []string
	var conditions []*formula.Program
	for _, br := range branches {
		if br.when == nil {
			continue
		}
		for _, read := range br.when.Reads {
			if path != nil && !slices.Equal(path, read) {
				return
			}
			path = read
		}
		conditions = append(conditions, br.when)
	}
	codes, made := coded(c, path)
	var open []string
	for _, code := range codes {
		frame, ok := made(code)
		if !ok {
			return
		}
		if !slices.ContainsFunc(conditions, func(p *formula.Program) bool { v, f := p.Eval(frame); return f != nil || v.IsTrue() }) {
			open = append(open, code.Value)
		}
	}
	if len(open) == 0 || len(conditions) == 0 {
		return
	}
	more := ""
	if len(open) > 5 {
		more, open = fmt.Sprintf(" and %d more", len(open)-5), open[:5]
	}
	c.Warn(s.At, s.ID, fault.New(fault.Required, "no branch is for %s%s of %s: such records pass it by", strings.Join(open, ", "), more, strings.Join(path, ".")).
		WithFix("Add a branch, or steps under Otherwise, or choose what becomes of them"))
}

// coded gives the codes of the field at a path, and how a frame is made in which it has one of them.
func coded(c *compile.Compiler, path []string) ([]schema.Code, func(schema.Code) (*formula.Frame, bool)) {
	if len(path) < 2 {
		return nil, nil
	}
	i := slices.IndexFunc(c.Named, func(n running.Named) bool { return n.Name == path[0] && n.Schema != nil && !n.List })
	if i < 0 {
		return nil, nil
	}
	records := []*schema.Field{c.Named[i].Schema.Root}
	for _, name := range path[1:] {
		f := records[len(records)-1].Field(name)
		if f == nil || f.List() {
			return nil, nil
		}
		records = append(records, f)
	}
	field, slot := records[len(records)-1], c.Named[i].Slot
	if len(field.Constraints.Codes) > maxCodes || field.Kind == value.RecordKind {
		return nil, nil
	}
	return field.Constraints.Codes, func(code schema.Code) (*formula.Frame, bool) {
		v, ok := schema.ParseScalar(field.Kind, code.Value)
		if !ok {
			return nil, false
		}
		for n := len(records) - 2; n >= 0; n-- {
			values := make([]value.Value, len(records[n].Fields))
			values[records[n+1].Slot()] = v
			v = value.NewRecord(records[n].Layout(), values)
		}
		frame := &formula.Frame{Slots: make([]value.Value, slot+1)}
		frame.Slots[slot] = v
		return frame, true
	}
}
