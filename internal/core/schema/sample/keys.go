package sample

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// needed are the fields whose values the entries of keys must have; nil where there are no keys.
func needed(root *schema.Field) (fields map[*schema.Field]bool) {
	if !root.HasKeys() {
		return nil
	}
	fields = map[*schema.Field]bool{}
	root.Walk(func(_ []string, f *schema.Field) {
		for _, k := range f.Keys() {
			if k.Partial {
				continue
			}
			for _, by := range k.Entries.By {
				for _, c := range by[0] {
					fields[c] = true
				}
			}
		}
	})
	return fields
}

// keyed makes a message whose keys hold.
func (m *maker) keyed(root *schema.Field) (v value.Value, ft *fault.Fault) {
	for range attempts {
		m.made = 0
		if v, ft = m.one(root, ""); ft != nil {
			return v, ft
		}
		m.settle(root, v)
		m.schema.Check(v, func(found *fault.Fault) { ft = found })
		if ft == nil {
			return v, nil
		}
	}
	return value.Value{}, m.none(root, ft.Place.Path, ft.Error())
}

// settle makes the keys of all records below one occurrence of a field hold, the inner ones first.
func (m *maker) settle(f *schema.Field, v value.Value) {
	for _, c := range f.Fields {
		if f.Kind == value.RecordKind {
			m.settleAll(f, c, v.Field(c.Name))
		} else {
			m.settleAll(f, c, v)
		}
	}
	for _, k := range f.Keys() {
		if k.Among == nil {
			m.differ(f, v, &k)
		}
	}
	for _, k := range f.Keys() {
		if k.Among != nil {
			m.refer(f, v, &k)
		}
	}
}

func (m *maker) settleAll(f, c *schema.Field, v value.Value) {
	switch {
	case v.IsMissing():
	case f.Kind == value.MapKind:
		for _, each := range v.Record().Fields {
			m.settleItems(c, each)
		}
	case f.Kind == value.VariantKind:
		if b, ft := f.Branch(v); ft == nil && b == c {
			m.settleItems(c, v)
		}
	default:
		m.settleItems(c, v)
	}
}

func (m *maker) settleItems(c *schema.Field, v value.Value) {
	if !c.List() {
		m.settle(c, v)
		return
	}
	for _, item := range v.Items() {
		m.settle(c, item)
	}
}

// differ makes values anew that are there already.
func (m *maker) differ(f *schema.Field, v value.Value, k *schema.Key) {
	known, kind := map[string]bool{}, m.kind
	m.kind = Typical // the least value, and the greatest, are there once
	defer func() { m.kind = kind }()
	k.Entries.Each(f, v, func(e schema.Entry) {
		m.fresh = true
		for n := 0; known[e.Key()] && !e.Partial && n < attempts; n++ {
			i := n % len(e.Cells)
			if other, ft := m.one(e.Fields[i], ""); ft == nil {
				*e.Cells[i] = other
			}
		}
		m.fresh = false
		known[e.Key()] = true
	})
}

// refer gives entries the values of those that they refer to, or, where those do not fit, the other way round.
func (m *maker) refer(f *schema.Field, v value.Value, k *schema.Key) {
	var targets []schema.Entry
	known := map[string]bool{}
	k.Among.Each(f, v, func(e schema.Entry) {
		if !e.Partial {
			targets = append(targets, e)
			known[e.Key()] = true
		}
	})
	n := 0
	k.Entries.Each(f, v, func(e schema.Entry) {
		if e.Partial || known[e.Key()] || len(targets) == 0 {
			return
		}
		to := targets[n%len(targets)]
		n++
		if m.take(e, to) {
			return
		}
		if m.take(to, e) {
			known[to.Key()] = true
		}
	})
}

// take gives an entry the values of another, where they fit.
func (m *maker) take(e, from schema.Entry) bool {
	for i, f := range e.Fields {
		fits := true
		one := *f
		one.Min, one.Max = 1, 1
		one.CheckField(*from.Cells[i], func(*fault.Fault) { fits = false })
		if !fits {
			return false
		}
	}
	for i := range e.Cells {
		*e.Cells[i] = *from.Cells[i]
	}
	return true
}
