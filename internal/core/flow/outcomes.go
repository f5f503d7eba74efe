package flow

import (
	"fmt"
	"slices"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// maxNotes bounds what is pointed out of one flow.
const maxNotes = 50

// note points out an outcome that nothing is done about. Unlike a fault it keeps nobody from running the flow.
func (c *compiler) note(at doc.Text, step string, f *fault.Fault) {
	if len(c.plan.Notes) >= maxNotes {
		return
	}
	f.Place = c.flow.doc.Place(at)
	f.Place.Step = step
	c.plan.Notes = append(c.plan.Notes, f)
}

// promised points out the ways through a flow on which its caller does not get the answer that is declared. Where a
// record is set aside, or the run is stopped, the caller is told so: that is an outcome, too.
func (c *compiler) promised() {
	if c.plan.Output == nil {
		return
	}
	e := c.sequence(c.flow.Steps)
	what := c.plan.Output.Title
	if what == "" {
		what = c.plan.Output.ID
	}
	if !e.some {
		c.note(c.flow.Trigger.At, "", fault.New(fault.Required, "whoever calls the flow is promised %s, and no step answers", what).Mended("Add an Answer step, or take the output out of the trigger"))
		return
	}
	for _, w := range e.without {
		c.note(w.step.At, w.step.ID, fault.New(fault.Required, "no answer is given %s, and %s is promised", w.when, what).
			Mended("Answer there, too, or set the message aside: then the caller is told why"))
	}
}

// ending is what the ways through steps come to, as far as the answer goes.
type ending struct {
	some    bool      // an answer is given on some way
	all     bool      // and on every way that comes out at the end
	without []without // the others
}

// without is where a way goes on, or ends, without an answer.
type without struct {
	step  *Step
	when  string
	ended bool // the record goes no further, and nobody is told
}

// sequence follows steps one after another. Once all ways have their answer it does not matter what becomes of them.
func (c *compiler) sequence(steps []*Step) (e ending) {
	for _, s := range steps {
		follow := endings[s.Kind]
		if s.Off || follow == nil {
			continue
		}
		next := follow(c, s)
		e.some = e.some || next.some
		if next.all { // what came here without one has one now, but for what ended before
			e.all = true
			e.without = append(slices.DeleteFunc(e.without, func(w without) bool { return !w.ended }), next.without...)
			return e
		}
		e.without = append(e.without, next.without...)
	}
	return e
}

// endings are how the kinds of step that matter for an answer are followed; all others pass on what comes.
var endings map[string]func(c *compiler, s *Step) ending

func init() { // the followers follow what is inside
	ended := func(when string) func(*compiler, *Step) ending {
		return func(_ *compiler, s *Step) ending { return ending{without: []without{{s, when, true}}} }
	}
	endings = map[string]func(c *compiler, s *Step) ending{
		"answer": func(*compiler, *Step) ending { return ending{some: true, all: true} },
		"stop":   stopped,
		"keep":   ended("to what is skipped here"),
		"once":   ended("to a repeat that is skipped here"),
		"gather": ended("to what is gathered into another message"),
		"choose": (*compiler).chooses, "attempt": (*compiler).attempts, "at once": (*compiler).beside,
		"each":   func(c *compiler, s *Step) ending { return c.perhaps(s, "when the list is empty") },
		"cached": func(c *compiler, s *Step) ending { return c.perhaps(s, "when it is known already") },
	}
}

func stopped(_ *compiler, s *Step) ending {
	if s.Setting("ends") == "this record" && s.Setting("outcome") != "set aside" {
		return ending{all: true, without: []without{{s, "where the way ends here", true}}}
	}
	return ending{all: true}
}

// perhaps follows steps that are not always done. What ends inside an each is an entry, not the message.
func (c *compiler) perhaps(s *Step, when string) ending {
	if e := c.sequence(s.Tracks[0].Steps); e.some {
		return ending{some: true, without: []without{{step: s, when: when}}}
	}
	return ending{}
}

// alternatives follows tracks of which one is taken.
func (c *compiler) alternatives(s *Step, tracks []*Track, named func(*Track) string) ending {
	e := ending{all: true}
	var missing []without
	for _, t := range tracks {
		in := c.sequence(t.Steps)
		e.some, e.all, e.without = e.some || in.some, e.all && in.all, append(e.without, in.without...)
		if !in.some && !in.all {
			missing = append(missing, without{step: s, when: named(t)})
		}
	}
	if e.some { // else it has nothing to do with the answer
		e.without = append(e.without, missing...)
	}
	return e
}

func underTrack(t *Track) string {
	switch {
	case t.Name != "":
		return "under " + t.Name
	case t.If.Value != "":
		return "under " + t.Kind.Title + " " + t.If.Value
	}
	return "under " + t.Kind.Title
}

func (c *compiler) chooses(s *Step) ending {
	none := s.Setting("none")
	if none == "otherwise" {
		return c.alternatives(s, tracksOf(s, "when", "otherwise"), underTrack)
	}
	e := c.alternatives(s, tracksOf(s, "when"), underTrack)
	if none == "skip" {
		e.without = append(e.without, without{s, "to what is skipped since no condition is true", true})
	}
	return e
}

func tracksOf(s *Step, keys ...string) (list []*Track) {
	for _, t := range s.Tracks {
		if slices.Contains(keys, t.Kind.Key) {
			list = append(list, t)
		}
	}
	return list
}

// attempts: a record that fails in an attempt goes on under On fault; where nothing stands there it is set aside.
func (c *compiler) attempts(s *Step) ending {
	if last := c.sequence(s.Track("finally").Steps); last.all {
		return last
	}
	tracks := tracksOf(s, "steps")
	if len(s.Track("on fault").Steps) > 0 && s.Setting("then") == "continue" {
		tracks = tracksOf(s, "steps", "on fault")
	}
	return c.alternatives(s, tracks, func(t *Track) string {
		if t.Kind.Key == "on fault" {
			return "when a fault is dealt with here"
		}
		return "when all goes well"
	})
}

// beside: where all branches are waited for, the answer of one is enough.
func (c *compiler) beside(s *Step) ending {
	if s.Setting("wait") != "when all are done" {
		return c.alternatives(s, tracksOf(s, "branches"), underTrack)
	}
	var e ending
	for _, t := range tracksOf(s, "branches") {
		in := c.sequence(t.Steps)
		if e.some = e.some || in.some; in.all {
			return ending{some: in.some, all: true}
		}
		e.without = append(e.without, in.without...)
	}
	return e
}

// maxCodes bounds the values of a field that are tried against the conditions of a choose.
const maxCodes = 500

// uncovered points out the values of a code list for which a choose has no branch, where all its conditions are about
// that one field and nothing is said about the rest: each value is tried against each condition.
func (c *compiler) uncovered(s *Step, branches []*branch) {
	if s.Setting("none") != "otherwise" || len(s.Track("otherwise").Steps) > 0 {
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
	codes, made := c.coded(path)
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
	c.note(s.At, s.ID, fault.New(fault.Required, "no branch is for %s%s of %s: such records pass it by", strings.Join(open, ", "), more, strings.Join(path, ".")).
		Mended("Add a branch, or steps under Otherwise, or choose what becomes of them"))
}

// coded gives the codes of the field at a path, and how a frame is made in which it has one of them.
func (c *compiler) coded(path []string) ([]schema.Code, func(schema.Code) (*formula.Frame, bool)) {
	if len(path) < 2 {
		return nil, nil
	}
	i := slices.IndexFunc(c.named, func(n Named) bool { return n.Name == path[0] && n.Schema != nil && !n.List })
	if i < 0 {
		return nil, nil
	}
	records := []*schema.Field{c.named[i].Schema.Root}
	for _, name := range path[1:] {
		f := records[len(records)-1].Field(name)
		if f == nil || f.List() {
			return nil, nil
		}
		records = append(records, f)
	}
	field, slot := records[len(records)-1], c.named[i].Slot
	if len(field.Must.Codes) > maxCodes || field.Kind == value.RecordKind {
		return nil, nil
	}
	return field.Must.Codes, func(code schema.Code) (*formula.Frame, bool) {
		v, ok := schema.ParseScalar(field.Kind, code.Value)
		if !ok {
			return nil, false
		}
		for n := len(records) - 2; n >= 0; n-- {
			values := make([]value.Value, len(records[n].Fields))
			values[records[n+1].Slot()] = v
			v = value.Rec(records[n].Shape(), values)
		}
		frame := &formula.Frame{Slots: make([]value.Value, slot+1)}
		frame.Slots[slot] = v
		return frame, true
	}
}
