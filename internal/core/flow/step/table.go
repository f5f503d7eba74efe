package step

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/table"
	"hollowreed/internal/core/value"
)

// keyed are the key columns of a table with their formulas.
type keyed struct {
	t     *table.Table
	progs []*formula.Program
}

// key is the text under which a row is remembered.
func (k keyed) key(s *flow.Step, it *running.Item) (key string, keys []value.Value, ok bool) {
	for i, prog := range k.progs {
		it.Frame.Reset()
		v, f := prog.Eval(&it.Frame)
		if f == nil && v.IsMissing() {
			f = fault.Expect(fault.Required, k.t.Keys[i].Kind.String(), v.Kind().String())
		}
		if f != nil {
			it.Aside(s.ID, f.InField(k.t.Keys[i].Name))
			return "", nil, false
		}
		keys = append(keys, running.Fitted(v, k.t.Keys[i]))
	}
	return table.Key(keys), keys, true
}

// tableOf finds the table of a step, and compiles the formulas for its columns: all those that are keys must have one.
func tableOf(c *compile.Compiler, s *flow.Step) (t *table.Table, progs map[string]*formula.Program) {
	id := s.Setting("table")
	t = c.Parts.Formulas().Table(id)
	if t == nil {
		if id != "" {
			c.Fault(s.Place("table"), fault.New(fault.Unknown, "there is no table %q", id))
		}
		return nil, nil
	}
	c.Cur.Columns = running.RowOf(t)
	if s.Kind == lookUpName {
		c.Cur.Columns = keyRecord(t)
	}
	progs = map[string]*formula.Program{}
	for _, m := range s.Match {
		f := t.Row.Field(m.Name.Value)
		if f == nil {
			c.Fault(m.Name, fault.New(fault.Unknown, "the table %s has no column %q", t.Title, m.Name.Value))
			continue
		}
		if progs[f.Name] = c.Want(m.Formula, f.Kind, f.Kind.String()+" for "+f.Name); progs[f.Name] == nil {
			return nil, nil
		}
	}
	for _, f := range t.Keys {
		if progs[f.Name] == nil {
			c.Fault(s.At, fault.New(fault.Required, "the key column %s has no formula", f.Name))
			return nil, nil
		}
	}
	return t, progs
}

func keysOf(t *table.Table, progs map[string]*formula.Program) keyed {
	k := keyed{t: t}
	for _, f := range t.Keys {
		k.progs = append(k.progs, progs[f.Name])
	}
	return k
}

// keyRecord is a record of the key columns of a table.
func keyRecord(t *table.Table) *schema.Schema {
	keys := make([]*schema.Field, len(t.Keys))
	for i, f := range t.Keys {
		own := *f // in another record it has another slot
		keys[i] = &own
	}
	return &schema.Schema{ID: t.ID, Title: t.Title, Notation: json.Kind.Notation, Root: schema.Record(t.ID, keys...)}
}
