package flow

import (
	"slices"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// BranchKind is one way in which a kind of step holds other steps.
type BranchKind struct {
	Key, Title, About string
	Older             []string // keys that it had before
	Many              bool     // a list of branches, each with a name and steps of its own
	If                bool     // each of them has a condition
	Below             bool     // drawn as a branch below: what happens when something goes wrong
	Conditional       bool     // only the records that are led into it pass it
	Compensates       bool     // takes the step back, and is no way on
	Quiet             bool     // not drawn while it has no steps
}

// Kind is one kind of step: all that the product knows of it stands in this value.
type Kind struct {
	Name, Title, About string
	Older              []string // names that it had before
	Group              string   // under which it is offered
	Settings           setting.List
	Branches           []BranchKind
	OnConnection       bool // stands on its connection's lane
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
	Fits               func(o Offering) bool             // whether one can stand at a place; nil: anywhere
	Begin              func(o Offering) partfile.Ordered // the settings with which one begins there; nil: none
	Detail             func(s *Step) string
	Concurrent         bool // it may be done for a batch while the one before it is under way
	Carries            bool // what it yields goes from record to record
	Forgets            bool // it keeps nothing of a record once its batch is over
}

// Drawing is how a step and those inside it are drawn.
type Drawing uint8

// A step is a node on its lane, unless its kind says another way.
const (
	AsNode    Drawing = iota
	AsSpan            // a bracket around its steps
	AsFork            // its branches beside each other
	AsAttempt         // with the branch of what failed below, and what is done in any case behind both
)

// Wrapping is how steps are put into a new step of a kind.
type Wrapping struct {
	Settings partfile.Ordered // of the new step; its "of" is what it is a loop over
	Inside   []any            // the list in it that takes the steps
}

// Offering is a place at which a step is offered, with what is there for it to begin with.
type Offering interface {
	Output() *schema.Schema                                       // that the flow answers with; nil where it has none
	Asked() bool                                                  // an HTTP request starts the flow
	Reads() bool                                                  // a step reads its records already
	Top() bool                                                    // it is no place inside another step
	List() string                                                 // of which list, or of which records, a loop there would be
	Record(name, schema string) partfile.Ordered                  // the last record in scope under one name, and its schema under another where that is not empty
	Connection(fits func(*connection.Kind) bool) partfile.Ordered // the first connection that fits
	Table(columns string) partfile.Ordered                        // the first table, with its key columns under a name
	Request(of *schema.Schema) partfile.Ordered                   // how a message of a schema can be made of what is in scope
}

// The names of the kinds of step that are put into a flow by what they are for.
const (
	ReadKind   = "read"
	EachKind   = "each"
	MapKind    = "map"
	CallKind   = "call"
	FlowKind   = "run flow"
	AnswerKind = "respond"
)

// Holds is the first branch with the steps inside the step; nil where it holds none.
func (s *Step) Holds() *Branch {
	if len(s.Branches) == 0 || s.Branches[0].Kind.Compensates {
		return nil
	}
	return s.Branches[0]
}

// Of is the step's kind.
func (s *Step) Of() *Kind {
	if k := KindOf(s.Kind); k != nil {
		return k
	}
	return &Kind{Name: s.Kind} // a part may name one that there is not
}

// The groups under which kinds are offered.
const (
	GroupTransform = "Transform data"
	GroupControl   = "Control"
	Systems        = "Systems"
	GroupRun       = "The run itself"
)

// Kinds lists the kinds of step. Package step fills it: a program that reads flows imports that.
var Kinds []*Kind

// KindOf finds a kind of step; nil where there is none.
func KindOf(name string) *Kind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// KindCalled finds a kind of step by its name, or by one that it had before; nil where there is none.
func KindCalled(name string) *Kind {
	if k := KindOf(name); k != nil {
		return k
	}
	for _, k := range Kinds {
		if slices.Contains(k.Older, name) {
			return k
		}
	}
	return nil
}

// KindNames lists the kinds.
func KindNames() []string {
	names := make([]string, len(Kinds))
	for i, k := range Kinds {
		names[i] = k.Name
	}
	return names
}

// Place is where a setting stands; the step itself when the setting is not there.
func (s *Step) Place(name string) partfile.Text {
	if t := s.Settings.Text(name); t.Line > 0 {
		return t
	}
	return s.At
}
