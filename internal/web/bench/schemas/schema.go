// Package schemas holds the pages of a schema: its fields, samples, source, and comparing and converting it.
package schemas

import (
	"embed"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of schemas and their samples.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench/samples/:id", s.Do(b.sample))
	r.POST("/bench/samples/:id", s.Do(b.saveSample))
	r.POST("/bench/samples/:id/check", s.Do(b.checkSample))
	r.POST("/bench/samples/:id/copy", s.Do(b.copyRecord))
	r.POST("/bench/samples/:id/liven", s.Do(b.livenSample))
	r.GET("/bench/schemas/new", s.Do(b.newSchema))
	r.POST("/bench/schemas", s.Do(b.addSchema))
	r.GET("/bench/schemas/:id", s.Do(b.schema))
	r.GET("/bench/schemas/:id/convert", s.Do(b.convertSchema))
	r.POST("/bench/schemas/:id/convert", s.Do(b.keepChoices))
	r.GET("/bench/schemas/:id/source", s.Do(b.source))
	r.POST("/bench/schemas/:id/source", s.Do(b.setSource))
	r.POST("/bench/schemas/:id/source/check", s.Do(b.checkSource))
	r.GET("/bench/schemas/:id/compare", s.Do(b.compareSchema))
	r.POST("/bench/schemas/:id/field", s.Do(b.setField))
	r.POST("/bench/schemas/:id/written", s.Do(b.setWritten))
	r.POST("/bench/schemas/:id/change", s.Do(b.change))
	r.POST("/bench/schemas/:id/share", s.Do(b.share))
	r.POST("/bench/schemas/:id/takein", s.Do(b.takeIn))
	r.POST("/bench/schemas/:id/made", s.Do(b.makeSample))
	r.POST("/bench/schemas/:id/samples", s.Do(b.uploadSample))
}

var schemaView = page.Parse(files, "schema.html")

const (
	rulerLines = 8        // of a sample on the ruler
	nestedMore = 6        // lines more, where a record has several
	maxChecked = 5000     // records of a sample that are read to say whether they fit
	maxListed  = 100      // faults of a sample that are listed
	maxRows    = 250      // fields that are drawn at once
	maxJSON    = 40 << 10 // bytes of a record that are drawn as JSON
)

// schemaPage is everything that the screen of a schema shows.
type schemaPage struct {
	page.Frame
	ID, SchemaTitle   string
	Notation          *schema.Notation
	Path              string
	Draft             store.Draft
	SavedBy           string
	PartFaults        fault.List
	LeftOut           []string
	Ignored           notation.Ignored // what the sample has and the schema lacks
	Sample            string
	Samples           []string
	Bytes, Lines, Bad int
	More              bool // the sample has more records than were read
	Fields            []fieldRow
	Hidden            int // fields that are not drawn
	Find              string
	Form              *fieldForm
	Ruler             []rulerLine
	Excerpt           []excerptLine // of the sample's text, around the record at hand
	Ticks             []tick
	Cuts              []cut
	Names             []cut
	Width             int
	Nested            bool // lines of several types
	RecordName        string
	Settings          schema.Settings
	Arrangement       string       // of the elements of a record, by its content model
	EntryKeys         []schema.Key // of the message
	Head              []form.Field
	Written           []form.Field
	Line              int
	Before, After     int
	JSON              string
	JSONMore          int        // lines of it that are not drawn
	Faults            fault.List // of the record at hand
	Listed            []listedFault
	UsedBy            []project.Part
	OOB               bool

	evidence map[*schema.Field]*evidence
	where    lines
	field    string    // the selected one, as it was asked for
	record   edit.Path // whose lines the ruler cuts
}

// fieldRow is one row of the table of fields.
type fieldRow struct {
	Path, Name, Type, Occurs, Columns, Written, Must, Value string
	Evidence                                                string
	Indent                                                  int
	Record, Chosen, Bad                                     bool
	Folded                                                  bool // its fields are not drawn, since there are so many
}

type listedFault struct {
	*fault.Fault
	Line  int // the record's number
	Field string
}

// evidence is what the sample says of a field.
type evidence struct {
	seen, of, longest int
	values            infer.Evidence // of texts: what a code list may be proposed from
}

// codes are the code list that the values may be of; nil where they are none, or it has one already.
func (e *evidence) codes(f *schema.Field) (values []string) {
	if e == nil || len(f.Constraints.Codes) > 0 {
		return nil
	}
	for _, c := range e.values.Proposed() {
		values = append(values, c.Value)
	}
	return values
}

// text says the evidence in words; fitting, when there are records that do not fit and were not counted.
func (e *evidence) text(fitting bool) string {
	if e == nil || e.of == 0 {
		return ""
	}
	s := fmt.Sprintf("seen in %d of %d", e.seen, e.of)
	if fitting {
		s += " that fit"
	}
	if e.longest > 0 {
		s += fmt.Sprintf(", longest %d", e.longest)
	}
	return s
}

func (b pages) schema(c *gin.Context) error {
	d, err := b.schemaPage(c, c.Param("id"), at{line: c.Query("line"), field: c.Query("field"), sample: c.Query("sample"), find: c.Query("find"), rule: c.Query("rule")})
	if err != nil {
		return err
	}
	if page.Partial(c) {
		schemaView.Part(c, "work", d)
		return nil
	}
	schemaView.Page(c, d)
	return nil
}

// schemaOf gives the project and the schema that an address names.
func (b pages) schemaOf(c *gin.Context) (*project.Project, *schema.Schema, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, err
	}
	s := p.Schema(c.Param("id"))
	if s == nil {
		return nil, nil, store.ErrNotFound
	}
	return p, s, nil
}

// at is what of a schema is looked at. A field may be named by the line of the schema's text that says what it asks (rule), as
// faults do.
type at struct{ line, field, sample, find, rule string }

func posted(c *gin.Context) at {
	return at{line: c.PostForm("line"), field: c.PostForm("field"), sample: c.PostForm("sample"), find: c.PostForm("find")}
}

func (b pages) schemaPage(c *gin.Context, id string, at at) (*schemaPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, err
	}
	s := p.Schema(id)
	if s == nil {
		return nil, store.ErrNotFound
	}
	d := &schemaPage{
		Frame: b.Frame(c, "bench", s.Title, "↑ ↓", "choose a field", "Enter", "edit it", "[ ]", "record before, after", "N", "new field below",
			"I", "new field inside", "Shift ↑ ↓", "move the field", "Shift → ←", "into the record before, out", "Delete", "remove it", "F", "fold or unfold"),
		ID: id, SchemaTitle: s.Title, Notation: s.Notation, Settings: s.Settings, Arrangement: s.Root.ModelSaid(), EntryKeys: s.Root.Keys(), Width: s.Width(), Nested: s.Notation.Lines && s.Nested(), Path: project.Path(project.Schemas, id),
		Written: form.Fields(writtenOf(s)), Head: form.Fields(headOf(s)), LeftOut: s.NotImported, Samples: s.Samples, Sample: at.sample, Find: at.find, evidence: map[*schema.Field]*evidence{},
	}
	d.UsedBy = p.UsedBy(d.Path)
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, err
	}
	if d.SavedBy, err = b.Named(c, d.Draft.MadeBy); err != nil {
		return nil, err
	}
	for _, f := range p.Faults {
		if f.Place.Source == d.Path {
			d.PartFaults = append(d.PartFaults, f)
		}
	}
	if line, err := strconv.Atoi(at.rule); err == nil && at.field == "" {
		at.field = fieldByRule(s.Root, nil, fault.Place{Source: d.Path, Line: line})
	}
	if d.field = at.field; d.field == "" {
		d.field = "0"
	}
	d.message(p, s, at.line)
	d.choose(p, s, at.field)
	if s.Notation.Columns {
		d.marks(s)
	}
	return d, nil
}

// message reads the sample: the lines for the ruler, the faults and the evidence of all, one
// record in full; and lists the fields with that record's values.
func (d *schemaPage) message(p *project.Project, s *schema.Schema, line string) {
	d.Line, _ = strconv.Atoi(line)
	d.Line = max(d.Line, 1)
	record := value.Value{}
	if d.Sample == "" && len(s.Samples) > 0 {
		d.Sample = s.Samples[0]
	}
	if d.Sample != "" {
		text := p.Texts[project.Path(project.Samples, d.Sample)]
		d.Bytes = len(text)
		record = d.read(p, s)
		d.ruler(s, text)
		d.excerpt(s, text)
	}
	d.fields(s, record)
	if d.Line > 1 {
		d.Before = d.Line - 1
	}
	if d.Line < d.Lines {
		d.After = d.Line + 1
	}
}

func (d *schemaPage) read(p *project.Project, s *schema.Schema) value.Value {
	r, err := p.OpenSample(s, d.Sample, true, &d.Ignored)
	if err != nil {
		d.Faults = fault.List{fault.From(err, fault.Setting)}
		d.list(s, 0, d.Faults)
		d.Bad = 1
		return value.Value{}
	}
	chosen := value.Value{}
	for {
		v, err := r.Next()
		if err == io.EOF {
			return chosen
		}
		if d.Lines == maxChecked {
			d.More = true
			return chosen
		}
		d.Lines++
		var faults fault.List
		ended := err != nil && !errors.As(err, &faults)
		if ended {
			faults = fault.List{fault.From(err, fault.Syntax)}
		}
		if d.where.add(r.Place().Line, faults); faults != nil {
			d.Bad++
			d.list(s, d.Lines, faults)
		}
		if d.Lines == d.Line {
			chosen, d.Faults = v, faults
			d.JSON, d.JSONMore = cutLines(indented(v), maxJSON)
		}
		d.observe(s.Root, v)
		if ended {
			return chosen
		}
	}
}

// list keeps faults for the list of all, with the field that each is about.
func (d *schemaPage) list(s *schema.Schema, line int, faults fault.List) {
	for _, f := range faults {
		if len(d.Listed) == maxListed {
			return
		}
		d.Listed = append(d.Listed, listedFault{Fault: f, Line: line, Field: fieldByRule(s.Root, nil, f.Rule)})
	}
}

// fieldByRule finds the field that stands at a line of the part, or of the part that it is from.
func fieldByRule(f *schema.Field, path edit.Path, rule fault.Place) string {
	if rule.Line == 0 {
		return ""
	}
	for i, c := range f.Fields {
		at := append(path[:len(path):len(path)], i)
		if c.At.Line == rule.Line && c.Part() == rule.Source {
			return at.String()
		}
		if found := fieldByRule(c, at, rule); found != "" {
			return found
		}
	}
	return ""
}

// observe counts what stands in a value of a field, of one occurrence.
func (d *schemaPage) observe(f *schema.Field, v value.Value) {
	r := v.Record()
	switch {
	case f.Kind == value.ListKind:
		d.occurs(f.Each(), v)
	case f.Kind == value.VariantKind:
		if b, ft := f.Branch(v); ft == nil {
			d.occurs(b, v)
		}
	case f.Kind == value.MapKind && r != nil:
		for _, v := range r.Fields {
			d.occurs(f.Each(), v)
		}
	case f.Kind == value.RecordKind && r != nil && r.Layout == f.Layout():
		for i, c := range f.Fields {
			d.occurs(c, r.Fields[i])
		}
	case v.Kind() == value.Text && d.evidence[f] != nil:
		e := d.evidence[f]
		e.longest = max(e.longest, utf8.RuneCountInString(v.Text()))
		e.values.Value(v.Text())
	}
}

// occurs counts all that stands for a field in one place.
func (d *schemaPage) occurs(c *schema.Field, v value.Value) {
	e := d.evidence[c]
	if e == nil {
		e = &evidence{values: infer.NewEvidence()}
		d.evidence[c] = e
	}
	e.of++
	if v.Kind() == value.Absent {
		return
	}
	e.seen++
	if !c.List() {
		d.observe(c, v)
		return
	}
	for _, item := range v.Items() {
		d.observe(c, item)
	}
}

// mostLacking bounds the names that the note on fields that the schema lacks has.
const mostLacking = 5

// Lacking are the names of the fields that the sample has and the schema lacks, each once.
func (d *schemaPage) Lacking() []string { return lacking(&d.Ignored) }

// LackingText lists the first of them.
func (d *schemaPage) LackingText() string { return lackingText(&d.Ignored) }

func lacking(ignored *notation.Ignored) (names []string) {
	for _, path := range ignored.Paths() {
		if plain := schema.PlainPath(path); !slices.Contains(names, plain) {
			names = append(names, plain)
		}
	}
	return names
}

func lackingText(ignored *notation.Ignored) string {
	names := lacking(ignored)
	if len(names) > mostLacking {
		names = append(names[:mostLacking:mostLacking], "…")
	}
	return strings.Join(names, ", ")
}

// cutLines is a text as far as whole lines of it have a number of bytes, and how many lines there are more.
func cutLines(text string, most int) (string, int) {
	if len(text) <= most {
		return text, 0
	}
	end := strings.LastIndexByte(text[:most], '\n')
	return text[:max(end, 0)], strings.Count(text[max(end, 0):], "\n")
}

func indented(v value.Value) string {
	if v.Kind() == value.Absent {
		return ""
	}
	return json.Indented(v)
}

func (d *schemaPage) fields(s *schema.Schema, record value.Value) {
	bad := map[string]bool{}
	for _, f := range d.Faults {
		bad[fieldByRule(s.Root, nil, f.Rule)] = true
	}
	find := strings.ToLower(d.Find)
	n := 0
	s.Root.Walk(func([]string, *schema.Field) { n++ })
	large := n > maxRows // only the records that the selected field is in are unfolded
	var walk func(f *schema.Field, path edit.Path, v value.Value)
	walk = func(f *schema.Field, path edit.Path, v value.Value) {
		for i, c := range f.Fields {
			at := append(path[:len(path):len(path)], i)
			inner := f.Below(c, v)
			switch {
			case !strings.Contains(strings.ToLower(c.Name), find):
			case len(d.Fields) == maxRows:
				d.Hidden++
			default:
				d.Fields = append(d.Fields, d.row(c, at, inner, bad[at.String()]))
			}
			if large && c.Nests() && find == "" && !strings.HasPrefix(d.field+".", at.String()+".") {
				d.fold(c)
				continue
			}
			walk(c, at, inner)
		}
	}
	walk(s.Root, nil, record)
}

// fold leaves the fields of the record out that was drawn last.
func (d *schemaPage) fold(f *schema.Field) {
	if n := len(d.Fields); n > 0 && n < maxRows {
		d.Fields[n-1].Folded = true
	}
	f.Walk(func(path []string, _ *schema.Field) {
		if len(path) > 0 {
			d.Hidden++
		}
	})
}

func (d *schemaPage) row(f *schema.Field, at edit.Path, v value.Value, bad bool) fieldRow {
	row := fieldRow{
		Path: at.String(), Name: f.Name, Type: f.Kind.String(), Occurs: f.Occurs(), Must: f.Constraints.Text(), Written: howWritten(f),
		Columns: strings.ReplaceAll(f.WireFormat.Columns(), "-", "–"), Indent: len(at) - 1, Record: f.Nests(), Bad: bad,
		Evidence: d.evidence[f].text(d.Bad > 0),
	}
	if row.Occurs == "1" {
		row.Occurs = ""
	}
	switch {
	case f.ToldBy != "":
		row.Must = "told by " + f.ToldBy
	case row.Must == "":
		row.Must = strings.TrimPrefix(f.ModelSaid()+keysOf(f), " · ")
	}
	switch {
	case f.Kind == value.RecordKind && !f.List():
	case row.Record || f.List():
		row.Value = f.Summary(v)
	case f.Kind == value.AnyKind:
		row.Value = json.Text(v)
	default:
		row.Value = v.String()
	}
	return row
}

// keysOf are the keys of a record, as they stand behind what else is said of it.
func keysOf(f *schema.Field) (text string) {
	for _, k := range f.Keys() {
		text += " · " + k.Text()
	}
	return text
}

func howWritten(f *schema.Field) string {
	w := f.WireFormat
	switch {
	case w.Pattern != "":
		return w.Pattern
	case w.ImpliedDecimals > 0:
		return base.Count(w.ImpliedDecimals, "implied place")
	case w.Attribute:
		return "attribute"
	case w.Content:
		return "the element's text"
	case f.Of != "":
		return "of " + f.Of
	case w.StartsWith != "":
		return "lines begin with " + w.StartsWith
	case w.Discriminator != "":
		return "marks its lines: " + w.Discriminator
	case w.From == 0:
		return ""
	case f.Kind.Numeric() && w.Padding == '0':
		return "zero filled"
	}
	return w.Align + ", filled with " + strings.ReplaceAll(string(w.Padding), " ", "spaces")
}

// fieldForm is the selected field with its settings.
type fieldForm struct {
	Path, Name string
	Values     edit.Settings
	Settings   []form.Field
	Evidence   string
	Codes      []string      // that are proposed
	Share      bool          // a record with fields of its own that others could take
	Of         *project.Part // the schema that describes the field, when it is another
	Faults     fault.List
}

// headOf is what a schema has beside the settings of its notation.
func headOf(s *schema.Schema) setting.Values {
	list := setting.List{
		{Name: "title", Label: "Title", Type: setting.Text, Wide: true},
		{Name: "notation", Label: "Notation", Type: setting.Choice, Choices: schema.NotationNames(), Redraw: true},
	}
	if s.Root.Kind == value.RecordKind && (s.Notation.Tree || s.Nested()) {
		list = append(list, schema.MessageKeysSetting)
	}
	return list.Chosen(edit.ReadSchema(s))
}

// writtenOf are the settings of how messages of a schema are written.
func writtenOf(s *schema.Schema) setting.Values {
	return s.Notation.Settings.Chosen(edit.ReadSchema(s))
}

// valuesOf are the settings of a field with their values.
func valuesOf(s *schema.Schema, f *schema.Field) setting.Values {
	chosen := edit.Read(f)
	switch {
	case f.WireFormat.Attribute:
		chosen["place"] = schema.Places[1]
	case f.WireFormat.Content:
		chosen["place"] = schema.Places[2]
	}
	return s.FieldSettings(f).Chosen(chosen)
}

func (d *schemaPage) choose(p *project.Project, s *schema.Schema, field string) {
	at, ok := edit.ParsePath(field)
	if !ok || edit.Field(s, at) == nil {
		at = edit.Path{0}
	}
	f := edit.Field(s, at)
	if f == nil {
		return
	}
	for i := range d.Fields {
		d.Fields[i].Chosen = d.Fields[i].Path == at.String()
	}
	record := f.Kind == value.RecordKind
	d.Form = &fieldForm{
		Path: at.String(), Name: f.Name, Values: edit.Read(f), Settings: form.Fields(valuesOf(s, f)), Evidence: d.evidence[f].text(d.Bad > 0), Codes: d.evidence[f].codes(f),
		Share: record && f.Of == "" && !s.Notation.Lines && len(f.Fields) > 0,
	}
	for _, part := range p.Parts(project.Schemas) {
		if f.Source == part.Path {
			d.Form.Of = &part
		}
	}
	for i := range d.Form.Settings {
		if set := &d.Form.Settings[i]; set.Type == setting.Part {
			set.Options = form.Parts(p, set.Setting, set.Value, func(id string) bool { return id != s.ID })
		}
	}
	next := lineAfter(s, f)
	for _, ft := range d.PartFaults {
		if f.Source == "" && ft.Place.Line >= f.At.Line && ft.Place.Line < next {
			d.Form.Faults = append(d.Form.Faults, ft)
		}
	}
}

// lineAfter is the line of the part at which the field behind a field begins.
func lineAfter(s *schema.Schema, f *schema.Field) int {
	after := 1 << 30
	s.Root.Walk(func(path []string, c *schema.Field) {
		if len(path) > 0 && c.Source == "" && c.At.Line > f.At.Line {
			after = min(after, c.At.Line)
		}
	})
	return after
}

// treeOps are the changes of the tree: key, change, what the button says, and its explanation.
var treeOps = []string{
	"n,after,New,new field below (N)", "i,inside,Inside,new field inside (I)", "c,copy,Copy,copy the field (C)", "Delete,remove,Remove,remove the field (Delete)",
	"Shift+ArrowUp,up,↑,move up (Shift ↑)", "Shift+ArrowDown,down,↓,move down (Shift ↓)",
	"Shift+ArrowLeft,out,←,move out of its record (Shift ←)", "Shift+ArrowRight,in,→,move into the record before (Shift →)",
}

// Ops are the changes that fit the notation: columns are cut on the ruler, rows have no records inside.
func (d *schemaPage) Ops() []string {
	switch {
	case d.Form == nil:
		return nil
	case d.Notation.Columns && d.Nested:
		return treeOps[3:]
	case d.Notation.Columns:
		return treeOps[3:4]
	case d.Notation.Lines && d.Nested:
		return treeOps
	case !d.Notation.Tree:
		return append(append([]string{}, treeOps[0]), treeOps[2:6]...)
	}
	return treeOps
}

// FieldPath is the path of the selected field; empty when there is none.
func (d *schemaPage) FieldPath() string {
	if d.Form == nil {
		return ""
	}
	return d.Form.Path
}
