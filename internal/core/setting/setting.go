// Package setting describes what a person can set of a thing of a kind: a step, a trigger, a flow, a connection, an operation,
// an alert, a notation. A kind lists its settings once; that list is read from parts, drawn as a form, and read from the form.
package setting

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
)

// Type is how a setting is edited and checked.
type Type string

// The types of setting.
const (
	Text       Type = "text"
	Lines      Type = "lines"     // several lines of text
	Template   Type = "template"  // several lines of text with formulas in it
	Number     Type = "number"    // a whole number that is not negative
	Decimal    Type = "decimal"   // a number that is not negative
	Character  Type = "character" // one ASCII character, or the word tab
	Choice     Type = "choice"
	Flag       Type = "flag"                    // true or false
	Secret     Type = "secret"                  // the name of a secret
	Formula    Type = "formula"                 // over what is in scope
	OnResponse Type = "formula on the response" // over the request and its response
	Pairs      Type = "pairs"                   // names with a formula each
	Part       Type = "part"                    // the id of a part
	Name       Type = "name"                    // the name of a record in scope
	Operation  Type = "operation"               // one of the connection's operations
)

// MaxDecimal bounds a decimal: as seconds, some thirty years.
const MaxDecimal = 1e9

// Setting is one of them.
type Setting struct {
	Name, Label, Help string
	Type              Type
	Required          bool
	Default           string
	Initial           string // what a new thing begins with where something must be written
	Choices           []string
	Older             []string          // names that it had before, which part files may still say
	Was               map[string]string // the same of its choices: the new one by the older one
	Least, Greatest   int               // of a number; Greatest 0 is none
	When              string            // there only while another setting has one of some values: "name=value|value"
	Of                string            // Part: the kind of part; Secret: the type of secret; Lines: the language of the text, where it has one
	None              string            // Part: what it is called that none is named
	Rare              bool              // most do without it: folded away until it is wanted or set
	Redraw            bool              // what other settings offer depends on it
	Free              bool              // Pairs: their names are written by hand
	Hint              string            // shown in an empty field: an example of what can be written
	Suggested         []string          // offered while something is written
	Wide              bool              // takes a row by itself where others stand side by side
}

// List is the settings of a kind, in the order in which they are shown.
type List []Setting

// Find finds a setting; nil when there is none of that name.
func (l List) Find(name string) *Setting {
	i := slices.IndexFunc(l, func(s Setting) bool { return s.Name == name })
	if i < 0 {
		return nil
	}
	return &l[i]
}

// Default is what a setting is where nothing is chosen.
func (l List) Default(name string) string {
	if s := l.Find(name); s != nil {
		return s.Default
	}
	return ""
}

// Depends is the setting on which this one depends, and the values with which it is there.
func (s Setting) Depends() (name string, values []string, does bool) {
	name, list, does := strings.Cut(s.When, "=")
	return name, strings.Split(list, "|"), does
}

// Applies says whether a setting is there, as the others are chosen.
func (l List) Applies(s Setting, chosen func(name string) string) bool {
	name, values, depends := s.Depends()
	if !depends {
		return true
	}
	now := chosen(name)
	if other := l.Find(name); other != nil {
		if now == "" {
			now = other.Default
		}
		if !l.Applies(*other, chosen) {
			return false
		}
	}
	return slices.Contains(values, now)
}

// Of makes the function that Applies asks of what is chosen by name.
func Of(chosen map[string]string) func(string) string {
	return func(name string) string { return chosen[name] }
}

// Check says what is wrong with what is chosen for a setting; nil when it fits. What it names must be looked for elsewhere.
func (s Setting) Check(chosen string) *fault.Fault {
	switch {
	case chosen == "" && s.Required && s.Default == "":
		return fault.New(fault.Required, "needed").InField(s.Label)
	case chosen == "":
		return nil
	case s.Type == Number:
		return s.checkNumber(chosen)
	case s.Type == Decimal:
		if n, err := strconv.ParseFloat(chosen, 64); err != nil || !(n >= 0 && n <= MaxDecimal) {
			return fault.Expect(fault.Type, "a number that is not negative", fault.Quote(chosen)).InField(s.Label)
		}
	case s.Type == Character && chosen != "tab" && (len(chosen) != 1 || chosen[0] >= 0x80 || strings.ContainsAny(chosen, "\r\n")):
		return fault.Expect(fault.Setting, "one ASCII character or tab", fault.Quote(chosen)).InField(s.Label)
	case s.Type == Choice && !slices.Contains(s.Choices, chosen):
		return fault.Expect(fault.Setting, "one of "+strings.Join(s.Choices, ", "), fault.Quote(chosen)).InField(s.Label)
	case s.Type == Flag && chosen != "true" && chosen != "false":
		return fault.Expect(fault.Setting, "true or false", fault.Quote(chosen)).InField(s.Label)
	}
	return nil
}

func (s Setting) checkNumber(chosen string) *fault.Fault {
	n, err := strconv.Atoi(chosen)
	switch {
	case err != nil:
		return fault.Expect(fault.Type, "a whole number", fault.Quote(chosen)).InField(s.Label)
	case s.Greatest > 0 && (n < s.Least || n > s.Greatest):
		return fault.Expect(fault.Range, fmt.Sprintf("%d to %d", s.Least, s.Greatest), chosen).InField(s.Label)
	case n < s.Least:
		return fault.Expect(fault.Range, "at least "+strconv.Itoa(s.Least), chosen).InField(s.Label)
	}
	return nil
}

// Pair is a name with a formula, as it is written.
type Pair struct{ Name, Formula partfile.Text }

// Values are what a part says of the settings of its kind.
type Values struct {
	List  List
	Texts map[string]partfile.Text // of all but pairs; those that are not there have no line
	Pairs map[string][]Pair
}

// Read reads the settings from a part. What is missing or does not fit is a fault of the part, at the place where it stands.
func (l List) Read(n partfile.Node) Values {
	v := Values{List: l, Texts: make(map[string]partfile.Text, len(l)), Pairs: map[string][]Pair{}}
	for _, s := range l {
		if s.Type == Pairs {
			v.readPairs(n, s)
			continue
		}
		t := n.Text(s.Name)
		if now, older := s.Was[t.Value]; older {
			t.Value = now
		}
		v.Texts[s.Name] = t
	}
	for _, s := range l {
		if s.Type != Pairs {
			v.check(n, s)
		}
	}
	return v
}

// Upgrade writes the settings of a part that have older names, or older choices, with those of today. It says whether there were any.
func (l List) Upgrade(s partfile.Settings) (changed bool) {
	for _, one := range l {
		for _, older := range one.Older {
			changed = s.Rename(older, one.Name) || changed
		}
		if now, was := one.Was[s.Get(one.Name)]; was {
			s.Set(one.Name, now)
			changed = true
		}
	}
	return changed
}

// Chosen are values that stand in no part.
func (l List) Chosen(chosen map[string]string) Values {
	v := Values{List: l, Texts: make(map[string]partfile.Text, len(chosen))}
	for name, text := range chosen {
		v.Texts[name] = partfile.Text{Value: text}
	}
	return v
}

func (v Values) readPairs(n partfile.Node, s Setting) {
	names, formulas := n.Map(s.Name).Pairs()
	for i := range names {
		v.Pairs[s.Name] = append(v.Pairs[s.Name], Pair{names[i], formulas[i]})
	}
	if len(names) == 0 && s.Required {
		n.Missing(s.Name)
	}
}

// check finds what the part's text of a setting lacks.
func (v Values) check(n partfile.Node, s Setting) {
	t := v.Texts[s.Name]
	if t.Value == "" {
		if s.Required && s.Default == "" && v.List.Applies(s, v.Get) {
			n.Missing(s.Name)
		}
		return
	}
	if f := s.Check(t.Value); f != nil {
		n.Doc().Fault(t, f.InField(s.Name))
	}
}

// Text is what the part says of a setting, with its place.
func (v Values) Text(name string) partfile.Text { return v.Texts[name] }

// Get is what a setting is: as the part says, or its default.
func (v Values) Get(name string) string {
	if t := v.Texts[name]; t.Value != "" {
		return t.Value
	}
	return v.List.Default(name)
}

// Int is a number; 0 where it is not set and has no default, or is none.
func (v Values) Int(name string) int {
	n, err := strconv.Atoi(v.Get(name))
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// Is says whether a flag is set.
func (v Values) Is(name string) bool { return v.Get(name) == "true" }

// Ref is a part that a setting names.
type Ref struct{ Setting, Kind, ID string }

// Refs are the parts that the settings name.
func (v Values) Refs() (refs []Ref) {
	for _, s := range v.List {
		if id := v.Get(s.Name); s.Type == Part && id != "" {
			refs = append(refs, Ref{s.Name, s.Of, id})
		}
	}
	return refs
}
