// Package json reads and writes JSON (RFC 8259) and newline-delimited JSON. Numbers keep every
// digit of their text; names that stand twice in an object are refused, since one of them would
// be lost.
package json

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/blockreader"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// maxShapes bounds the remembered shapes of objects that no schema describes.
const maxShapes = 1000

// decoder turns tokens into values.
type decoder struct {
	dec     *jsontext.Decoder
	shapes  map[string]*value.Layout
	check   bool
	ignored *notation.Ignored
	faults  fault.List
	at      int64  // where the text of the decoder begins in the message: that of a variant is read by itself
	under   string // and its path
}

type reader struct {
	decoder
	lines *lineCounter
	name  string
	root  *schema.Field
	list  schema.Occurs // how many records there must be
	many  bool
	begun bool
	ended bool
	n     int
	place fault.Place
}

// NewReader reads one JSON document. The elements of an outermost array are its records.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	lc := &lineCounter{r: r, line: 1}
	j := &reader{lines: lc, name: o.Source}
	j.dec = jsontext.NewDecoder(lc)
	j.shapes, j.ignored = map[string]*value.Layout{}, o.Ignored
	lc.limit = o.Limit()
	if o.Schema != nil {
		j.root, j.list, j.check = o.Schema.Root, o.Schema.Message, o.Check
	}
	return j, nil
}

func (j *reader) Many() bool         { return j.many }
func (j *reader) Place() fault.Place { return j.place }
func (j *reader) Raw() string        { return "" }

func (j *reader) Next() (value.Value, error) {
	if !j.begun {
		return j.first()
	}
	if !j.many || j.ended || j.dec.PeekKind() == ']' {
		return value.Value{}, j.end()
	}
	j.n++
	return j.value()
}

// end ends the document, once the number of its records is checked.
func (j *reader) end() error {
	if j.ended || !j.many {
		return j.finish()
	}
	j.ended = true
	if !j.check || !j.list.List() || j.n >= j.list.Min && (j.list.Max == schema.Many || j.n <= j.list.Max) {
		return j.finish()
	}
	counted := &schema.Field{Min: j.list.Min, Max: j.list.Max, Kind: value.AnyKind}
	ft := counted.CheckOccurs(value.ListOf(make([]value.Value, j.n)...))
	j.place = j.at(j.dec.InputOffset())
	return fault.List{ft.At(j.place)}
}

// holdsLists says whether a message can be a list by itself, so that one is no list of messages.
func holdsLists(f *schema.Field) bool {
	if f == nil {
		return false
	}
	switch f.Kind {
	case value.ListKind, value.AnyKind:
		return true
	case value.VariantKind:
		return slices.ContainsFunc(f.Fields, func(b *schema.Field) bool { return b.List() || holdsLists(b) })
	}
	return false
}

func (j *reader) first() (value.Value, error) {
	j.begun = true
	kind := j.dec.PeekKind()
	if kind != '[' || !j.list.List() && holdsLists(j.root) {
		if kind == 0 {
			if _, err := j.dec.ReadToken(); err == io.EOF {
				return value.Value{}, fault.Expect(fault.Required, "a JSON value", "an empty file").At(fault.Place{Source: j.name, Line: 1, Column: 1})
			}
		}
		v, err := j.value()
		if err == nil && j.check && j.list.List() {
			err = fault.List{fault.Expect(fault.Type, "a list of messages", "one by itself").At(j.place)}
		}
		return v, err
	}
	j.many = true
	if _, err := j.dec.ReadToken(); err != nil {
		return value.Value{}, j.broken(err)
	}
	return j.Next()
}

func (j *reader) finish() error {
	if j.many {
		if _, err := j.dec.ReadToken(); err != nil {
			return j.broken(err)
		}
	}
	if _, err := j.dec.ReadToken(); err != io.EOF {
		if err == nil {
			return fault.Expect(fault.Syntax, "the end of the document", "another value").At(j.at(j.dec.InputOffset()))
		}
		return j.broken(err)
	}
	return io.EOF
}

func (j *reader) value() (value.Value, error) {
	j.dec.PeekKind()
	j.lines.begin(j.dec.InputOffset())
	j.place = j.at(j.dec.InputOffset())
	j.faults = nil
	v, err := j.one(j.root, 0)
	if err != nil {
		return value.Value{}, j.broken(err)
	}
	if j.faults != nil {
		for _, f := range j.faults {
			p := j.at(f.Place.Byte)
			p.Path = f.Place.Path
			f.Place = p
		}
		return value.Value{}, j.faults
	}
	return v, nil
}

func (j *reader) at(offset int64) fault.Place {
	line, column := j.lines.position(offset)
	return fault.Place{Source: j.name, Line: line, Column: column, Byte: offset}
}

// broken is a fault behind which no more can be read.
func (j *reader) broken(err error) error {
	if err == errLimit {
		return fault.New(fault.Limit, "a value is longer than %d bytes", j.lines.limit).At(j.place)
	}
	f, offset := syntaxFault(err, j.dec.InputOffset())
	return f.At(j.at(offset))
}

func syntaxFault(err error, offset int64) (*fault.Fault, int64) {
	if errors.Is(err, errLimit) {
		return fault.New(fault.Limit, "a value is too long"), offset
	}
	var syn *jsontext.SyntacticError
	switch {
	case errors.As(err, &syn):
		what := strings.TrimPrefix(syn.Err.Error(), "jsontext: ")
		if errors.Is(syn.Err, jsontext.ErrDuplicateName) {
			what = "the name " + fault.Quote(syn.JSONPointer.LastToken()) + " stands twice in one object"
		}
		if errors.Is(syn.Err, io.ErrUnexpectedEOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			what = "the document ends too early"
		}
		return fault.New(fault.Syntax, "this is not JSON: %s", what), syn.ByteOffset
	case errors.Is(err, io.ErrUnexpectedEOF), err == io.EOF:
		return fault.New(fault.Syntax, "this is not JSON: the document ends too early"), offset
	}
	return fault.New(fault.Outside, "the input cannot be read on: %s", strings.TrimPrefix(err.Error(), "jsontext: read error: ")), offset
}

var errDepth = errors.New("nested too deep")

// read reads all that stands for a field; f describes it, or is nil.
func (d *decoder) read(f *schema.Field, depth int) (value.Value, error) {
	if f == nil || !f.List() {
		return d.one(f, depth)
	}
	switch kind := d.dec.PeekKind(); {
	case kind == '[':
		return d.array(f, depth)
	case kind == 'n':
		return d.null(f, f.Nullable)
	case kind == 0:
		return d.one(nil, depth)
	case f.Single:
		v, err := d.one(f, depth+1)
		return value.ListOf(v), err
	case kind == '{':
		d.fault(f, fault.Expect(fault.Type, "an array", "an object"))
		return d.free(depth)
	}
	tok, err := d.dec.ReadToken()
	if err != nil {
		return value.Value{}, err
	}
	d.fault(f, fault.Expect(fault.Type, "an array", foundToken(tok)))
	d.back(tok)
	return value.ListOf(), nil
}

// one reads one occurrence of a field; f describes it, or is nil.
func (d *decoder) one(f *schema.Field, depth int) (value.Value, error) {
	if depth > notation.MaxDepth {
		return value.Value{}, errDepth
	}
	if f != nil && f.Kind == value.AnyKind {
		f = nil
	}
	kind := d.dec.PeekKind()
	switch {
	case kind == 'n' && f != nil && !f.List() && f.Nullable:
		return d.null(f, true)
	case f != nil && f.Kind == value.VariantKind:
		return d.variant(f, kind, depth)
	case kind == 'n' && f != nil:
		return d.null(f, f.Kind == value.Null)
	case kind == '{':
		return d.object(f, depth)
	case kind == '[' && f != nil && f.Kind == value.ListKind:
		return d.read(f.Each(), depth)
	case kind == '[':
		if f != nil {
			d.fault(f, fault.Expect(fault.Type, jsonType(f), "an array"))
		}
		return d.array(nil, depth)
	}
	tok, err := d.dec.ReadToken()
	if err != nil {
		return value.Value{}, err
	}
	return d.scalar(f, tok), nil
}

// variant reads a value of the branch that it is: told by its kind where one branch has it, else by looking at the whole value
// first.
func (d *decoder) variant(f *schema.Field, kind jsontext.Kind, depth int) (value.Value, error) {
	if b := onlyOf(f, kind); b != nil {
		return d.read(b, depth)
	}
	raw, err := d.dec.ReadValue()
	if err != nil {
		return value.Value{}, err
	}
	raw = raw.Clone()
	begin := d.dec.InputOffset() - int64(len(raw))
	v, err := inside(raw, d, nil).read(nil, depth)
	if err != nil {
		return value.Value{}, err
	}
	b, ft := f.Branch(v)
	if ft != nil {
		d.fault(f, ft)
		ft.Place.Byte = d.at + begin
		return v, nil
	}
	in := inside(raw, d, d.ignored)
	in.at, in.under = d.at+begin, d.under+string(d.dec.StackPointer())
	v, err = in.read(b, depth)
	d.faults = in.faults
	return v, err
}

// inside is a decoder of a value that was read already, with the faults of the one around it.
func inside(raw jsontext.Value, d *decoder, ignored *notation.Ignored) *decoder {
	return &decoder{dec: jsontext.NewDecoder(bytes.NewReader(raw)), shapes: d.shapes, check: d.check, ignored: ignored, faults: d.faults, at: d.at, under: d.under}
}

// onlyOf is the only branch that a value of a kind of token can be; nil where several can, and for null.
func onlyOf(f *schema.Field, kind jsontext.Kind) (only *schema.Field) {
	if kind == 'n' || f.TellingField() != "" {
		return nil
	}
	for _, b := range f.Fields {
		if !stands(b, kind) {
			continue
		}
		if only != nil {
			return nil
		}
		only = b
	}
	return only
}

// stands says whether a value that begins with a token can be a branch.
func stands(b *schema.Field, kind jsontext.Kind) bool {
	switch {
	case b.Kind == value.AnyKind || b.Kind == value.VariantKind || b.Single:
		return true
	case b.List() || b.Kind == value.ListKind:
		return kind == '['
	case b.Kind == value.RecordKind || b.Kind == value.MapKind:
		return kind == '{'
	case b.Kind.Numeric():
		return kind == '0'
	case b.Kind == value.Boolean:
		return kind == 't' || kind == 'f'
	}
	return kind == '"'
}

// null reads a null, which is a fault where the field allows none.
func (d *decoder) null(f *schema.Field, allowed bool) (value.Value, error) {
	tok, err := d.dec.ReadToken()
	if err == nil && d.check && !allowed {
		ft := f.CheckOccurs(value.NullValue)
		if ft == nil { // an item of a list that may be null itself
			ft = fault.Expect(fault.Required, jsonType(f), "null")
		}
		d.fault(f, ft)
		d.back(tok)
	}
	return value.NullValue, err
}

func (d *decoder) scalar(f *schema.Field, tok jsontext.Token) value.Value {
	var v value.Value
	switch tok.Kind() {
	case 'n':
		return value.NullValue
	case 't', 'f':
		v = value.Bool(tok.Bool())
	case '0':
		v = value.Number(tok.String())
	default:
		v = value.NewText(tok.String())
	}
	if f == nil {
		return v
	}
	faults := len(d.faults)
	if f.Kind != v.Kind() || f.Kind != value.Text {
		v = d.typed(f, v)
	}
	if faults < len(d.faults) {
		d.back(tok)
	}
	if d.check && faults == len(d.faults) {
		if ft := f.CheckOne(v); ft != nil {
			d.fault(f, ft)
			d.back(tok)
		}
	}
	return v
}

// typed gives a JSON scalar the type of its field.
func (d *decoder) typed(f *schema.Field, v value.Value) value.Value {
	ok := false
	out := v
	switch {
	case f.Kind == value.Integer && v.Kind().Numeric():
		out, ok = value.AsInteger(v)
	case f.Kind == value.Decimal && v.Kind().Numeric():
		out, ok = value.AsDecimal(v), true
	case f.Kind == value.Boolean:
		ok = v.Kind() == value.Boolean
	case v.Kind() == value.Text && f.Kind != value.Text && !f.Kind.Numeric() && f.Kind != value.RecordKind:
		out, ok = f.Read(v.Text())
	}
	if !ok {
		d.fault(f, fault.Expect(fault.Type, jsonType(f), found(v)))
	}
	return out
}

func jsonType(f *schema.Field) string {
	switch f.Kind {
	case value.RecordKind, value.MapKind:
		return "an object"
	case value.ListKind:
		return "an array"
	case value.Integer, value.Decimal, value.Boolean:
		return f.DescribeWireFormat()
	case value.Text:
		return "a string"
	}
	return "a string with " + f.DescribeWireFormat()
}

func found(v value.Value) string {
	if v.Kind() == value.Text {
		return "the string " + fault.Quote(v.Text())
	}
	return v.String()
}

func (d *decoder) fault(f *schema.Field, ft *fault.Fault) {
	ft.Place.Byte = d.at + d.dec.InputOffset()
	ft.Place.Path = d.under + string(d.dec.StackPointer())
	if f != nil {
		f.LocateFault(ft)
	}
	d.faults.Add(ft)
}

// unknown notes a name that a record does not have.
func (d *decoder) unknown(f *schema.Field, name string, tok jsontext.Token) {
	if d.faults.Full() {
		d.faults.Add(&fault.Fault{})
		return
	}
	d.fault(nil, f.Asking(fault.Expect(fault.Unknown, "one of "+strings.Join(f.Layout().Names, ", "), fault.Quote(name))))
	d.back(tok)
}

// back puts the newest fault at the beginning of the token that was just read.
func (d *decoder) back(tok jsontext.Token) {
	if len(d.faults) > fault.MaxKept {
		return
	}
	n := len(tok.String())
	if tok.Kind() == '"' {
		if quoted, err := jsontext.AppendQuote(nil, tok.String()); err == nil {
			n = len(quoted)
		}
	}
	d.faults[len(d.faults)-1].Place.Byte -= int64(n)
}

// faultAt notes a fault of something that began before.
func (d *decoder) faultAt(offset int64, path string, f *schema.Field, ft *fault.Fault) {
	d.fault(f, ft)
	ft.Place.Byte, ft.Place.Path = d.at+offset, d.under+path
}

// array reads the items of a field that is a list, or of what no schema describes.
func (d *decoder) array(f *schema.Field, depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	begin, path := d.dec.InputOffset()-1, ""
	if d.check && f != nil {
		path = strings.TrimSuffix(string(d.dec.StackPointer()), "/-1")
	}
	items := []value.Value{}
	for d.dec.PeekKind() != ']' {
		v, err := d.one(f, depth+1)
		if err != nil {
			return value.Value{}, err
		}
		items = append(items, v)
	}
	if d.check && f != nil {
		if ft := f.CheckOccurs(value.ListOf(items...)); ft != nil {
			d.faultAt(begin, path, f, ft)
		}
	}
	_, err := d.dec.ReadToken()
	return value.ListOf(items...), err
}

func (d *decoder) object(f *schema.Field, depth int) (value.Value, error) {
	switch {
	case f == nil:
		return d.free(depth)
	case f.Kind == value.MapKind:
		return d.entries(f, depth)
	case f.Kind != value.RecordKind:
		d.fault(f, fault.Expect(fault.Type, jsonType(f), "an object"))
		return d.free(depth)
	}
	return d.record(f, depth)
}

// record reads an object that a schema describes.
func (d *decoder) record(f *schema.Field, depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	begin := d.dec.InputOffset() - 1
	fields := make([]value.Value, len(f.Fields))
	others := schema.OthersBuilder{Field: f.HeldOthers()}
	for d.dec.PeekKind() != '}' {
		tok, err := d.dec.ReadToken()
		if err != nil {
			return value.Value{}, err
		}
		c := f.Named(tok.String())
		if c == nil {
			if err := d.other(f, &others, tok, depth); err != nil {
				return value.Value{}, err
			}
			continue
		}
		v, err := d.read(c, depth+1)
		if err != nil {
			return value.Value{}, err
		}
		fields[c.Slot()] = v
	}
	_, err := d.dec.ReadToken()
	others.Put(fields)
	if d.check {
		d.missing(f, fields, begin)
	}
	return value.NewRecord(f.Layout(), fields), err
}

// other reads a field that the record lacks: it is kept, a fault, or passed over and counted.
func (d *decoder) other(f *schema.Field, others *schema.OthersBuilder, tok jsontext.Token, depth int) error {
	name := tok.String()
	if others.Field == nil {
		if f.Strict() {
			d.unknown(f, name, tok)
		} else if d.ignored != nil {
			d.ignored.Add(d.under + string(d.dec.StackPointer()))
		}
		return d.skip(depth)
	}
	d.name(others.Field, tok)
	v, err := d.read(others.Field.Each(), depth+1)
	others.Add(name, v)
	return err
}

// skip passes over a value, within the bounds of what is read.
func (d *decoder) skip(depth int) error {
	_, err := d.one(nil, depth+1)
	return err
}

// name checks a name of a map.
func (d *decoder) name(f *schema.Field, tok jsontext.Token) {
	if !d.check {
		return
	}
	if ft := f.CheckName(tok.String()); ft != nil {
		d.fault(f, ft)
		d.back(tok)
	}
}

// entries reads an object whose names nobody knew before.
func (d *decoder) entries(f *schema.Field, depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	begin := d.dec.InputOffset() - 1
	var names []string
	var fields []value.Value
	for d.dec.PeekKind() != '}' {
		tok, err := d.dec.ReadToken()
		if err != nil {
			return value.Value{}, err
		}
		names = append(names, tok.String())
		d.name(f, tok)
		v, err := d.read(f.Each(), depth+1)
		if err != nil {
			return value.Value{}, err
		}
		fields = append(fields, v)
	}
	_, err := d.dec.ReadToken()
	if d.check {
		if ft := f.CheckEntries(len(names)); ft != nil {
			d.faultAt(begin, string(d.dec.StackPointer()), f, ft)
		}
	}
	return value.NewRecord(d.shape(names), fields), err
}

// foundToken is a scalar as a fault tells it.
func foundToken(tok jsontext.Token) string {
	switch tok.Kind() {
	case 't', 'f', '0':
		return tok.String()
	}
	return "the string " + fault.Quote(tok.String())
}

// missing notes the fields that must be in an object and are not.
func (d *decoder) missing(f *schema.Field, fields []value.Value, begin int64) {
	for i, c := range f.Fields {
		if c.Required() && fields[i].Kind() == value.Absent {
			d.faultAt(begin, string(d.dec.StackPointer()), c, c.CheckOccurs(fields[i]))
		}
	}
}

// free reads an object that no schema describes.
func (d *decoder) free(depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	var names []string
	var fields []value.Value
	for d.dec.PeekKind() != '}' {
		tok, err := d.dec.ReadToken()
		if err != nil {
			return value.Value{}, err
		}
		names = append(names, tok.String())
		v, err := d.one(nil, depth+1)
		if err != nil {
			return value.Value{}, err
		}
		fields = append(fields, v)
	}
	_, err := d.dec.ReadToken()
	return value.NewRecord(d.shape(names), fields), err
}

// shape remembers the shapes of objects, since most objects of a message look alike.
func (d *decoder) shape(names []string) *value.Layout {
	var key strings.Builder
	for _, n := range names {
		key.WriteString(strconv.Itoa(len(n)))
		key.WriteByte(':')
		key.WriteString(n)
	}
	if s, ok := d.shapes[key.String()]; ok {
		return s
	}
	s := value.NewLayout(names...)
	if len(d.shapes) < maxShapes {
		d.shapes[key.String()] = s
	}
	return s
}

// lines reads newline-delimited JSON: a line that is not JSON does not end the reading.
type lines struct {
	dec     *jsontext.Decoder // used again for every line
	text    strings.Reader
	src     *blockreader.Source
	name    string
	root    *schema.Field
	limit   int
	shapes  map[string]*value.Layout
	check   bool
	ignored *notation.Ignored
	line    int
	cur     blockreader.Line
}

// NewLinesReader reads one JSON value a line. Empty lines are passed over.
func NewLinesReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	l := &lines{src: blockreader.New(r), name: o.Source, limit: o.Limit(), shapes: map[string]*value.Layout{}, ignored: o.Ignored}
	if o.Schema != nil {
		l.root, l.check = o.Schema.Root, o.Check
	}
	return l, nil
}

func (l *lines) Many() bool  { return true }
func (l *lines) Raw() string { return l.cur.Text }
func (l *lines) Place() fault.Place {
	return fault.Place{Source: l.name, Line: l.line, Byte: l.cur.Off}
}

func (l *lines) Next() (value.Value, error) {
	for {
		cur, ok := l.src.Line(l.limit)
		if !ok {
			if err := l.src.Err(); err != nil {
				return value.Value{}, fault.New(fault.Outside, "the input cannot be read on: %s", err).At(l.Place())
			}
			return value.Value{}, io.EOF
		}
		l.cur = cur
		l.line++
		if cur.Long {
			return value.Value{}, fault.List{fault.New(fault.Limit, "a line of %d bytes; the most is %d", cur.Skipped, l.limit).At(l.Place())}
		}
		if strings.TrimSpace(cur.Text) != "" {
			return l.value()
		}
	}
}

func (l *lines) value() (value.Value, error) {
	l.text.Reset(l.cur.Text)
	if l.dec == nil {
		l.dec = jsontext.NewDecoder(&l.text)
	} else {
		l.dec.Reset(&l.text)
	}
	d := decoder{dec: l.dec, shapes: l.shapes, check: l.check, ignored: l.ignored}
	v, err := d.one(l.root, 0)
	if err == nil {
		if _, err = d.dec.ReadToken(); err == io.EOF {
			err = nil
		} else if err == nil {
			err = fault.Expect(fault.Syntax, "the end of the line", "another value").At(fault.Place{Byte: d.dec.InputOffset()})
		}
	}
	if err != nil {
		f, ok := err.(*fault.Fault)
		if !ok {
			var offset int64
			f, offset = syntaxFault(err, d.dec.InputOffset())
			f.Place.Byte = offset
		}
		d.faults = fault.List{f}
	}
	if d.faults == nil {
		return v, nil
	}
	for _, f := range d.faults {
		p := l.Place()
		p.Path, p.Column = f.Place.Path, int(f.Place.Byte)+1
		p.Byte += f.Place.Byte
		f.Place = p
	}
	return value.Value{}, d.faults
}
