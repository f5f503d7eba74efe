// Package xmltext reads XML 1.0 token by token, well-formed and in bounded memory, with the place of
// every token. Of a document type declaration the internal subset is read, its entities and defaults bounded; nothing is ever fetched. It is what all
// readers of XML here stand on: values and names are cut out of large blocks of text, and cost no
// copy of their own.
package xmltext

import (
	"encoding/xml"
	"io"
	"slices"
	"strings"

	"hollowreed/internal/core/blockreader"
	"hollowreed/internal/core/fault"
)

// Kind is the kind of a token. Comments and processing instructions are passed over.
type Kind uint8

// The kinds.
const (
	Start Kind = iota + 1 // of an element; an empty one is followed by its End
	End
	Text // a piece of text; all of it may come in several
)

// Attr is one attribute.
type Attr struct {
	Name  xml.Name
	Raw   string // the name as it is written
	Value string // entities and line ends resolved (XML 1.0, section 3.3.3)
	At    int64  // where the value begins

	name *known
}

// Options of a reader.
type Options struct {
	Source     string // name of the input, for faults
	Namespaces bool   // resolve prefixes (Namespaces in XML 1.0)
	NoDoctype  bool   // refuse document type declarations
	MaxDepth   int    // of elements; 0 is MaxDepth
	MaxToken   int    // bytes of a comment or a CDATA section; 0 is MaxToken
}

// Bounds, unless the options say otherwise.
const (
	MaxDepth = 512
	MaxToken = 16 << 20
	maxTag   = 1 << 20
)

// Reader reads the tokens of one document.
type Reader struct {
	// The token at hand.
	Name  xml.Name // of a Start or End; with a namespace only if they are resolved
	Raw   string   // the name as it is written
	Attrs []Attr   // of a Start; those that declare namespaces among them. Valid until the next token.
	Text  string   // of a Text
	Begin int64    // byte offset at which the token begins, after decoding to UTF-8
	End   int64    // and at which it ends

	src   *blockreader.Source
	at    int // in src.Text: what is in front of it was read
	o     Options
	open  []element
	names map[string]*known
	root  bool // the root element has begun
	empty bool // the element at hand has no content: its end comes next
	ended bool // the token at hand is the end of the newest element
	err   error

	line      int   // of mark
	lineBegin int64 // offset at which that line begins
	first     int64 // offset at which the document begins, behind a byte order mark
	mark      int64 // offset up to which lines were counted

	marked int64 // offset from which on text is kept; -1 where none is

	types *doctype // what the document type declaration declares; nil without one

	scope    int // id of the prefixes in scope
	scopes   int // ids given so far
	bindings []binding
}

// element is one that is open.
type element struct {
	name     *known
	space    string
	scope    int // that of the element around it
	bindings int
}

// known is a name that was met before, with what its prefix stood for then.
type known struct {
	raw, prefix, local string
	space              string
	scope              int
	odd                bool // no qualified name
}

// New begins to read a document.
func New(r io.Reader, o Options) *Reader {
	if o.MaxDepth == 0 {
		o.MaxDepth = MaxDepth
	}
	if o.MaxToken == 0 {
		o.MaxToken = MaxToken
	}
	x := &Reader{o: o, line: 1, marked: -1, names: map[string]*known{}, scopes: 1, scope: 1}
	decoded, err := decode(r)
	if err != nil {
		x.err = fault.From(err, fault.Encoding).At(fault.Place{Source: o.Source, Line: 1, Column: 1})
		decoded = strings.NewReader("")
	}
	x.src = blockreader.New(decoded)
	x.first, x.mark, x.lineBegin = x.src.Off, x.src.Off, x.src.Off
	return x
}

// Next reads the next token. At the end of a document the error is io.EOF; any other is a
// *fault.Fault, behind which nothing more can be read.
func (r *Reader) Next() (Kind, error) {
	if r.err != nil {
		return 0, r.err
	}
	k, err := r.next()
	if err != nil {
		r.err = err
	}
	return k, err
}

func (r *Reader) next() (Kind, error) {
	if r.ended {
		r.pop()
	}
	if r.empty {
		r.empty = false
		r.Begin = r.End
		return r.end()
	}
	for {
		if r.at == len(r.src.Text) && !r.more() {
			return 0, r.atEnd()
		}
		r.Begin = r.src.Off + int64(r.at)
		if r.src.Text[r.at] != '<' {
			done, err := r.text()
			if done || err != nil {
				return Text, err
			}
			continue
		}
		k, err := r.markup()
		if k != 0 || err != nil {
			return k, err
		}
	}
}

// more reads on; what was read before is given up. It is false at the end.
func (r *Reader) more() bool {
	r.count(r.src.Off + int64(r.at))
	done := r.at
	if r.marked >= 0 {
		done = min(done, int(r.marked-r.src.Off))
	}
	r.src.Take(done)
	r.at -= done
	return r.src.More()
}

// Mark is a place to which a reader can go back.
type Mark struct {
	was    Reader
	offset int64
}

// Mark marks the token at hand; what comes behind it is kept until the reader has gone back. One place is marked at a time.
func (r *Reader) Mark() Mark {
	m := Mark{was: *r, offset: r.src.Off + int64(r.at)}
	m.was.open, m.was.Attrs, m.was.bindings = slices.Clone(r.open), slices.Clone(r.Attrs), slices.Clone(r.bindings)
	r.marked = m.offset
	return m
}

// Back goes back to a mark: the token that was at hand there is at hand again.
func (r *Reader) Back(m Mark) {
	*r = m.was
	r.at = int(m.offset - r.src.Off)
}

// count counts lines up to an offset.
func (r *Reader) count(to int64) {
	from := r.mark - r.src.Off
	s := r.src.Text[max(0, from):max(0, to-r.src.Off)]
	if n := strings.Count(s, "\n"); n > 0 {
		r.line += n
		r.lineBegin = to - int64(len(s)-1-strings.LastIndexByte(s, '\n'))
	}
	r.mark = max(r.mark, to)
}

// Place is where the token at hand begins; columns count bytes from 1.
func (r *Reader) Place() fault.Place {
	if r.Begin > r.mark {
		r.count(r.Begin)
	}
	return r.place(r.Begin)
}

// PlaceOf is an offset inside of the token at hand, or its end, as a place.
func (r *Reader) PlaceOf(offset int64) fault.Place {
	if r.Begin > r.mark {
		r.count(r.Begin)
	}
	return r.place(offset)
}

func (r *Reader) place(offset int64) fault.Place {
	line, begin := r.line, r.lineBegin
	low, high := int(r.mark-r.src.Off), int(offset-r.src.Off)
	if low >= 0 && high <= len(r.src.Text) && low < high {
		s := r.src.Text[low:high]
		if n := strings.Count(s, "\n"); n > 0 {
			line += n
			begin = offset - int64(len(s)-1-strings.LastIndexByte(s, '\n'))
		}
	}
	return fault.Place{Source: r.o.Source, Line: line, Column: int(offset-begin) + 1, Byte: offset}
}

// Pieces puts the pieces of a text together; one piece costs no copy.
type Pieces struct {
	one  string
	more []byte
}

// Add adds a piece.
func (p *Pieces) Add(s string) {
	switch {
	case p.more != nil:
		p.more = append(p.more, s...)
	case p.one == "":
		p.one = s
	case s != "":
		p.more = append(append(make([]byte, 0, 2*(len(p.one)+len(s))), p.one...), s...)
	}
}

// Len is the length of all pieces in bytes.
func (p *Pieces) Len() int { return max(len(p.one), len(p.more)) }

// String is the whole text.
func (p *Pieces) String() string {
	if p.more != nil {
		return string(p.more)
	}
	return p.one
}

// Blank says whether a text is white space only.
func Blank(s string) bool { return spaces(s, 0) == len(s) }

// IsBlank says whether a character is white space (XML 1.0, production 3).
func IsBlank(r rune) bool { return r == ' ' || r == '\t' || r == '\n' || r == '\r' }

// Trim takes white space away at both ends.
func Trim(s string) string { return strings.TrimFunc(s, IsBlank) }

// Depth is how many elements are open; one whose End is at hand still is.
func (r *Reader) Depth() int { return len(r.open) }

// Path names the open elements as they are written, outermost first: /order/line.
func (r *Reader) Path() string {
	var b strings.Builder
	for _, e := range r.open {
		b.WriteString("/" + e.name.raw)
	}
	return b.String()
}

func (r *Reader) atEnd() error {
	r.Begin = r.src.Off + int64(r.at)
	switch {
	case r.src.Err() != nil:
		return fault.New(fault.Outside, "the input cannot be read on: %s", r.src.Err()).At(r.Place())
	case len(r.open) > 0:
		return r.notXML(r.Begin, "the document ends inside <%s>", strings.ReplaceAll(strings.Trim(r.Path(), "/"), "/", "><"))
	case !r.root:
		return fault.Expect(fault.Required, "a root element", "the end of the file").At(r.Place())
	}
	return io.EOF
}

// notXML is a fault of syntax at an offset.
func (r *Reader) notXML(offset int64, format string, args ...any) *fault.Fault {
	return fault.New(fault.Syntax, "this is not XML: "+format, args...).At(r.place(offset))
}

// end ends the newest element, which is open until the next token.
func (r *Reader) end() (Kind, error) {
	e := &r.open[len(r.open)-1]
	r.Name, r.Raw, r.Attrs = xml.Name{Space: e.space, Local: e.name.local}, e.name.raw, r.Attrs[:0]
	r.ended = true
	return End, nil
}

func (r *Reader) pop() {
	n := len(r.open) - 1
	e := &r.open[n]
	r.scope, r.bindings = e.scope, r.bindings[:e.bindings]
	r.open, r.ended = r.open[:n], false
}
