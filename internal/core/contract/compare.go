package contract

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/route"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/compare"
)

// Change is one difference between two contracts.
type Change struct {
	Operation string // its method and path; empty where it is of the contract as a whole
	Where     string // in the operation: a parameter, the body, an answer, with the field
	What      string
	Breaks    bool // callers that keep to the older contract
	At        fault.Place
}

// String is the change in a line.
func (c Change) String() string {
	return strings.TrimSpace(strings.Join(slices.DeleteFunc([]string{c.Operation, c.Where}, func(s string) bool { return s == "" }), ", ") + ": " + c.What)
}

// Compare says what differs between an older contract and a newer one. The places are those of the newer one, or of the older where
// something is gone.
func Compare(old, now *Contract) []Change {
	c := &comparer{old: old, now: now, seen: map[[2]string][]compare.Change{}}
	was := map[string]*Operation{}
	for _, o := range old.Operations {
		was[o.Method+" "+route.Shape(o.Path)] = o
	}
	for _, o := range now.Operations {
		key := o.Method + " " + route.Shape(o.Path)
		before := was[key]
		delete(was, key)
		if before == nil {
			c.add(Change{Operation: o.Name(), What: "added", At: o.At})
			continue
		}
		c.operation(before, o)
	}
	for _, o := range old.Operations {
		if was[o.Method+" "+route.Shape(o.Path)] == o {
			what := "removed"
			if !o.Deprecated {
				what += ", and it was not deprecated before"
			}
			c.add(Change{Operation: o.Name(), What: what, Breaks: true, At: o.At})
		}
	}
	c.comparePorts()
	return c.changes
}

type comparer struct {
	old, now *Contract
	changes  []Change
	seen     map[[2]string][]compare.Change // of schemas that were compared, by their places
}

func (c *comparer) add(ch Change) { c.changes = append(c.changes, ch) }

func (c *comparer) operation(old, now *Operation) {
	at := func(where, what string, breaks bool, p fault.Place) {
		c.add(Change{now.Name(), where, what, breaks, p})
	}
	if old.ID != now.ID && (old.ID != old.Name() || now.ID != now.Name()) {
		at("", fmt.Sprintf("the id %s → %s", old.ID, now.ID), false, now.At)
	}
	if now.Deprecated && !old.Deprecated {
		at("", "deprecated", false, now.At)
	}
	c.parameters(old, now, at)
	c.body(old, now, at)
	c.answers(old, now, at)
	c.security(old, now, at)
}

type adder func(where, what string, breaks bool, at fault.Place)

func (c *comparer) parameters(old, now *Operation, at adder) {
	for _, p := range now.Parameters {
		where := p.In + " parameter " + p.Name
		before := parameter(old, p)
		switch {
		case before == nil && p.In == "path": // the path has as many as before: it is called otherwise
		case before == nil && p.Required:
			at(where, "added, and required", true, p.At)
		case before == nil:
			at(where, "added", false, p.At)
		default:
			if p.Required && !before.Required {
				at(where, "required now", true, p.At)
			}
			if !p.Required && before.Required {
				at(where, "optional now", false, p.At)
			}
			if p.Style != before.Style || p.Explode != before.Explode {
				at(where, fmt.Sprintf("written as %s → %s", styleOf(before), styleOf(p)), true, p.At)
			}
			c.schemas(where, before.Schema, p.Schema, sent, p.At, at)
		}
	}
	for _, p := range old.Parameters {
		if p.In != "path" && parameter(now, p) == nil {
			at(p.In+" parameter "+p.Name, "removed: what callers say with it is passed over", true, p.At)
		}
	}
}

func styleOf(p *Parameter) string {
	if p.Explode {
		return p.Style + ", each value by itself"
	}
	return p.Style
}

func parameter(o *Operation, like *Parameter) *Parameter {
	for _, p := range o.Parameters {
		if p.In == like.In && (p.Name == like.Name || p.In == "header" && strings.EqualFold(p.Name, like.Name)) {
			return p
		}
	}
	return nil
}

func (c *comparer) body(old, now *Operation, at adder) {
	switch {
	case old.Body == nil && now.Body == nil:
	case old.Body == nil:
		at("body", map[bool]string{true: "added, and required", false: "added"}[now.Body.Required], now.Body.Required, now.Body.At)
	case now.Body == nil:
		at("body", "removed: what callers send is passed over", true, old.Body.At)
	default:
		if now.Body.Required != old.Body.Required {
			at("body", map[bool]string{true: "required now", false: "optional now"}[now.Body.Required], now.Body.Required, now.Body.At)
		}
		c.media("body", old.Body.Media, now.Body.Media, sent, now.Body.At, at)
	}
}

func (c *comparer) answers(old, now *Operation, at adder) {
	for _, a := range now.Answers {
		where := "answer " + a.Status
		before := answer(old, a.Status)
		if before == nil {
			at(where, "added", successful(a.Status) && !anySuccess(old), a.At)
			continue
		}
		c.media(where, before.Media, a.Media, received, a.At, at)
		for _, h := range before.Headers {
			i := slices.IndexFunc(a.Headers, func(g *Parameter) bool { return strings.EqualFold(g.Name, h.Name) })
			switch {
			case i < 0:
				at(where, "the header "+h.Name+" is removed", true, a.At)
			case h.Required && !a.Headers[i].Required:
				at(where, "the header "+h.Name+" need not be there now", true, a.Headers[i].At)
			default:
				c.schemas(where+", header "+h.Name, h.Schema, a.Headers[i].Schema, received, a.Headers[i].At, at)
			}
		}
	}
	for _, a := range old.Answers {
		if answer(now, a.Status) == nil {
			at("answer "+a.Status, "removed", successful(a.Status), a.At)
		}
	}
}

func answer(o *Operation, status string) *Answer {
	for _, a := range o.Answers {
		if a.Status == status {
			return a
		}
	}
	return nil
}

func successful(status string) bool { return status[0] == '2' }

func anySuccess(o *Operation) bool {
	return slices.ContainsFunc(o.Answers, func(a *Answer) bool { return successful(a.Status) })
}

// way says who writes what a schema describes.
type way int

const (
	sent     way = iota // by callers, who keep to the older contract
	received            // by callers, who read by the older contract
)

func (c *comparer) media(where string, old, now []Media, w way, p fault.Place, at adder) {
	for _, m := range old {
		i := slices.IndexFunc(now, func(n Media) bool { return n.Type == m.Type })
		if i < 0 {
			at(where, m.Type+" is removed", true, p)
			continue
		}
		c.schemas(where, m.Schema, now[i].Schema, w, p, at)
	}
	for _, m := range now {
		if !slices.ContainsFunc(old, func(o Media) bool { return o.Type == m.Type }) {
			at(where, m.Type+" is added", false, p)
		}
	}
}

// schemas compares two schemas by their places.
func (c *comparer) schemas(where, old, now string, w way, p fault.Place, at adder) {
	switch {
	case old == "" && now == "":
		return
	case old == "" || now == "":
		at(where, map[bool]string{true: "described now", false: "no longer described"}[old == ""], (old == "") == (w == sent), p)
		return
	}
	for _, ch := range c.compared(old, now) {
		breaks := ch.Writers && w == sent || ch.Readers && w == received
		field := where
		if ch.Path != "" {
			field += ", " + ch.Path
		}
		what := cmp.Or(ch.What, string(ch.Kind))
		if ch.Kind == compare.Added || ch.Kind == compare.Removed {
			what = string(ch.Kind) + " (" + ch.What + ")"
		}
		at(field, what, breaks, p)
	}
}

// compared are the differences of two schemas; each pair is compared once.
func (c *comparer) compared(old, now string) []compare.Change {
	key := [2]string{old, now}
	if list, done := c.seen[key]; done {
		return list
	}
	a, errA := c.old.Schema(old)
	b, errB := c.now.Schema(now)
	if errA != nil || errB != nil {
		c.seen[key] = nil // a reference that leads nowhere is a fault of its contract
		return nil
	}
	c.seen[key] = compare.Schemas(a.Schema, named(b.Schema, a.Schema.ID))
	return c.seen[key]
}

// named is a schema under another id, which says nothing of messages.
func named(s *schema.Schema, id string) *schema.Schema {
	t := *s
	t.ID = id
	return &t
}

func (c *comparer) security(old, now *Operation, at adder) {
	was, is := c.needs(c.old, old), c.needs(c.now, now)
	for _, one := range is {
		if !slices.Contains(was, one) {
			at("security", "may be called with "+one, false, now.At)
		}
	}
	for _, one := range was {
		if !slices.Contains(is, one) {
			at("security", "can no longer be called with "+one, true, now.At)
		}
	}
}

// needs are the ways in which an operation may be called, in words.
func (c *comparer) needs(of *Contract, o *Operation) (list []string) {
	if len(o.Security) == 0 {
		return []string{"nothing"}
	}
	for _, needs := range o.Security {
		var all []string
		for _, n := range needs {
			s := of.Schemes[n.Scheme]
			if s == nil {
				continue
			}
			one := strings.Join(strings.Fields(s.Type+" "+s.Scheme+" "+s.In+" "+s.Name), " ")
			if len(n.Scopes) > 0 {
				one += " with " + strings.Join(n.Scopes, ", ")
			}
			all = append(all, one)
		}
		list = append(list, cmp.Or(strings.Join(all, " and "), "nothing"))
	}
	return list
}
