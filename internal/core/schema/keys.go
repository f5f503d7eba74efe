package schema

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// Key says of entries below a record that no two of them have the same values, or that their values are those of other entries
// (XML Schema 1.0, part 1, section 3.11). Keys are immutable.
type Key struct {
	Name    string
	Entries Keyed
	Partial bool   // an entry that lacks one of the values is passed over; otherwise it is a fault
	Among   *Keyed // the entries whose values those of Entries must be; nil where the values of Entries must differ
	text    string
	at      partfile.Text
}

// Keyed are entries below a record, and the values of each by which it is known.
type Keyed struct {
	Of []KeyPath   // alternatives
	By [][]KeyPath // of each value its alternatives
}

// KeyPath leads down from a field, through lists, maps and branches, each by the name of its field. An empty one stays.
type KeyPath []*Field

// Keys are the keys of a record.
func (f *Field) Keys() []Key { return f.keys }

// HasKeys says whether the field, or one below it, has keys.
func (f *Field) HasKeys() (has bool) {
	f.Walk(func(_ []string, c *Field) { has = has || len(c.keys) > 0 })
	return has
}

// SetKeys gives a record that is made by hand its keys.
func (f *Field) SetKeys(keys []Key) {
	f.keys, f.keyTexts = keys, nil
	for _, k := range keys {
		f.keyTexts = append(f.keyTexts, keyText{name: partfile.Text{Value: k.Name}, is: partfile.Text{Value: k.Text()}})
	}
}

// KeyTexts are the record's keys as a part says them: the names, and what each is.
func (f *Field) KeyTexts() (o partfile.Ordered) {
	for _, k := range f.keyTexts {
		o = append(o, partfile.Entry{Key: k.name.Value, Value: partfile.Text{Value: k.is.Value}})
	}
	return o
}

// Text is the key as a part has it: "songs/song by id", "songs/song by code if present", "plays/play by song among songs/song by id".
func (k Key) Text() string {
	if k.text != "" {
		return k.text
	}
	s := k.Entries.text()
	if k.Partial && k.Among == nil {
		s += " if present"
	}
	if k.Among != nil {
		s += " among " + k.Among.text()
	}
	return s
}

func (e *Keyed) text() string {
	values := make([]string, len(e.By))
	for i, by := range e.By {
		values[i] = pathsText(by)
	}
	return pathsText(e.Of) + " by " + strings.Join(values, ", ")
}

func pathsText(paths []KeyPath) string {
	texts := make([]string, len(paths))
	for i, p := range paths {
		texts[i] = p.Text()
	}
	return strings.Join(texts, " | ")
}

// Text is the path as a key has it.
func (p KeyPath) Text() string {
	if len(p) == 0 {
		return "."
	}
	names := make([]string, len(p))
	for i, f := range p {
		names[i] = keyName(f.Name)
	}
	return strings.Join(names, "/")
}

// keyWords are words of keys; a field of such a name is quoted.
var keyWords = map[string]bool{"by": true, "among": true, "if": true, ".": true}

func keyName(name string) string {
	if keyWords[name] {
		return strconv.Quote(name)
	}
	return modelName(name)
}

// checkKeys compares what stands below a record with its keys.
func (f *Field) checkKeys(v value.Value, path string, report func(*fault.Fault)) {
	if len(f.keys) == 0 {
		return
	}
	f.CheckKeys(v, func(ft *fault.Fault, _ *value.Record) {
		ft.Place.Path = path + ft.Place.Path
		report(ft)
	})
}

// CheckKeys compares what stands below a record with its keys. The faults' paths begin at the record; with each comes the innermost
// record in which the entry stands.
func (f *Field) CheckKeys(v value.Value, report func(ft *fault.Fault, in *value.Record)) {
	for i := range f.keys {
		k := &f.keys[i]
		known := map[string]bool{}
		if k.Among != nil {
			k.Among.Each(f, v, func(e Entry) {
				if e.fault == nil && !e.Partial {
					known[e.Key()] = true
				}
			})
		}
		k.Entries.Each(f, v, func(e Entry) {
			ft := k.fault(e, known)
			if k.Among == nil {
				known[e.Key()] = true
			}
			if ft != nil {
				ft.Rule = fault.Place{Source: f.Part(), Line: k.at.Line, Column: k.at.Column}
				report(ft.At(fault.Place{Path: e.path}), e.in)
			}
		})
	}
}

// fault says what is wrong with an entry, when the keys of others are known.
func (k *Key) fault(e Entry, known map[string]bool) *fault.Fault {
	switch {
	case e.fault != nil:
		return e.fault
	case e.Partial && !k.Partial:
		return fault.Expect(fault.Required, "all values of the key "+k.Name, "one that is missing")
	case e.Partial:
		return nil
	case k.Among != nil && !known[e.Key()]:
		return fault.Expect(fault.Unknown, "one of "+k.Among.text(), e.told())
	case k.Among == nil && known[e.Key()]:
		return fault.Expect(fault.Setting, "values of "+k.Name+" that differ", e.told()+" again")
	}
	return nil
}

// Entry is an entry with the values by which it is known.
type Entry struct {
	Cells   []*value.Value // where the values stand
	Fields  []*Field       // and their fields
	Partial bool           // a value is missing
	fault   *fault.Fault
	path    string
	in      *value.Record
}

// Key tells the entry from those with other values.
func (e *Entry) Key() string {
	var b strings.Builder
	for _, c := range e.Cells {
		key, _ := value.Key(*c)
		b.WriteString(strconv.Itoa(len(key)) + ":" + key)
	}
	return b.String()
}

func (e *Entry) told() string {
	told := make([]string, len(e.Cells))
	for i, c := range e.Cells {
		told[i] = fault.Quote(c.String())
	}
	return strings.Join(told, ", ")
}

// Each visits all entries below a record.
func (k *Keyed) Each(record *Field, v value.Value, visit func(Entry)) {
	for _, of := range k.Of {
		w := walker{}
		w.down(record, &v, of, func(at *Field, cell *value.Value) {
			e := Entry{path: w.text(), in: w.in}
			for _, by := range k.By {
				k.value(&e, at, cell, by)
			}
			visit(e)
		})
	}
}

// value adds to an entry one of the values by which it is known.
func (k *Keyed) value(e *Entry, at *Field, cell *value.Value, by []KeyPath) {
	found := 0
	for _, path := range by {
		inner := walker{}
		inner.down(at, cell, path, func(f *Field, c *value.Value) {
			if _, single := value.Key(*c); single && !c.IsMissing() {
				found++
				e.Cells, e.Fields = append(e.Cells, c), append(e.Fields, f)
			}
		})
	}
	if e.Partial = e.Partial || found == 0; found > 1 {
		e.fault = fault.Expect(fault.Setting, "one value of "+pathsText(by), count(found, "value"))
	}
}

// walker goes down a path and knows where it is.
type walker struct {
	tokens []string
	in     *value.Record
}

func (w *walker) text() string {
	var b strings.Builder
	for _, t := range w.tokens {
		b.WriteString("/" + Escape(t))
	}
	return b.String()
}

// at goes one step down, and back again.
func (w *walker) at(token string, visit func()) {
	w.tokens = append(w.tokens, token)
	visit()
	w.tokens = w.tokens[:len(w.tokens)-1]
}

// down visits all that a path leads to from one occurrence of a field.
func (w *walker) down(f *Field, v *value.Value, path KeyPath, visit func(*Field, *value.Value)) {
	r := v.Record()
	if r != nil && f.Kind != value.VariantKind {
		before := w.in
		w.in = r
		defer func() { w.in = before }()
	}
	if len(path) == 0 {
		visit(f, v)
		return
	}
	c, rest := path[0], path[1:]
	switch {
	case f.Kind == value.ListKind:
		w.each(c, v, rest, visit)
	case f.Kind == value.VariantKind:
		if b, ft := f.Branch(*v); ft == nil && b.Name == c.Name {
			w.each(c, v, rest, visit)
		}
	case r == nil:
	case f.Kind == value.MapKind:
		for i, name := range r.Layout.Names {
			w.at(name, func() { w.each(c, &r.Fields[i], rest, visit) })
		}
	default:
		if i := r.Layout.Slot(c.Name); i >= 0 && !r.Fields[i].IsMissing() {
			w.at(c.Name, func() { w.each(c, &r.Fields[i], rest, visit) })
		}
	}
}

// each visits what a path leads to from all occurrences of a field.
func (w *walker) each(f *Field, v *value.Value, path KeyPath, visit func(*Field, *value.Value)) {
	if !f.List() || v.Kind() != value.ListKind {
		if !v.IsMissing() {
			w.down(f, v, path, visit)
		}
		return
	}
	items := v.Items()
	for i := range items {
		w.at(strconv.Itoa(i), func() { w.down(f, &items[i], path, visit) })
	}
}
