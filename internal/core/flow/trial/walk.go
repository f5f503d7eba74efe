package trial

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/value"
)

// Change is a value that a person has changed while a run was halted: a name in scope, or a field of it, and a formula.
type Change struct {
	N       int // of the stop
	Name    string
	Formula string
}

// Walk takes one message through a flow from its start, makes the changes on the way, and halts where it is told to. It
// is used for one run.
type Walk struct {
	Changes []Change
	Halts   func(s running.Stop, it *running.Item, ps *running.PlannedStep) bool
	Trace   []running.Stop
	Bad     *fault.Fault // of a change that cannot be made
}

var _ running.Watcher = (*Walk)(nil)

// Before notes the stop before a step.
func (w *Walk) Before(b *running.Batch, ps *running.PlannedStep, items []*running.Item) error {
	return w.at(b, ps, items[0], false)
}

// After notes the stop behind a step that has failed.
func (w *Walk) After(b *running.Batch, ps *running.PlannedStep, items []*running.Item) error {
	if it := ps.FirstAside(items); it != nil {
		return w.at(b, ps, it, true)
	}
	return nil
}

func (w *Walk) at(b *running.Batch, ps *running.PlannedStep, it *running.Item, failed bool) error {
	s := running.Stop{N: len(w.Trace), Flow: b.Plan.Flow.ID, Step: ps.Step.ID, CallStack: ps.CallStack(b.CallStack), Record: it.Record, Path: it.Path, Failed: failed}
	w.Trace = append(w.Trace, s)
	for _, c := range w.Changes {
		if c.N != s.N {
			continue
		}
		if f := change(ps, it, c); f != nil {
			w.Bad = f
			return &running.Halt{Stop: s, Plan: b.Plan, Item: it}
		}
	}
	if w.Halts(s, it, ps) {
		return &running.Halt{Stop: s, Plan: b.Plan, Item: it}
	}
	return nil
}

// change sets a value in scope to what a formula yields there.
func change(ps *running.PlannedStep, it *running.Item, c Change) *fault.Fault {
	path := strings.Split(c.Name, ".")
	if record, led := ps.Scope.ResolveName(path[0]); led {
		path = append([]string{record}, path...)
	}
	slot, _, ok := ps.Scope.Slot(path[0])
	if !ok || path[0] == "run" {
		return fault.New(fault.Unknown, "there is no value %q here that can be changed", c.Name)
	}
	now, faults := formula.Compile(pathFormula(path), ps.Scope)
	if len(faults) > 0 {
		return faults[0].InField(c.Name)
	}
	to, faults := formula.Compile(c.Formula, ps.Scope)
	if len(faults) > 0 {
		return faults[0].InField(c.Name)
	}
	if !to.Type.Fits(now.Type.Kind) && now.Type.Kind != value.Absent {
		return fault.Expect(fault.Type, now.Type.String(), to.Type.String()).InField(c.Name)
	}
	it.Frame.Grow(to.Slots())
	it.Frame.Reset()
	v, f := to.Eval(&it.Frame)
	if f != nil {
		return f.InField(c.Name)
	}
	if now.Type.Kind == value.Decimal && v.Kind() == value.Integer {
		v = value.AsDecimal(v)
	}
	changed, ok := replaced(it.Frame.Slots[slot], path[1:], v)
	if !ok {
		return fault.New(fault.Unknown, "there is no value %q here", c.Name)
	}
	it.Frame.Slots[slot] = changed
	return nil
}

// pathFormula is the formula of a path whose parts are names and positions in lists.
func pathFormula(path []string) string {
	out := formula.Path(path[:1])
	for _, part := range path[1:] {
		if _, err := strconv.Atoi(part); err == nil {
			out += "[" + part + "]"
		} else {
			out += strings.TrimPrefix(formula.Path([]string{"x", part}), "x")
		}
	}
	return out
}

// replaced is a value with another one at a place inside of it.
func replaced(v value.Value, path []string, to value.Value) (value.Value, bool) {
	if len(path) == 0 {
		return to, true
	}
	switch v.Kind() {
	case value.RecordKind:
		r := v.Record()
		i := r.Layout.Slot(path[0])
		if i < 0 {
			return v, false
		}
		fields := append([]value.Value(nil), r.Fields...)
		inner, ok := replaced(fields[i], path[1:], to)
		fields[i] = inner
		return value.NewRecord(r.Layout, fields), ok
	case value.ListKind:
		i, err := strconv.Atoi(path[0])
		items := append([]value.Value(nil), v.Items()...)
		if err != nil || i < 0 || i >= len(items) {
			return v, false
		}
		inner, ok := replaced(items[i], path[1:], to)
		items[i] = inner
		return value.ListOf(items...), ok
	}
	return v, false
}
