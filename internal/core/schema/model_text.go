package schema

import (
	"strconv"
	"strings"
	"unicode"

	"hollowreed/internal/core/fault"
)

// modelParser reads the text of a model.
type modelParser struct {
	record *Field
	text   string
	at     int
	depth  int
	what   string // is read
}

// parseModel reads the content model of a record whose fields are known.
func parseModel(record *Field, text string) (*Model, *fault.Fault) {
	p := &modelParser{record: record, text: text, what: "content model"}
	m, ft := p.parts()
	if ft == nil && p.next() != 0 {
		ft = p.fault("the end", string(p.next()))
	}
	if ft != nil {
		return nil, ft
	}
	if m.Join == 0 {
		m = &Model{Join: ',', Parts: []*Model{m}, Min: 1, Max: 1}
	}
	seen := map[int]bool{}
	m.Fields(func(l *Model) { seen[l.Slot] = true })
	for i, f := range record.Fields {
		if !f.WireFormat.Attribute && f.WireFormat.Wildcard != noWildcard && !seen[i] && !(f.WireFormat.Content && !record.WireFormat.Group) {
			return nil, fault.New(fault.Required, "the content model does not say where %s stands", f.Name)
		}
	}
	return m, nil
}

func (p *modelParser) fault(expected, found string) *fault.Fault {
	f := fault.Expect(fault.Syntax, expected+" in the "+p.what, fault.Quote(found))
	f.Place.Column = p.at + 1
	return f
}

// next is the next character that is no blank; 0 at the end.
func (p *modelParser) next() rune {
	for _, r := range p.text[p.at:] {
		if !unicode.IsSpace(r) {
			return r
		}
		p.at += len(string(r))
	}
	return 0
}

func (p *modelParser) parts() (*Model, *fault.Fault) {
	if p.depth++; p.depth > MaxDepth {
		return nil, fault.New(fault.Limit, "the content model nests deeper than %d", MaxDepth)
	}
	defer func() { p.depth-- }()
	m := &Model{Min: 1, Max: 1}
	for {
		part, ft := p.part()
		if ft != nil {
			return nil, ft
		}
		m.Parts = append(m.Parts, part)
		join := p.next()
		if join != ',' && join != '|' && join != '&' {
			break
		}
		if m.Join != 0 && m.Join != byte(join) {
			return nil, p.fault("parentheses around what "+string(rune(m.Join))+" joins", string(join))
		}
		m.Join = byte(join)
		p.at++
	}
	if m.Join == 0 {
		return m.Parts[0], nil
	}
	return m, nil
}

func (p *modelParser) part() (*Model, *fault.Fault) {
	r := p.next()
	if r == '(' {
		p.at++
		m, ft := p.parts()
		if ft != nil {
			return nil, ft
		}
		if p.next() != ')' {
			return nil, p.fault(")", string(p.next()))
		}
		p.at++
		return p.repeated(m)
	}
	name, ft := p.name()
	if ft != nil {
		return nil, ft
	}
	f := p.record.Field(name)
	if f == nil {
		return nil, fault.New(fault.Unknown, "the content model names %s, which is no field of the record", fault.Quote(name))
	}
	return p.repeated(&Model{Slot: f.slot, Min: 1, Max: 1})
}

func (p *modelParser) name() (string, *fault.Fault) {
	if p.next() == '"' {
		quoted, err := strconv.QuotedPrefix(p.text[p.at:])
		if err != nil {
			return "", p.fault("a closing quote", p.text[p.at:])
		}
		p.at += len(quoted)
		name, _ := strconv.Unquote(quoted) // it was quoted well
		return name, nil
	}
	end := p.at
	for _, r := range p.text[p.at:] {
		if !plainRune(r) {
			break
		}
		end += len(string(r))
	}
	if end == p.at {
		return "", p.fault("the name of a field", p.text[p.at:])
	}
	name := p.text[p.at:end]
	p.at = end
	return name, nil
}

// repeated reads how often a part stands.
func (p *modelParser) repeated(m *Model) (*Model, *fault.Fault) {
	low, high := 1, 1
	switch p.next() {
	case '?':
		low = 0
	case '*':
		low, high = 0, Many
	case '+':
		high = Many
	case '{':
		end := strings.IndexByte(p.text[p.at:], '}')
		if end < 0 {
			return nil, p.fault("}", p.text[p.at:])
		}
		var ok bool
		if low, high, ok = bounds(p.text[p.at+1 : p.at+end]); !ok {
			return nil, p.fault("how often, as {2}, {2,} or {2,5}", p.text[p.at:p.at+end+1])
		}
		p.at += end
	default:
		return m, nil
	}
	p.at++
	if m.Join != 0 && (high == Many || high > 1) {
		return nil, fault.New(fault.Setting, "fields that repeat together (%s) are a list of records", m.inside(p.record)).
			WithFix(`Put them into a record with "group: true", which has no element of its own`)
	}
	m.Min, m.Max = min(low, m.Min), high
	if m.Join == 0 {
		m.Min = low
	}
	return m, nil
}

func bounds(text string) (low, high int, ok bool) {
	a, b, both := strings.Cut(text, ",")
	low, err := strconv.Atoi(strings.TrimSpace(a))
	high = low
	switch b = strings.TrimSpace(b); {
	case both && b == "":
		high = Many
	case both && err == nil:
		high, err = strconv.Atoi(b)
	}
	return low, high, err == nil && low >= 0 && (high == Many || high >= max(low, 1))
}

// noWildcard says that a map of other fields holds no elements, or no attributes.
const noWildcard = "##none"
