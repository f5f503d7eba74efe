package connection

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const (
	record  = value.RecordKind
	integer = value.Integer
	text    = value.Text
)

// SettingType is how a setting is edited and checked.
type SettingType string

// The types of setting. Those of an environment are Text to Lines; operations have Formula, OnAnswer and
// Formulas, too.
const (
	Text     SettingType = "text"
	Number   SettingType = "number"
	Choice   SettingType = "choice"
	Flag     SettingType = "flag"
	Secret   SettingType = "secret" // the name of a secret
	Lines    SettingType = "lines"  // several lines of text
	Formula  SettingType = "formula"
	OnAnswer SettingType = "formula on the answer"
	Formulas SettingType = "formulas" // names with a formula each
)

// Setting describes one setting of a kind of system in an environment, or of an operation.
type Setting struct {
	Name, Label, Help string
	Type              SettingType
	Required          bool
	Default           string
	Choices           []string
	Least, Greatest   int    // of a number; Greatest 0 is none
	When              string // shown and needed only where another setting has a value: "name=value|value"
	Of                string // Secret: the type of secret
	More              bool   // most connections do without it
}

// Kind is one kind of system: all that the product knows of it, but for how it is reached.
type Kind struct {
	Name, Title string
	About       string // what it is for, in a sentence
	Needs       string // what one needs to know to connect
	Settings    []Setting
	Verbs       []Verb
	Watches     bool // new files in it can start a flow
	Mails       bool // new mails in it can start a flow
	Tables      bool // rows can be looked up and upserted by key
	Loose       bool // what it offers can be called without being described as an operation
}

// Verb is a kind of operation.
type Verb struct {
	Name, About       string
	Settings          []Setting
	Request, Response *schema.Schema // where they are the same for every operation
	Reads             bool           // gives any number of records: a run can read them
	Effect            bool           // changes the outside system
	NoRequest         bool
	NoResponse        bool
}

// Asks says whether what the verb is asked with is fixed.
func (v *Verb) Asks() bool { return v.Request != nil || v.NoRequest }

// Gives says whether what the verb answers is fixed.
func (v *Verb) Gives() bool { return v.Response != nil || v.NoResponse }

// Kinds is the table of kinds of system.
var Kinds = []*Kind{fileKind, sftpKind, sqlKind, httpKind, soapKind, mailKind, mailboxKind, directoryKind}

// KindOf finds a kind; nil when there is none.
func KindOf(name string) *Kind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Names lists the kinds.
func Names() []string {
	names := make([]string, len(Kinds))
	for i, k := range Kinds {
		names[i] = k.Name
	}
	return names
}

// Verb finds a kind of operation; the first when there is none of that name.
func (k *Kind) Verb(name string) *Verb {
	for i := range k.Verbs {
		if k.Verbs[i].Name == name {
			return &k.Verbs[i]
		}
	}
	return &k.Verbs[0]
}

// field makes an optional field of a fixed schema.
func field(name string, kind value.Kind, notes string) *schema.Field {
	f := schema.Scalar(name, kind).Optional()
	f.Notes = notes
	return f
}

// needed makes a required field of a fixed schema.
func needed(name string, kind value.Kind, notes string) *schema.Field {
	f := schema.Scalar(name, kind)
	f.Notes = notes
	return f
}

// listed makes a field that occurs any number of times.
func listed(f *schema.Field) *schema.Field {
	f.Min, f.Max = 0, schema.Many
	return f
}

// fixed makes the schema of a verb, which no part describes.
func fixed(id, title string, fields ...*schema.Field) *schema.Schema {
	return &schema.Schema{ID: id, Title: title, Notation: json.Kind.Notation, Root: schema.Record(id, fields...)}
}

// waits is the setting that all kinds have which wait for an answer.
var waits = Setting{Name: "timeout", More: true, Label: "Timeout (s)", Type: Number, Default: "30", Least: 1, Greatest: 600, Help: "Seconds for one answer; then it counts as not answered"}

// largest is the setting that all kinds have which read what a system sends.
var largest = Setting{Name: "largest", More: true, Label: "Largest response (MB)", Type: Number, Default: "64", Least: 1, Greatest: 4096, Help: "Megabytes; an answer that is longer, also when it is unpacked, is cut off and is a fault"}

// encryption are the settings of kinds that are reached over TLS.
func encryption(when string) []Setting {
	return []Setting{
		{Name: "authority", More: true, Label: "CA certificates", Type: Lines, When: when, Help: "PEM certificates that are trusted beside those of this machine"},
		{Name: "certificate", More: true, Label: "Client certificate", Type: Secret, Of: "certificate", When: when, Help: "Where the system asks who we are: certificate and key as PEM, as one secret"},
	}
}

// Needed says whether a setting is asked for, as the others are chosen.
func (k *Kind) Needed(s Setting, chosen map[string]string) bool {
	name, values, ok := strings.Cut(s.When, "=")
	if !ok {
		return true
	}
	now := chosen[name]
	for _, other := range k.Settings {
		if other.Name == name {
			if now == "" {
				now = other.Default
			}
			if !k.Needed(other, chosen) {
				return false
			}
		}
	}
	return slices.Contains(strings.Split(values, "|"), now)
}

// Check says what is wrong with what is chosen for a setting; nil when it fits.
func (s Setting) Check(chosen string) *fault.Fault {
	switch {
	case chosen == "" && s.Required && s.Default == "":
		return fault.New(fault.Required, "needed").In(s.Label)
	case chosen == "":
		return nil
	case s.Type == Number:
		n, err := strconv.Atoi(chosen)
		if err != nil {
			return fault.Expect(fault.Type, "a whole number", fault.Quote(chosen)).In(s.Label)
		}
		if n < s.Least || s.Greatest > 0 && n > s.Greatest {
			return fault.Expect(fault.Range, fmt.Sprintf("%d to %d", s.Least, s.Greatest), chosen).In(s.Label)
		}
	case s.Type == Choice && !slices.Contains(s.Choices, chosen):
		return fault.Expect(fault.Setting, "one of "+strings.Join(s.Choices, ", "), fault.Quote(chosen)).In(s.Label)
	}
	return nil
}

// New is the text of a part of a kind, without operations.
func New(title string, k *Kind) []byte {
	return doc.Encode(doc.Out{{Key: "connection", Value: title}, {Key: "kind", Value: k.Name}, {Key: "about", Value: k.Title}})
}
