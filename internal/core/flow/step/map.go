package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

var mapKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "map", Title: "Map", Group: flow.GroupTransform, Concurrent: true, Forgets: true, About: "Makes a target record from the records in scope by a mapping's rules.",
		Maps:  true,
		Begin: func(flow.Offering) partfile.Ordered { return yields("row") },
		Settings: setting.List{
			{Name: "mapping", Label: "Mapping", Type: setting.Part, Of: "mapping", Required: true},
			{Name: "sources", Label: "Sources", Type: setting.Pairs, Help: "Which record each source of the mapping is; one that is not named here is the record of its own name"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "row"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return "mapping " + s.Setting("mapping") },
	},
	Compile: compileMap,
}

func compileMap(c *compile.Compiler, s *flow.Step) running.Runner {
	id := s.Setting("mapping")
	plan := c.Parts.Mapping(id)
	if plan == nil {
		if id != "" {
			c.Fault(s.Place("mapping"), fault.New(fault.Unknown, "there is no mapping %q", id))
		}
		return running.PassOn
	}
	c.Cur.Mapping = plan
	c.Cur.Sources = boundTo(plan.Mapping, s.Match)
	for _, m := range s.Match {
		if plan.Mapping.SourceAt(m.Name.Value) < 0 {
			c.Fault(m.Name, fault.New(fault.Unknown, "the mapping has no source %q", m.Name.Value))
		}
	}
	var from []int
	for i, src := range plan.Mapping.From {
		slot, t, ok := c.Scope.Slot(c.Cur.Sources[i])
		if f := unfit(c.Cur.Sources[i], src, plan.Sources[i], t, ok); f != nil {
			c.Fault(s.Place("mapping"), f)
		}
		from = append(from, slot)
	}
	if len(plan.Faults) > 0 {
		c.Fault(s.Place("mapping"), fault.New(fault.Setting, "the mapping %s has %s", id, plural(len(plan.Faults), "fault")))
	}
	slot := c.Define(s, "as", plan.Target)
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		fr := plan.NewFrame()
		if b.Memory != nil {
			fr.Memory = &b.Memory.Records
		}
		for _, it := range items {
			mapItem(s, plan, fr, from, slot, it)
		}
		return nil
	}
}

// boundTo are the names in scope that a mapping's sources are: what the step says, or else the sources' own names.
func boundTo(m *mapping.Mapping, match []setting.Pair) []string {
	names := make([]string, len(m.From))
	for i, src := range m.From {
		names[i] = src.Name.Value
	}
	for _, b := range match {
		if i := m.SourceAt(b.Name.Value); i >= 0 && b.Formula.Value != "" {
			names[i] = b.Formula.Value
		}
	}
	return names
}

// unfit is why a name cannot be a mapping's source; nil where it can.
func unfit(name string, src mapping.Source, sch *schema.Schema, t formula.Type, there bool) *fault.Fault {
	switch {
	case !there:
		return fault.New(fault.Unknown, "the mapping needs %q; no step before yields it", name).WithFix("Choose under Sources which record it is")
	case src.List && (t.Item == nil || t.Item.Fields != sch.Root):
		return fault.Expect(fault.Type, name+" as a list of schema "+sch.ID, t.String()).WithFix("Choose under Sources another list")
	case !src.List && t.Fields != sch.Root:
		return fault.Expect(fault.Type, name+" of schema "+sch.ID, t.String()).WithFix("Choose under Sources another record")
	}
	return nil
}

func mapItem(s *flow.Step, plan *mapping.Plan, fr *mapping.Frame, from []int, slot int, it *running.Item) {
	fr.Slots[0] = it.Frame.Slots[running.RunSlot]
	for i, f := range from {
		fr.Slots[1+i] = it.Frame.Slots[f]
	}
	res := plan.Apply(fr)
	for _, f := range res.Notes {
		f.Place.Step = s.ID
		it.Notes = append(it.Notes, f)
	}
	switch {
	case res.Faults != nil:
		it.Aside(s.ID, res.Faults...)
	case res.Skipped != "":
		it.State, it.Step, it.Reason = running.Skipped, s.ID, res.Skipped
	default:
		it.Frame.Slots[slot] = res.Value
	}
}
