package flow

import (
	"hollowreed/internal/core/doc"
)

// SettingType is how a setting is edited and checked.
type SettingType string

// The types of setting.
const (
	Text    SettingType = "text"
	Formula SettingType = "formula"
	Part    SettingType = "part"
	Choice  SettingType = "choice"
	Matches SettingType = "matches"
)

// Setting describes one setting of a kind of step.
type Setting struct {
	Name, Label, Help string
	Type              SettingType
	Required          bool
	Default           string
	Choices           []string
	Of                string // Part: the kind of part
}

// Kind is one kind of step: all that the product knows of it stands in this value.
type Kind struct {
	Name, Title, About string
	Settings           []Setting
	Nests              bool // holds steps of its own
	Outside            bool // stands on its connection's lane
	Effect             bool // changes the outside system
	Detail             func(s *Step) string
	compile            func(c *compiler, s *Step) runner
}

var onFault = Setting{
	Name: "on fault", Label: "When a record cannot pass", Type: Choice, Default: "set aside", Choices: []string{"set aside", "stop"},
	Help: "Set it aside with its fault and carry on, or stop the run at the first; the records beside it in its batch do not go on",
}

// Kinds is the table of step kinds. Its init function keeps the compiler's mutual recursion legal.
var Kinds []*Kind

func init() {
	Kinds = []*Kind{readKind, eachKind, keepKind, findKind, mapKind, upsertKind, callKind, writeKind}
}

func kindOf(name string) *Kind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// KindOf finds a kind of step; nil when there is none.
func KindOf(name string) *Kind { return kindOf(name) }

// KindNames lists the kinds.
func KindNames() []string {
	names := make([]string, len(Kinds))
	for i, k := range Kinds {
		names[i] = k.Name
	}
	return names
}

// place is where a setting stands; the step itself when the setting is not there.
func (s *Step) place(name string) doc.Text {
	if t, ok := s.Settings[name]; ok && t.Line > 0 {
		return t
	}
	return s.At
}
