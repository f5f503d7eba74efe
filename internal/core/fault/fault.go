// Package fault describes what went wrong in words that a person can act on: where, what was
// expected, what was found and what would mend it. It is the bottom of the core; every reader,
// compiler and check reports its findings as faults and nothing else.
package fault

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Code names the kind of a fault. It is stable: code and journals branch on it, never on the text.
type Code string

// The kinds of fault.
const (
	Syntax     Code = "syntax"     // bytes or text that do not follow their notation's grammar
	Encoding   Code = "encoding"   // bytes that are not text in the stated encoding
	Length     Code = "length"     // too short, too long, or cut off
	Type       Code = "type"       // a value that is not of the stated type
	Required   Code = "required"   // something that must be there and is not
	Limit      Code = "limit"      // a bound on size, depth, steps or time was reached
	Range      Code = "range"      // outside the least or greatest value
	Pattern    Code = "pattern"    // text that does not match its pattern or code list
	Unknown    Code = "unknown"    // a name that does not exist
	Setting    Code = "setting"    // a missing or contradictory setting of a part
	Arithmetic Code = "arithmetic" // division by zero, an inexact or overlarge result
	NotFound   Code = "not found"  // a look-up without a result
	Outside    Code = "outside"    // an outside system refused or could not be reached
	InputGone  Code = "gone"       // an input that disappeared
	Cancelled  Code = "cancelled"  // stopped because somebody asked for it
	Stopped    Code = "stopped"    // ended by a step of the flow
	LogEntry   Code = "note"       // no fault: a text that a step notes
)

// Place says where a fault is. Zero members are unknown and not shown.
type Place struct {
	Source string `json:"source,omitempty"` // file or part, by the name that the person knows
	Line   int    `json:"line,omitempty"`   // from 1
	Column int    `json:"column,omitempty"` // from 1, in the unit that the source counts in
	Byte   int64  `json:"byte,omitempty"`   // offset from 0
	Path   string `json:"path,omitempty"`   // inside a message: /order/lines/3/qty (RFC 6901)
	Step   string `json:"step,omitempty"`   // id of the flow step
}

// Fault is one finding. It is an error, so that it travels like any other.
type Fault struct {
	Code     Code   `json:"code"`
	Place    Place  `json:"place"`
	Field    string `json:"field,omitempty"`
	Expected string `json:"expected,omitempty"`
	Found    string `json:"found,omitempty"`
	Message  string `json:"message,omitempty"` // when expected/found do not say it all
	Fix      string `json:"mend,omitempty"`    // what would mend it
	Rule     Place  `json:"rule,omitzero"`     // where the schema says so
	Setting  string `json:"setting,omitempty"` // of a part: the one that is not there yet
	More     int    `json:"more,omitempty"`    // it stands for so many faults that are not kept
}

// New makes a fault from a sentence.
func New(code Code, format string, args ...any) *Fault {
	return &Fault{Code: code, Message: fmt.Sprintf(format, args...)}
}

// Expect makes a fault from what was expected and what was found.
func Expect(code Code, expected, found string) *Fault {
	return &Fault{Code: code, Expected: expected, Found: found}
}

// Missing makes the fault of a setting that must be there and is not yet.
func Missing(setting string) *Fault {
	return &Fault{Code: Required, Message: strconv.Quote(setting) + " is missing", Setting: setting}
}

// At returns the fault with its place set.
func (f *Fault) At(p Place) *Fault { f.Place = p; return f }

// InField returns the fault with the field that it concerns set.
func (f *Fault) InField(field string) *Fault { f.Field = field; return f }

// WithFix returns the fault with advice on what would mend it.
func (f *Fault) WithFix(format string, args ...any) *Fault {
	f.Fix = fmt.Sprintf(format, args...)
	return f
}

// Printable is a text as a store of texts can hold it and a page can show it: U+0000, which neither can, is its picture U+2400.
func Printable(text string) string { return strings.ReplaceAll(text, "\x00", "\u2400") }

// MarshalJSON writes the fault with its texts as they are shown.
func (f Fault) MarshalJSON() ([]byte, error) {
	type plain Fault
	p := plain(f)
	for _, text := range []*string{&p.Field, &p.Expected, &p.Found, &p.Message, &p.Fix, &p.Place.Source, &p.Place.Path} {
		*text = Printable(*text)
	}
	return json.Marshal(p)
}

// What is the fault in one sentence, without its place.
func (f *Fault) What() string {
	var b strings.Builder
	if f.More > 0 {
		fmt.Fprintf(&b, "%d more faults of this message are not kept", f.More)
	}
	if f.Field != "" {
		b.WriteString(f.Field + ": ")
	}
	b.WriteString(f.Message)
	if f.Expected != "" {
		if f.Message != "" {
			b.WriteString("; ")
		}
		b.WriteString("expected " + f.Expected)
		if f.Found != "" {
			b.WriteString(", found " + f.Found)
		}
	} else if f.Found != "" {
		b.WriteString(" (found " + f.Found + ")")
	}
	if f.Fix != "" {
		b.WriteString(". " + f.Fix)
	}
	return b.String()
}

// Where is the place as text: source:line:column path. Empty when nothing is known.
func (f *Fault) Where() string {
	p := f.Place
	where := p.Source
	if p.Line > 0 {
		where = join(where, ":", strconv.Itoa(p.Line))
		if p.Column > 0 {
			where += ":" + strconv.Itoa(p.Column)
		}
	}
	return join(where, " ", p.Path)
}

// Error is the place followed by the sentence.
func (f *Fault) Error() string { return join(f.Where(), ": ", f.What()) }

func join(a, sep, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + sep + b
}

// Quote shows foreign text in a fault: quoted, control characters escaped, cut at 40 characters.
func Quote(s string) string {
	const most = 40
	if r := []rune(cut(s, 4*most)); len(r) > most {
		return strconv.Quote(string(r[:most])) + "…"
	}
	return strconv.Quote(s)
}

func cut(s string, n int) string {
	if len(s) > n {
		return s[:n]
	}
	return s
}

// List is several faults as one error.
type List []*Fault

// MaxKept bounds the faults that are kept of one message: more tell nobody more.
const MaxKept = 100

// Add keeps a fault of a message. Beyond MaxKept the last of the list says how many more there are.
func (l *List) Add(faults ...*Fault) {
	for _, f := range faults {
		if len(*l) < MaxKept {
			*l = append(*l, f)
			continue
		}
		last := (*l)[len(*l)-1]
		if last.More == 0 {
			last = &Fault{Code: Limit, Place: Place{Source: f.Place.Source}}
			*l = append(*l, last)
		}
		last.More += max(1, f.More)
	}
}

// Full says whether a fault that is added would only be counted.
func (l List) Full() bool { return len(l) >= MaxKept }

// Error joins the faults, one a line.
func (l List) Error() string {
	lines := make([]string, len(l))
	for i, f := range l {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// From turns any error into a fault, keeping those that are one.
func From(err error, code Code) *Fault {
	if f, ok := err.(*Fault); ok {
		return f
	}
	return New(code, "%s", err.Error())
}
