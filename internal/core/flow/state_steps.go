package flow

import (
	"context"
	"maps"
	"slices"
	"time"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/table"
	"hollowreed/internal/core/value"
)

var cachedKind = &Kind{
	Name: "cached", Title: "Cache a response", Group: Way, Lasting: true, About: "Does its steps, and remembers under a key what they come to: for a time they are not done again for that key.",
	Begin:  func(Offering) doc.Out { return yields("known", doc.Entry{Key: "for", Value: "3600"}) },
	Tracks: []TrackKind{{Key: "steps", Title: "Unless it is known"}},
	Settings: setting.List{
		{Name: "key", Label: "Key", Type: setting.Formula, Required: true},
		{Name: "keep", Label: "What is remembered", Type: setting.Formula, Required: true, Help: "A formula over what the steps inside yield"},
		{Name: "for", Label: "For (seconds)", Type: setting.Decimal, Default: "3600"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "known"},
		onFault,
	},
	Detail:  func(s *Step) string { return "by " + s.Setting("key") + " · " + s.Setting("for") + " s" },
	compile: compileCached,
}

// cached is a step that remembers what the steps inside it come to.
type cached struct {
	step      *Step
	key, keep *formula.Program
	steps     []*PlannedStep
	kept      Kept
	slot      int
	space     string
	during    time.Duration
}

func compileCached(c *compiler, s *Step) runner {
	a := &cached{step: s, key: c.formula(s.place("key")), space: "answers/" + c.flow.ID + "/" + s.ID, during: time.Duration(s.number("for") * float64(time.Second))}
	c.within(func() {
		a.steps = c.track(s.Tracks[0])
		a.keep = c.formula(s.place("keep"))
	})
	t := formula.Type{}
	if a.keep != nil {
		t = a.keep.Type
	}
	a.slot = c.yield(s, "as", namedOf(t), t)
	a.kept = keptOf(*c.cur.Result)
	if a.key == nil || a.keep == nil {
		return pass
	}
	return a.run
}

func (a *cached) run(ctx context.Context, b *Batch, items []*Item) error {
	of, byKey := map[*Item]string{}, map[string][]*Item{}
	for _, it := range items {
		if key, ok := it.text(a.step, a.key); ok {
			of[it], byKey[key] = key, append(byKey[key], it)
		}
	}
	if len(of) == 0 {
		return nil
	}
	known, err := b.Runtime.Get(ctx, a.space, slices.Sorted(maps.Keys(byKey)))
	if err != nil {
		return err
	}
	var first []*Item // of each key that is not known: the others take what it comes to
	for _, it := range items {
		key, there := of[it]
		text, hit := known[key]
		switch {
		case !there:
		case hit:
			it.Frame.Slots[a.slot] = a.kept.Read(text)
		case byKey[key][0] == it:
			first = append(first, it)
		}
	}
	return a.fill(ctx, b, first, of, byKey)
}

// fill does the steps for one item of each key, remembers what they come to and gives it to the others. Where they do
// not come through for the first of a key, the next one of it does them.
func (a *cached) fill(ctx context.Context, b *Batch, first []*Item, of map[*Item]string, byKey map[string][]*Item) error {
	if len(first) == 0 {
		return nil
	}
	live, err := b.pass(ctx, a.steps, append([]*Item(nil), first...))
	if err != nil {
		return err
	}
	var notes []StateEntry
	for _, it := range live {
		it.Frame.Reset()
		v, f := a.keep.Eval(&it.Frame)
		if f != nil {
			it.aside(a.step.ID, f.In(a.step.Name))
			continue
		}
		notes = append(notes, StateEntry{Key: of[it], Text: a.kept.Write(v), Until: b.Runtime.Now().Add(a.during)})
		for _, other := range byKey[of[it]] {
			other.Frame.Slots[a.slot] = v
		}
	}
	if len(notes) > 0 {
		if err := b.Runtime.Put(ctx, a.space, notes); err != nil {
			return err
		}
	}
	var next []*Item
	for _, it := range first {
		if key := of[it]; it.State != Live && len(byKey[key]) > 1 {
			byKey[key] = byKey[key][1:]
			next = append(next, byKey[key][0])
		}
	}
	return a.fill(ctx, b, next, of, byKey)
}

// tableSpace is where the rows of a table stand that flows have changed. An empty text is a row that was taken away.
func tableSpace(id string) string { return "table/" + id }

// TableSpace names where changed rows of a table are remembered.
func TableSpace(id string) string { return tableSpace(id) }

const lookUpName = "look up"

var lookUpKind = &Kind{
	Name: lookUpName, Title: "Look up in a table", Group: Shape, About: "Gets a row of a table of the project by its key, with what flows have changed in it since.",
	Begin: func(o Offering) doc.Out { return yields("row", o.Table("match")...) },
	Settings: setting.List{
		{Name: "table", Label: "Table", Type: setting.Part, Of: "table", Required: true},
		{Name: "match", Label: "Where", Type: setting.Pairs, Free: true, Required: true, Help: "The key columns and the formulas that they must equal"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "row"},
		{Name: "none", Label: "When there is no such row", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}},
		onFault,
	},
	Detail:  func(s *Step) string { return "1 row of " + s.Setting("table") },
	compile: compileLookUp,
}

// keyed are the key columns of a table with their formulas.
type keyed struct {
	t     *table.Table
	progs []*formula.Program
}

// key is the text under which a row is remembered.
func (k keyed) key(s *Step, it *Item) (key string, keys []value.Value, ok bool) {
	for i, prog := range k.progs {
		it.Frame.Reset()
		v, f := prog.Eval(&it.Frame)
		if f == nil && v.Missing() {
			f = fault.Expect(fault.Required, k.t.Keys[i].Kind.String(), v.Kind().String())
		}
		if f != nil {
			it.aside(s.ID, f.In(k.t.Keys[i].Name))
			return "", nil, false
		}
		keys = append(keys, fitted(v, k.t.Keys[i]))
	}
	return table.Key(keys), keys, true
}

// table finds the table of a step, and compiles the formulas for its columns: all those that are keys must have one.
func (c *compiler) table(s *Step) (t *table.Table, progs map[string]*formula.Program) {
	id := s.Setting("table")
	t = c.parts.Formulas().Table(id)
	if t == nil {
		if id != "" {
			c.fault(s.place("table"), fault.New(fault.Unknown, "there is no table %q", id))
		}
		return nil, nil
	}
	c.cur.Columns = rowOf(t)
	if s.Kind == lookUpName {
		c.cur.Columns = keyRecord(t)
	}
	progs = map[string]*formula.Program{}
	for _, m := range s.Match {
		f := t.Row.Field(m.Name.Value)
		if f == nil {
			c.fault(m.Name, fault.New(fault.Unknown, "the table %s has no column %q", t.Title, m.Name.Value))
			continue
		}
		if progs[f.Name] = c.want(m.Formula, f.Kind, f.Kind.String()+" for "+f.Name); progs[f.Name] == nil {
			return nil, nil
		}
	}
	for _, f := range t.Keys {
		if progs[f.Name] == nil {
			c.fault(s.At, fault.New(fault.Required, "the key column %s has no formula", f.Name))
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

func rowOf(t *table.Table) *schema.Schema {
	return &schema.Schema{ID: t.ID, Title: t.Title, Notation: json.Kind.Notation, Root: t.Row}
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

func compileLookUp(c *compiler, s *Step) runner {
	t, progs := c.table(s)
	if t == nil {
		return pass
	}
	slot := c.define(s, "as", rowOf(t))
	k, kept := keysOf(t, progs), keptOf(*c.cur.Result)
	return func(ctx context.Context, b *Batch, items []*Item) error {
		asked := map[string][]value.Value{}
		of := map[*Item]string{}
		for _, it := range items {
			if key, keys, ok := k.key(s, it); ok {
				asked[key], of[it] = keys, key
			}
		}
		if len(asked) == 0 {
			return nil
		}
		changed, err := b.Runtime.Get(ctx, tableSpace(t.ID), slices.Sorted(maps.Keys(asked)))
		if err != nil {
			return err
		}
		for _, it := range items {
			key, there := of[it]
			if !there {
				continue
			}
			row, f := rowUnder(t, kept, changed, key, asked[key])
			lookedUp(s, t, it, slot, row, f, asked[key])
		}
		return nil
	}
}

// Changed is a row of a table as a flow has changed it; gone where it was taken away.
type Changed struct {
	Key  string
	Row  value.Value
	Gone bool
}

// ReadChanged reads what is remembered of a table's row.
func ReadChanged(t *table.Table, key, text string) Changed {
	if text == "" {
		return Changed{Key: key, Gone: true}
	}
	return Changed{Key: key, Row: keptOf(recordOf("row", rowOf(t), 0)).Read(text)}
}

// rowUnder is the row with a key: as a flow has changed it, or as the table has it.
func rowUnder(t *table.Table, kept Kept, changed map[string]string, key string, keys []value.Value) (value.Value, *fault.Fault) {
	switch text, there := changed[key]; {
	case there && text != "":
		return kept.Read(text), nil
	case there || !t.Has(keys) && t.None == table.Fault:
		return value.Value{}, nil
	}
	return t.Find(keys)
}

func lookedUp(s *Step, t *table.Table, it *Item, slot int, row value.Value, f *fault.Fault, keys []value.Value) {
	none := "no row of " + t.Title + " with " + t.Told(keys)
	switch {
	case f != nil:
		it.aside(s.ID, f.In(s.Name))
	case row.Kind() != value.Absent:
		it.Frame.Slots[slot] = row
	case s.Setting("none") == "skip":
		it.leave(s.ID, none)
	case s.Setting("none") == "set aside":
		it.aside(s.ID, fault.Expect(fault.NotFound, "a row of "+t.Title, none).In(s.Name).Mended("Add the row, or mend the record's key"))
	}
}

var changeKind = &Kind{
	Name: "change", Title: "Update a table", Group: Shape, Lasting: true, About: "Sets a row of a table of the project, or takes it away. Look up in a table sees it at once; formulas see the table as it was released.",
	Begin: func(o Offering) doc.Out { return o.Table("row") },
	Settings: setting.List{
		{Name: "table", Label: "Table", Type: setting.Part, Of: "table", Required: true},
		{Name: "do", Label: "Do", Type: setting.Choice, Default: "set the row", Choices: []string{"set the row", "take it away"}},
		{Name: "row", Label: "Columns", Type: setting.Pairs, Free: true, Required: true, Help: "The columns and their formulas; those of the key must be there"},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("do") + " · " + s.Setting("table") },
	compile: compileChange,
}

func compileChange(c *compiler, s *Step) runner {
	t, progs := c.table(s)
	if t == nil {
		return pass
	}
	k, kept := keysOf(t, progs), keptOf(recordOf("row", rowOf(t), 0))
	gone := s.Setting("do") == "take it away"
	return func(ctx context.Context, b *Batch, items []*Item) error {
		notes := map[string]StateEntry{}
		for _, it := range items {
			key, _, ok := k.key(s, it)
			if !ok {
				continue
			}
			text := ""
			if !gone {
				row, f := filledRow(t, progs, it)
				if f != nil {
					it.aside(s.ID, f)
					continue
				}
				text = kept.Write(row)
			}
			notes[key] = StateEntry{Key: key, Text: text} // of several for one key the last one stays
		}
		if len(notes) == 0 {
			return nil
		}
		return b.Runtime.Put(ctx, tableSpace(t.ID), slices.Collect(maps.Values(notes)))
	}
}

// filledRow makes a row of the formulas for its columns.
func filledRow(t *table.Table, progs map[string]*formula.Program, it *Item) (value.Value, *fault.Fault) {
	fields := make([]value.Value, len(t.Row.Fields))
	for i, f := range t.Row.Fields {
		if progs[f.Name] == nil {
			continue
		}
		it.Frame.Reset()
		v, ft := progs[f.Name].Eval(&it.Frame)
		if ft != nil {
			return v, ft.In(f.Name)
		}
		fields[i] = fitted(v, f)
	}
	return value.Rec(t.Row.Shape(), fields), nil
}
