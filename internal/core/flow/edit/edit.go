// Package edit changes flow parts in place: steps are put in, moved, copied, wrapped and taken away. Every change
// is one of the part's text, which keeps its order and comments.
package edit

import (
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
)

// Result is a changed part and the step that is to be chosen in it.
type Result struct {
	Text     []byte
	Selected string
}

// Range is a step and those behind it in its list, as many as are meant.
type Range struct {
	Step  string
	Count int
}

// place finds the list in which a step stands, and its position there.
func place(f *flow.Flow, id string) (path []any, index int, list []*flow.Step, err error) {
	s := f.Step(id)
	if s == nil {
		return nil, 0, nil, fault.New(fault.Unknown, "there is no step %q", id)
	}
	n := len(s.Path)
	path, index = s.Path[:n-1:n-1], s.Path[n-1].(int)
	return path, index, List(f, path), nil
}

// List finds the steps of the list at a path; nil when there is none.
func List(f *flow.Flow, path []any) (found []*flow.Step) {
	if same(path, []any{"steps"}) {
		return f.Steps
	}
	f.Walk(func(s *flow.Step) {
		for _, t := range s.Branches {
			if same(t.Path, path) {
				found = t.Steps
			}
		}
	})
	return found
}

func same(a, b []any) bool { return slices.Equal(a, b) }

// known says whether there is a list of steps at a path.
func known(f *flow.Flow, path []any) bool {
	ok := same(path, []any{"steps"})
	f.Walk(func(s *flow.Step) {
		for _, t := range s.Branches {
			ok = ok || same(t.Path, path)
		}
	})
	return ok
}

// within finds the range's list, position and length.
func (r Range) within(f *flow.Flow) (path []any, index, n int, err error) {
	path, index, list, err := place(f, r.Step)
	return path, index, min(max(1, r.Count), max(1, len(list)-index)), err
}

// fresh gives names that nothing in the flow has.
type fresh struct{ taken map[string]bool }

func freshIn(f *flow.Flow) *fresh {
	n := &fresh{taken: map[string]bool{"trigger": true, "run": true, "input": true, "fault": true}}
	f.Walk(func(s *flow.Step) {
		n.taken[s.ID] = true
		for _, name := range []string{"as", "collected as"} {
			n.taken[s.Setting(name)] = true
		}
	})
	return n
}

// name is the name itself, or with a number behind it.
func (n *fresh) name(base string) string {
	if base == "" {
		base = "step"
	}
	name := base
	if trimmed := strings.TrimRight(base, "0123456789"); n.taken[base] && trimmed != "" {
		base = trimmed
	}
	for i := 2; n.taken[name]; i++ {
		name = base + strconv.Itoa(i)
	}
	n.taken[name] = true
	return name
}

// Insert puts a step at a gap. It gets an id and a name for its result that nothing else has.
func Insert(f *flow.Flow, text []byte, gap flow.Gap, offer Offer) (Result, error) {
	if !known(f, gap.Path) {
		return Result{}, fault.New(fault.Unknown, "there is no place for a step here")
	}
	names := freshIn(f)
	id := names.name(slug(offer.ID))
	out := partfile.Ordered{}
	out.Add("step", offer.Kind)
	out.Add("id", id)
	out.Add("name", offer.Name)
	for _, e := range offer.Settings {
		if as, ok := e.Value.(string); ok && e.Key == "as" {
			e.Value = names.name(as)
		}
		out = append(out, e)
	}
	if offer.Each != "" {
		around := partfile.Ordered{{Key: "step", Value: flow.EachKind}, {Key: "id", Value: names.name(flow.EachKind)}, {Key: "of", Value: partfile.Text{Value: offer.Each}}}
		if offer.Entry != offer.Each {
			around.Add("as", offer.Entry)
		}
		out = append(around, partfile.Entry{Key: "steps", Value: []partfile.Ordered{out}})
	}
	text, err := partfile.Insert(text, gap.Path, gap.At, out)
	return Result{text, id}, err
}

// slug makes an id of a name.
func slug(s string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, s), "-")
}

// Remove takes steps away. The step before them is chosen.
func Remove(f *flow.Flow, text []byte, r Range) (Result, error) {
	path, index, n, err := r.within(f)
	if err != nil {
		return Result{}, err
	}
	for range n {
		if text, err = partfile.Remove(text, path, index); err != nil {
			return Result{}, err
		}
	}
	return Result{text, beside(f, path, index)}, nil
}

// beside is the step before a place, or the one around it.
func beside(f *flow.Flow, path []any, index int) string {
	if list := List(f, path); index > 0 && index <= len(list) {
		return list[index-1].ID
	}
	around := "trigger"
	f.Walk(func(s *flow.Step) {
		for _, t := range s.Branches {
			if same(t.Path, path) {
				around = s.ID
			}
		}
	})
	return around
}

// Copy writes steps as a text that Paste takes.
func Copy(f *flow.Flow, text []byte, r Range) ([]byte, error) {
	path, index, n, err := r.within(f)
	if err != nil {
		return nil, err
	}
	return partfile.Items(text, path, index, n)
}

// Paste puts copied steps at a gap. They get ids that nothing else has, and so do the names of their results;
// formulas among them go on reading what they read.
func Paste(f *flow.Flow, text []byte, gap flow.Gap, items []byte) (Result, error) {
	if !known(f, gap.Path) {
		return Result{}, fault.New(fault.Unknown, "there is no place for a step here")
	}
	names, first := freshIn(f), ""
	text, err := partfile.Paste(text, gap.Path, gap.At, items, func(s partfile.Settings) {
		if s.Get("step") == "" {
			return
		}
		id := names.name(s.Get("id"))
		s.Set("id", id)
		if as := s.Get("as"); as != "" {
			s.Set("as", names.name(as))
		}
		if first == "" {
			first = id
		}
	})
	if err == nil && first == "" {
		err = fault.New(fault.Syntax, "there are no steps in what was copied")
	}
	if err != nil {
		return Result{}, fault.From(err, fault.Syntax)
	}
	return Result{text, first}, nil
}

// Duplicate puts a copy of steps behind them.
func Duplicate(f *flow.Flow, text []byte, r Range) (Result, error) {
	path, index, n, err := r.within(f)
	if err != nil {
		return Result{}, err
	}
	items, err := partfile.Items(text, path, index, n)
	if err != nil {
		return Result{}, err
	}
	return Paste(f, text, flow.Gap{Path: path, At: index + n}, items)
}

// Move puts steps elsewhere.
func Move(f *flow.Flow, text []byte, r Range, to flow.Gap) (Result, error) {
	path, index, n, err := r.within(f)
	if err != nil {
		return Result{}, err
	}
	if !known(f, to.Path) {
		return Result{}, fault.New(fault.Unknown, "there is no place for a step here")
	}
	if text, err = partfile.MoveItems(text, path, index, n, to.Path, to.At); err != nil {
		return Result{}, fault.From(err, fault.Setting)
	}
	return Result{text, r.Step}, nil
}

// Nudge moves steps one place on (+1) or back (-1) along the way: past a neighbour, into the first list of one
// that holds steps, or out of the one around them.
func Nudge(f *flow.Flow, text []byte, r Range, way int) (Result, error) {
	path, index, n, err := r.within(f)
	if err != nil {
		return Result{}, err
	}
	list := List(f, path)
	next := index - 1
	if way > 0 {
		next = index + n
	}
	if next < 0 || next >= len(list) {
		return out(f, text, r, path, way)
	}
	neighbour := list[next]
	if to := neighbour.Holds(); to != nil {
		if way > 0 {
			return Move(f, text, r, flow.Gap{Path: to.Path, At: 0})
		}
		to = lastWay(neighbour)
		return Move(f, text, r, flow.Gap{Path: to.Path, At: len(to.Steps)})
	}
	if way > 0 {
		return Move(f, text, r, flow.Gap{Path: path, At: next + 1})
	}
	return Move(f, text, r, flow.Gap{Path: path, At: next})
}

func lastWay(s *flow.Step) *flow.Branch { return s.Branches[len(s.Branches)-1] }

// out moves steps to the next branch of the step around them, or past it.
func out(f *flow.Flow, text []byte, r Range, path []any, way int) (Result, error) {
	var around *flow.Step
	at := 0
	f.Walk(func(s *flow.Step) {
		for i, t := range s.Branches {
			if same(t.Path, path) {
				around, at = s, i
			}
		}
	})
	if around == nil {
		return Result{text, r.Step}, nil
	}
	if to := at + way; to >= 0 && to < len(around.Branches) {
		t := around.Branches[to]
		if way > 0 {
			return Move(f, text, r, flow.Gap{Path: t.Path, At: 0})
		}
		return Move(f, text, r, flow.Gap{Path: t.Path, At: len(t.Steps)})
	}
	outer, index, _, err := place(f, around.ID)
	if err != nil {
		return Result{}, err
	}
	if way > 0 {
		index++
	}
	return Move(f, text, r, flow.Gap{Path: outer, At: index})
}

// Switch switches steps off, or on again when the first of them is off.
func Switch(f *flow.Flow, text []byte, r Range) (Result, error) {
	path, index, n, err := r.within(f)
	if err != nil {
		return Result{}, err
	}
	to := "true"
	if f.Step(r.Step).Disabled {
		to = ""
	}
	for i := range n {
		if text, err = partfile.Set(text, append(path[:len(path):len(path)], index+i, "off"), to); err != nil {
			return Result{}, err
		}
	}
	return Result{text, r.Step}, nil
}

// Wrap puts steps into a new step that holds them; an each is of what is given.
func Wrap(f *flow.Flow, text []byte, r Range, kind, of string) (Result, error) {
	path, index, n, err := r.within(f)
	if err != nil {
		return Result{}, err
	}
	k := flow.KindOf(kind)
	if k == nil || k.Wraps == nil {
		return Result{}, fault.New(fault.Unknown, "steps cannot be wrapped in %q", kind)
	}
	names := freshIn(f)
	id := names.name(slug(kind))
	around := partfile.Ordered{{Key: "step", Value: kind}, {Key: "id", Value: id}}
	for _, e := range k.Wraps.Settings {
		switch e.Key {
		case "as":
			e.Value = names.name("entry")
		case "of":
			e.Value = partfile.Text{Value: of}
		}
		around = append(around, e)
	}
	text, err = partfile.Wrap(text, path, index, n, around, k.Wraps.Inside)
	return Result{text, id}, err
}

// InEach puts a step into an each of what is at hand, and binds the sources of its mapping there. It is done only where that
// mends the step: the flow is compiled with it, and the step has fewer faults then and the flow no more. What the each is of
// is empty where it would not help.
func InEach(p *project.Project, plan *running.Plan, step string) (r Result, of string) {
	ps := plan.Planned(step)
	if ps == nil || len(ps.Faults) == 0 || ps.Step.Of().Loops || ps.Step.Of().Reads {
		return r, ""
	}
	path, index, _, err := place(plan.Flow, step)
	if err != nil {
		return r, ""
	}
	part := project.Path(project.Flows, plan.Flow.ID)
	loaded := func(text []byte) *running.Plan { return p.With(part, string(text)).Flow(plan.Flow.ID) }
	of = ListAt(p, plan, flow.Gap{Path: path, At: index})
	r, err = Wrap(plan.Flow, []byte(p.Texts[part]), Range{Step: step, Count: 1}, flow.EachKind, of)
	if of == "" || err != nil {
		return r, ""
	}
	after := loaded(r.Text)
	if now := after.Planned(step); now != nil && now.Mapping != nil {
		if bound, fits := Bind(now.Mapping, now.Before); fits && len(bound) > 0 {
			if r.Text, err = partfile.Set(r.Text, append(now.Step.Path[:len(now.Step.Path):len(now.Step.Path)], "sources"), bound); err != nil {
				return r, ""
			}
			after = loaded(r.Text)
		}
	}
	if now := after.Planned(step); now == nil || len(now.Faults) >= len(ps.Faults) || len(after.Faults) > len(plan.Faults) {
		return r, ""
	}
	r.Selected = step
	return r, of
}

// Unwrap puts the steps of a step's first branch in its place.
func Unwrap(f *flow.Flow, text []byte, id string) (Result, error) {
	path, index, _, err := place(f, id)
	if err != nil {
		return Result{}, err
	}
	s := f.Step(id)
	first := s.Holds()
	if first == nil {
		return Result{}, fault.New(fault.Setting, "%s holds no steps", s.Name)
	}
	text, err = partfile.Unwrap(text, path, index, first.Path[len(s.Path):])
	selected := beside(f, path, index)
	if len(first.Steps) > 0 {
		selected = first.Steps[0].ID
	}
	return Result{text, selected}, err
}

// AddTrack adds a branch to a step with branches.
func AddTrack(f *flow.Flow, text []byte, id string) (Result, error) {
	s := f.Step(id)
	if s == nil {
		return Result{}, fault.New(fault.Unknown, "there is no step %q", id)
	}
	for _, k := range flow.KindOf(s.Kind).Branches {
		if !k.Many {
			continue
		}
		item := partfile.Ordered{{Key: "name", Value: k.Title + " " + strconv.Itoa(branches(s)+1)}}
		if k.If {
			item = partfile.Ordered{{Key: "if", Value: "false"}}
		}
		text, err := partfile.Insert(text, append(s.Path[:len(s.Path):len(s.Path)], k.Key), -1, item)
		return Result{text, id}, err
	}
	return Result{}, fault.New(fault.Setting, "%s has no branches", s.Name)
}

func branches(s *flow.Step) (n int) {
	for _, t := range s.Branches {
		if t.Kind.Many {
			n++
		}
	}
	return n
}

// RemoveTrack takes a branch away, with its steps.
func RemoveTrack(f *flow.Flow, text []byte, id string, at int) (Result, error) {
	s := f.Step(id)
	if s == nil || at < 0 || at >= len(s.Branches) || !s.Branches[at].Kind.Many {
		return Result{}, fault.New(fault.Unknown, "there is no such branch")
	}
	if branches(s) == 1 {
		return Result{}, fault.New(fault.Setting, "the last branch cannot be taken away").WithFix("Take the step away, or put its steps in its place")
	}
	path := s.Branches[at].Path
	text, err := partfile.Remove(text, path[:len(path)-2:len(path)-2], path[len(path)-2].(int))
	return Result{text, id}, err
}
