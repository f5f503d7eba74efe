package flow

import (
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// TrackKind is one way in which a kind of step holds other steps.
type TrackKind struct {
	Key, Title, About string
	Many              bool // a list of tracks, each with a name and steps of its own
	If                bool // each of them has a condition
	Below             bool // drawn as a track below: what happens when something goes wrong
	Chosen            bool // only the records that are led into it pass it
	TakesBack         bool // takes the step back, and is no way on
	Quiet             bool // not drawn while it has no steps
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
	Reads              bool // its records are those that the flow works on
	Drawn              Drawing
	Loops              bool // does its steps for each of several records
	Maps               bool // has a mapping
	Fills              bool // its values can be those of a schema's fields
	Collects           bool // what it does is done when all records are there
	Targets            bool // offered by what it names: an operation, a flow
	Wraps              *Wrapping
	Fits               func(o Offering) bool    // whether one can stand at a place; nil: anywhere
	Begin              func(o Offering) doc.Out // the settings with which one begins there; nil: none
	Detail             func(s *Step) string
	compile            func(c *compiler, s *Step) runner
}

// Drawing is how a step and those inside it are drawn.
type Drawing uint8

// A step is a node on its lane, unless its kind says another way.
const (
	AsNode    Drawing = iota
	AsSpan            // a bracket around its steps
	AsFork            // its tracks beside each other
	AsAttempt         // with the track of what failed below, and what is done in any case behind both
)

// Wrapping is how steps are put into a new step of a kind.
type Wrapping struct {
	Settings doc.Out // of the new step; its "of" is what it is a loop over
	Inside   []any   // the list in it that takes the steps
}

// Offering is a place at which a step is offered, with what is there for it to begin with.
type Offering interface {
	Plan() *Plan
	Top() bool                                           // it is no place inside another step
	List() string                                        // of which list, or of which records, a loop there would be
	Record(name, schema string) doc.Out                  // the last record in scope under one name, and its schema under another where that is not empty
	Connection(fits func(*connection.Kind) bool) doc.Out // the first connection that fits
	Table(columns string) doc.Out                        // the first table, with its key columns under a name
	Request(of *schema.Schema) doc.Out                   // how a message of a schema can be made of what is in scope
}

func hasTables(k *connection.Kind) bool { return k.Tables }

func hasFolder(k *connection.Kind) bool { return k.Watches }

// yields is the settings of which one names the result.
func yields(name string, settings ...doc.Entry) doc.Out {
	return append(settings, doc.Entry{Key: "as", Value: name})
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

var undo = TrackKind{Key: "undo", Title: "Undo", About: "what takes this step back when a later step of the attempt around it fails", Below: true, TakesBack: true, Quiet: true}

// outside adds what all kinds have that reach an outside system.
func outside(k *Kind) *Kind {
	k.Outside = true
	k.Settings = append(append(k.Settings[:len(k.Settings):len(k.Settings)], onFault), reaching...)
	if k.Effect {
		k.Tracks = append(k.Tracks, undo)
	}
	return k
}

// The names of the kinds of step that are put into a flow by what they are for.
const (
	ReadKind   = "read"
	EachKind   = "each"
	MapKind    = "map"
	CallKind   = "call"
	FlowKind   = "flow"
	AnswerKind = "answer"
)

// Holds is the first track with the steps inside the step; nil where it holds none.
func (s *Step) Holds() *Track {
	if len(s.Tracks) == 0 || s.Tracks[0].Kind.TakesBack {
		return nil
	}
	return s.Tracks[0]
}

// Of is the step's kind.
func (s *Step) Of() *Kind {
	if k := kindOf(s.Kind); k != nil {
		return k
	}
	return &Kind{Name: s.Kind} // a part may name one that there is not
}

// The groups under which kinds are offered.
const (
	Shape   = "Transform data"
	Way     = "Control"
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
