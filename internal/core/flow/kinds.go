package flow

import (
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/setting"
)

// TrackKind is one way in which a kind of step holds other steps.
type TrackKind struct {
	Key, Title, About string
	Many              bool // a list of tracks, each with a name and steps of its own
	If                bool // each of them has a condition
	Below             bool // drawn as a track below: what happens when something goes wrong
}

// Kind is one kind of step: all that the product knows of it stands in this value.
type Kind struct {
	Name, Title, About string
	Group              string // under which it is offered
	Settings           setting.List
	Tracks             []TrackKind
	Outside            bool // stands on its connection's lane
	Effect             bool // changes the outside system
	Ends               bool // nothing behind it is reached
	Lasting            bool // outlives its run: it keeps something for others, starts runs, or waits
	Detail             func(s *Step) string
	compile            func(c *compiler, s *Step) runner
}

var onFault = setting.Setting{
	Name: "on fault", Label: "On fault", Type: setting.Choice, Default: "set aside", Choices: []string{"set aside", "stop"},
	Help: "Set it aside with its fault and carry on, or stop the run there; the records before it are done, and the run can be resumed",
}

// reaching are the settings of all steps that reach an outside system.
var reaching = setting.List{
	{Name: "tries", Label: "Attempts (at most)", Type: setting.Number, Rare: true, Help: "How often it is tried while the system cannot be reached; a refused request is not tried again"},
	{Name: "pause", Label: "First delay (s)", Type: setting.Decimal, Rare: true},
	{Name: "growth", Label: "Backoff factor", Type: setting.Decimal, Default: "2", Rare: true, Help: "With a little chance in it, so that not all come at once"},
	{Name: "longest pause", Label: "Longest delay (s)", Type: setting.Decimal, Default: "300", Rare: true},
	{Name: "time limit", Label: "Time limit (seconds)", Type: setting.Decimal, Rare: true, Help: "After which a try counts as failed"},
}

var undo = TrackKind{Key: "undo", Title: "Undo", About: "what takes this step back when a later step of the attempt around it fails", Below: true}

// outside adds what all kinds have that reach an outside system.
func outside(k *Kind) *Kind {
	k.Outside = true
	k.Settings = append(append(k.Settings[:len(k.Settings):len(k.Settings)], onFault), reaching...)
	if k.Effect {
		k.Tracks = append(k.Tracks, undo)
	}
	return k
}

// The groups under which kinds are offered.
const (
	Shape   = "Shape the data"
	Way     = "Way and order"
	Systems = "Systems"
	Run     = "The run itself"
)

// Kinds is the table of step kinds. Its init function keeps the compiler's mutual recursion legal.
var Kinds []*Kind

func init() {
	Kinds = []*Kind{
		readKind, eachKind, chooseKind, atOnceKind, attemptKind, keepKind, onceKind, gatherKind, cachedKind,
		mapKind, setKind, tallyKind, checkKind, parseKind, formatKind, templateKind, packKind, sealKind, openKind, lookUpKind, changeKind,
		outside(findKind), outside(upsertKind), outside(callKind), outside(writeKind),
		flowKind, answerKind, waitKind, deliverKind, awaitKind, noteKind, referenceKind, stopKind,
	}
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
	if t := s.Settings.Text(name); t.Line > 0 {
		return t
	}
	return s.At
}
