package infer

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Sample is one message from which a schema is inferred.
type Sample struct {
	Name    string
	Content []byte
}

// From infers the schema of messages in one notation. It reads them whole. The error is a
// *fault.Fault with the place where a sample cannot be read.
func From(id, title string, as *notation.Kind, samples ...Sample) (*Result, error) {
	if len(samples) == 0 {
		return nil, fault.New(fault.Required, "there is no sample")
	}
	settings := Settings(samples[0].Content, as.Notation)
	plain, err := reading(id, as.Notation, settings, samples[0].Content)
	if err != nil {
		return nil, err
	}
	o, err := observed(as, plain, nil, false, samples)
	if err != nil {
		return nil, err
	}
	whole := o.lists && o.alone && o.root.holdsLists()
	if splits := o.candidates(); whole || len(splits) > 0 {
		if o, err = observed(as, plain, splits, whole, samples); err != nil {
			return nil, err
		}
	}
	if o.Messages() == 0 && o.lists && as.Document {
		root := newField(id) // of anything: nothing is known of what stands in the list
		root.Kind = value.AnyKind
		return &Result{Schema: &schema.Schema{ID: id, Title: title, Notation: as.Notation, Message: schema.Occurs{Max: schema.Many}, Root: root.Compiled()}}, nil
	}
	if o.Messages() == 0 {
		return nil, fault.Expect(fault.Required, "at least one record", "an empty sample").At(fault.Place{Source: samples[0].Name, Line: 1, Column: 1})
	}
	r := o.Schema(id, title)
	if plain != nil {
		r.Schema.Settings = settings
		r.Schema.Settings.Characters, r.Schema.Settings.Lines = plain.Settings.Characters, plain.Settings.Lines
		r.written(r.Schema.Root, plain.Root, nil)
	}
	if o.lists && !o.whole && holdsLists(r.Schema.Root) {
		r.Schema.Message = schema.Occurs{Max: schema.Many}
	}
	r.Schema.Root.Compiled()
	return r, nil
}

// observed goes through all samples; whole says that a document that is a list is one message.
func observed(as *notation.Kind, plain *schema.Schema, splits map[string]string, whole bool, samples []Sample) (*Observer, error) {
	o := New(as.Notation)
	o.whole = whole
	if o.splits = splits; splits[""] != "" {
		o.root.split = &telling{by: splits[""], nodes: map[string]*node{}}
	}
	for _, s := range samples {
		if err := o.read(as, s, plain); err != nil {
			return nil, err
		}
	}
	return o, nil
}

// reading is the schema by which the samples are read: every field a text, for the notations that
// do not name their fields by themselves.
func reading(id string, as *schema.Notation, settings schema.Settings, sample []byte) (*schema.Schema, error) {
	s := &schema.Schema{ID: id, Notation: as, Settings: settings}
	ls := lines([]byte(Text(sample)))
	var fields []*schema.Field
	var types *kind
	if as.Columns || as.Cells && !settings.Header {
		types = kinds(ls, settings, as)
	}
	switch {
	case types != nil:
		fields = types.fields(as, settings)
		if s.Settings.LineEnd = "any"; as.Columns {
			s.Settings.Lines.StartsWith = types.key
			s.Settings.Characters = settings.Encoding == "UTF-8" && !ascii(sample) && !sameBytes(ls)
		}
	case as.Cells:
		for i, name := range split(ls[0], settings.Delimiter, settings.Quote) {
			if !settings.Header {
				name = fmt.Sprintf("field_%d", i+1)
			}
			fields = append(fields, textField(name))
		}
	case as.Columns:
		s.Settings.Characters = settings.Encoding == "UTF-8" && !ascii(sample) && !sameBytes(ls)
		for i, c := range Columns(widened(s, ls)) {
			f := textField(fmt.Sprintf("field_%d", i+1))
			f.WireFormat.From, f.WireFormat.To = c[0]+1, c[1]
			fields = append(fields, f)
		}
		s.Settings.LineEnd = "any"
	default:
		return nil, nil
	}
	if len(fields) == 0 {
		return nil, fault.Expect(fault.Required, "at least one record", "an empty sample")
	}
	s.Root = (&schema.Field{Name: id, Kind: value.RecordKind, Min: 1, Max: 1, Fields: fields, WireFormat: schema.WireFormat{StartsWith: s.Settings.Lines.StartsWith}}).Compiled()
	return s, nil
}

// sameBytes says whether lines are equally long in bytes, and not in characters: then columns are bytes.
func sameBytes(lines []string) bool {
	bytes, characters := true, true
	for _, l := range lines {
		bytes = bytes && len(l) == len(lines[0])
		characters = characters && utf8.RuneCountInString(l) == utf8.RuneCountInString(lines[0])
	}
	return len(lines) > 1 && bytes && !characters
}

// widened are lines whose characters stand for the columns that they take.
func widened(s *schema.Schema, lines []string) []string {
	wide := make([]string, len(lines))
	for i, l := range lines {
		var b strings.Builder
		for _, c := range s.Cells(l) {
			b.WriteString(cmp.Or(c, "x")) // more of the character before it
		}
		wide[i] = b.String()
	}
	return wide
}

func textField(name string) *schema.Field {
	return &schema.Field{Name: name, Kind: value.Text, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
}

func ascii(b []byte) bool {
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

func (o *Observer) read(n *notation.Kind, s Sample, plain *schema.Schema) error {
	r, err := n.NewReader(bytes.NewReader(s.Content), notation.Options{Source: s.Name, Schema: plain, MaxRecord: len(s.Content) + 1})
	if err != nil {
		return err
	}
	var list []value.Value
	for {
		v, err := r.Next()
		var faults fault.List
		switch {
		case err == io.EOF && o.whole && r.Many():
			o.Add(value.ListOf(list...))
			return nil
		case err == io.EOF:
			o.lists = o.lists || n.Types && r.Many()
			return nil
		case errors.As(err, &faults):
			continue // a line of another kind; the check will show it
		case err != nil:
			return err
		}
		if o.whole && r.Many() {
			list = append(list, v)
			continue
		}
		o.Add(v)
		o.lists, o.alone = o.lists || n.Types && r.Many(), o.alone || !r.Many()
	}
}

// holdsLists says whether a message can be a list by itself.
func holdsLists(f *schema.Field) bool {
	switch f.Kind {
	case value.ListKind, value.AnyKind:
		return true
	case value.VariantKind:
		return slices.ContainsFunc(f.Fields, func(b *schema.Field) bool { return b.List() || holdsLists(b) })
	}
	return false
}

// written gives the inferred fields the places and marks by which they were read. A number keeps
// its zeros in front by standing in all of its columns.
func (r *Result) written(to, plain *schema.Field, path []string) {
	for i, f := range plain.Fields {
		at := slices.IndexFunc(to.Fields, func(g *schema.Field) bool { return g.Name == f.Name })
		inside := append(path[:len(path):len(path)], f.Name)
		if at < 0 { // blank in every line
			blank := textField(f.Name)
			blank.Min = 0
			to.Fields = append(to.Fields, blank)
			at = len(to.Fields) - 1
			r.Fields = append(r.Fields, Field{Path: inside})
		}
		g := to.Fields[at]
		w, read := &g.WireFormat, &f.WireFormat
		w.From, w.To, w.StartsWith, w.Discriminator = read.From, read.To, read.StartsWith, read.Discriminator
		if f.Kind == value.RecordKind {
			g.Min, g.Max = f.Min, f.Max
			r.written(g, f, inside)
		}
		to.Fields = slices.Insert(slices.Delete(to.Fields, at, at+1), min(i, len(to.Fields)-1), g)
	}
}

// Said is the evidence in a sentence: seen in 48 of 48, longest 31.
func (e *Evidence) Said() string {
	parts := []string{fmt.Sprintf("seen in %d of %d", e.Seen, e.Of)}
	if e.List {
		parts = append(parts, fmt.Sprintf("at most %d times", e.Most))
	}
	if e.Empty > 0 {
		parts = append(parts, fmt.Sprintf("%d empty", e.Empty))
	}
	if e.Nulls > 0 {
		parts = append(parts, fmt.Sprintf("%d null", e.Nulls))
	}
	if e.Longest > 0 {
		parts = append(parts, fmt.Sprintf("longest %d", e.Longest))
	}
	if e.Least.Kind() != value.Absent {
		parts = append(parts, e.Least.String()+" to "+e.Greatest.String())
	}
	if len(e.Mixed) > 0 {
		parts = append(parts, "both "+strings.Join(e.Mixed, " and "))
	}
	if e.Unfit > 0 {
		parts = append(parts, fmt.Sprintf("%d of %d fit, record %d does not", e.Values-e.Unfit, e.Values, e.Unfits))
	}
	if codes := e.Proposed(); codes != nil {
		values := make([]string, len(codes))
		for i, c := range codes {
			values[i] = c.Value
		}
		return strings.Join(append(parts, "perhaps a code list: "+strings.Join(values, " · ")), ", ")
	}
	if n := len(e.Codes); n > 0 && n < e.Values {
		parts = append(parts, fmt.Sprintf("%d different", n))
	}
	return strings.Join(parts, ", ")
}
