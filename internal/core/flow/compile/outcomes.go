package compile

import (
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/partfile"
)

// maxNotes bounds what is pointed out of one flow.
const maxNotes = 50

// Warn points out an outcome that nothing is done about. Unlike a fault it keeps nobody from running the flow.
func (c *Compiler) Warn(at partfile.Text, step string, f *fault.Fault) {
	if len(c.Plan.Notes) >= maxNotes {
		return
	}
	f.Place = c.Flow.Doc.Place(at)
	f.Place.Step = step
	c.Plan.Notes = append(c.Plan.Notes, f)
}

// checkResponse points out the ways through a flow on which its caller does not get the answer that is declared. Where a
// record is set aside, or the run is stopped, the caller is told so: that is an outcome, too.
func (c *Compiler) checkResponse() {
	if c.Plan.Output == nil {
		return
	}
	e := c.Sequence(c.Flow.Steps)
	what := c.Plan.Output.Title
	if what == "" {
		what = c.Plan.Output.ID
	}
	if !e.Some {
		c.Warn(c.Flow.Trigger.At, "", fault.New(fault.Required, "whoever calls the flow is promised %s, and no step answers", what).WithFix("Add a Respond step, or take the output out of the trigger"))
		return
	}
	for _, w := range e.Without {
		c.Warn(w.Step.At, w.Step.ID, fault.New(fault.Required, "no answer is given %s, and %s is promised", w.When, what).
			WithFix("Answer there, too, or set the message aside: then the caller is told why"))
	}
}

// Ending is what the ways through steps come to, as far as the answer goes.
type Ending struct {
	Some    bool      // an answer is given on some way
	All     bool      // and on every way that comes out at the end
	Without []Without // the others
}

// Without is where a way goes on, or ends, without an answer.
type Without struct {
	Step  *flow.Step
	When  string // in words, as "when the list is empty"
	Ended bool   // the record goes no further, and nobody is told
}

// Sequence follows steps one after another. Once all ways have their answer it does not matter what becomes of them.
func (c *Compiler) Sequence(steps []*flow.Step) (e Ending) {
	for _, s := range steps {
		k := stepKinds[s.Kind]
		if s.Disabled || k == nil || k.Ending == nil {
			continue
		}
		next := k.Ending(c, s)
		e.Some = e.Some || next.Some
		if next.All { // what came here without one has one now, but for what ended before
			e.All = true
			e.Without = append(slices.DeleteFunc(e.Without, func(w Without) bool { return !w.Ended }), next.Without...)
			return e
		}
		e.Without = append(e.Without, next.Without...)
	}
	return e
}

// EndsWithout is how a step ends that lets some records go no further, without an answer.
func EndsWithout(when string) func(*Compiler, *flow.Step) Ending {
	return func(_ *Compiler, s *flow.Step) Ending {
		return Ending{Without: []Without{{Step: s, When: when, Ended: true}}}
	}
}

// Perhaps follows steps that are not always done. What ends inside an each is an entry, not the message.
func (c *Compiler) Perhaps(s *flow.Step, when string) Ending {
	if e := c.Sequence(s.Branches[0].Steps); e.Some {
		return Ending{Some: true, Without: []Without{{Step: s, When: when}}}
	}
	return Ending{}
}

// Alternatives follows branches of which one is taken.
func (c *Compiler) Alternatives(s *flow.Step, tracks []*flow.Branch, named func(*flow.Branch) string) Ending {
	e := Ending{All: true}
	var missing []Without
	for _, t := range tracks {
		in := c.Sequence(t.Steps)
		e.Some, e.All, e.Without = e.Some || in.Some, e.All && in.All, append(e.Without, in.Without...)
		if !in.Some && !in.All {
			missing = append(missing, Without{Step: s, When: named(t)})
		}
	}
	if e.Some { // else it has nothing to do with the answer
		e.Without = append(e.Without, missing...)
	}
	return e
}

// Under says in words under which branch of a step a way goes on.
func Under(t *flow.Branch) string {
	switch {
	case t.Name != "":
		return "under " + t.Name
	case t.If.Value != "":
		return "under " + t.Kind.Title + " " + t.If.Value
	}
	return "under " + t.Kind.Title
}

// Branches are the branches of a step with one of some keys.
func Branches(s *flow.Step, keys ...string) (list []*flow.Branch) {
	for _, t := range s.Branches {
		if slices.Contains(keys, t.Kind.Key) {
			list = append(list, t)
		}
	}
	return list
}
