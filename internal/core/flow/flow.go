// Package flow is the model of flows: a trigger and a tree of steps, read from the text of a part, and how kinds of step and
// of trigger are described.
//
// The packages below it: step and trigger hold the kinds, a file each; compile makes a plan of a flow; running takes records
// through a plan; trial does so without outside systems, for tests and tries; layout draws a flow; edit changes one.
package flow

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

// Flow is one part.
type Flow struct {
	ID            string
	Title         string
	Trigger       Trigger
	Settings      setting.Values
	Reference     partfile.Text // a formula over run and input
	Timeout       int           // seconds that a run may take; 0 is no limit
	Concurrency   int           // how many runs may be under way; 0 is any number
	OrderingKey   partfile.Text // a formula over run and input: of the runs for which it is the same one is under way, in their order
	Retention     Retention     // what the journal keeps of its messages
	RetentionDays int           // days for which its runs are kept; 0 is for ever
	WhenBusy      string        // what becomes of a start when as many are under way: queue or skip
	Steps         []*Step
	At            partfile.Text
	Doc           *partfile.Doc
}

// Settings are those of a flow as a whole.
var Settings = setting.List{
	{Name: "reference", Label: "Run reference", Type: setting.Formula, Help: "By which people look for it: a formula over run and the message that it begins with"},
	{Name: "concurrency", Older: []string{"at once"}, Label: "Concurrent runs (at most)", Type: setting.Number, Help: "Empty: any number"},
	{Name: "when busy", Older: []string{"busy"}, Label: "When the limit is reached", Type: setting.Choice, Default: "queue", Choices: []string{"queue", "skip"}},
	{Name: "ordering key", Older: []string{"one per"}, Label: "Ordering key", Type: setting.Formula, Help: "A formula over run and the message: runs for which it is the same wait for each other, in their order"},
	{Name: "store", Older: []string{"keeps"}, Label: "Stored message data", Type: setting.Choice, Default: string(StoreAll), Choices: []string{string(StoreAll), string(StoreInputOutput), string(StoreNothing)}, Help: "What is set aside is kept always, until somebody has dealt with it"},
	{Name: "retention days", Older: []string{"kept for"}, Label: "Retention (days)", Type: setting.Number, Help: "Empty: for ever"},
	{Name: "timeout", Older: []string{"time limit"}, Label: "Timeout of a run (s)", Type: setting.Number, Help: "Empty: none"},
}

// Retention is what the journal keeps of a flow's messages. What is set aside is kept always, with its own text: it waits for
// somebody to mend it.
type Retention string

// The levels of keeping.
const (
	StoreAll         Retention = "everything"
	StoreInputOutput Retention = "ends and faults" // what came in and what went out; of records with a fault everything
	StoreNothing     Retention = "nothing"         // only what became of each record
)

// Trigger is what starts a run: a new file in a connection's folder, new records that an operation gives, a
// schedule, a person, or another flow.
type Trigger struct {
	Kind        string
	Settings    setting.Values
	Name        string
	Connection  partfile.Text
	Glob        partfile.Text
	Operation   partfile.Text  // records: the operation that gives them
	Watermark   partfile.Text  // records: a field that is greater in each new one
	With        []setting.Pair // records: what it is asked with; watermark is the greatest value so far, as text
	From        string         // mail: part of the sender's name or address; empty: anybody's
	Subject     string         // mail: part of the subject
	Input       partfile.Text  // person, called, request: the schema of the message that a run begins with
	Output      partfile.Text  // called, request: the schema of the answer
	As          string         // by which steps speak of the message
	Cron        partfile.Text  // schedule: its times; empty: every so many seconds
	Zone        partfile.Text  // schedule: the time zone of its times, by its name in the tz database
	Holidays    partfile.Text  // schedule: a table whose keys are days on which nothing starts
	Missed      Missed         // schedule: what becomes of starts that were missed
	Method      string         // request
	Path        partfile.Text  // request: behind the address under which requests come in
	Parameters  partfile.Text  // request: the schema of the parameters in its path, query and headers
	BearerToken partfile.Text  // request: the secret that the caller must send as bearer token; empty: none
	Sample      partfile.Text  // request: the body of a try, where no schema has one; mail: the mail of a try
	StoredNames string         // request: names of its query and headers that are kept beside the usual ones
	Elsewhere   bool           // request: browsers may send it for pages of other sites
	Timeout     int            // request: seconds for which the caller waits for the answer
	Interval    int            // seconds between two looks, or two starts of a schedule
	At          partfile.Text
}

// Step is one step of the tree.
type Step struct {
	ID       string
	Kind     string
	Name     string
	Comment  string
	Disabled bool // switched off: it is passed over, and yields nothing
	Settings setting.Values
	Match    []setting.Pair // pairs of name and formula, for the kinds that have them
	Branches []*Branch
	Path     []any // where the step stands in the part, for edits
	At       partfile.Text
	Faults   fault.List // of what is written of it, the steps inside it apart
}

// Branch is a sequence of steps inside a step.
type Branch struct {
	Kind  *BranchKind
	Name  string
	If    partfile.Text // the condition under which it is taken
	Steps []*Step
	Path  []any // where its list of steps stands in the part
	At    partfile.Text
}

// Setting reads one of the step's settings, or its default.
func (s *Step) Setting(name string) string { return s.Settings.Get(name) }

// Parse reads a flow part.
func Parse(id string, d *partfile.Doc) *Flow {
	d.Upgrade(Upgrade)
	n := d.Root()
	f := &Flow{ID: id, Title: n.Required("flow").Value, At: n.At(), Doc: d}
	f.Trigger = readTrigger(n.Map("trigger"))
	f.Settings = Settings.Read(n)
	f.Reference, f.OrderingKey = f.Settings.Text("reference"), f.Settings.Text("ordering key")
	f.Timeout, f.Concurrency, f.WhenBusy = f.Settings.Int("timeout"), f.Settings.Int("concurrency"), f.Settings.Get("when busy")
	f.Retention, f.RetentionDays = Retention(f.Settings.Get("store")), f.Settings.Int("retention days")
	f.Steps = steps(n, "steps", []any{"steps"}, map[string]bool{"trigger": true})
	if len(f.Steps) == 0 && n.Present() {
		n.Fault(fault.Required, "the flow has no steps").Setting = "steps"
	}
	n.RejectUnknown()
	return f
}

func steps(n partfile.Node, key string, path []any, seen map[string]bool) []*Step {
	var out []*Step
	for i, c := range n.List(key) {
		out = append(out, step(c, below(path, i), seen))
	}
	return out
}

// below is the path of something inside.
func below(path []any, names ...any) []any { return append(path[:len(path):len(path)], names...) }

// step reads a step; its faults are those that were found while it was read, and belong to no step inside it.
func step(n partfile.Node, path []any, seen map[string]bool) *Step {
	before := len(n.Doc().Faults)
	s := readStep(n, path, seen)
	for _, f := range n.Doc().Faults[before:] {
		if f.Place.Step == "" {
			f.Place.Step = s.ID
			s.Faults = append(s.Faults, f)
		}
	}
	return s
}

func readStep(n partfile.Node, path []any, seen map[string]bool) *Step {
	kind := n.Required("step")
	s := &Step{
		ID: n.Required("id").Value, Kind: kind.Value, Name: n.Text("name").Value, Comment: n.Text("comment").Value, Disabled: n.Bool("off", false),
		Path: path, At: n.At(),
	}
	k := KindOf(kind.Value)
	if k == nil {
		if kind.Value != "" {
			n.Doc().Fault(kind, fault.Expect(fault.Unknown, "a kind of step ("+strings.Join(KindNames(), ", ")+")", fault.Quote(kind.Value)))
		}
		return s
	}
	if seen[s.ID] {
		n.Fault(fault.Setting, "the step id %q is there twice", s.ID)
	}
	seen[s.ID] = true
	if s.Name == "" {
		s.Name = k.Title
	}
	s.Settings = k.Settings.Read(n)
	for _, pairs := range s.Settings.Pairs {
		s.Match = pairs
	}
	for i := range k.Branches {
		s.readBranches(n, &k.Branches[i], seen)
	}
	n.RejectUnknown()
	return s
}

// readBranches reads the branches of one kind: a list of steps, or a list of branches with steps of their own. A single
// branch that is not there has no steps.
func (s *Step) readBranches(n partfile.Node, k *BranchKind, seen map[string]bool) {
	if !k.Many {
		list := steps(n, k.Key, below(s.Path, k.Key), seen)
		s.Branches = append(s.Branches, &Branch{Kind: k, Steps: list, Path: below(s.Path, k.Key), At: s.At})
		return
	}
	list := n.List(k.Key)
	if len(list) == 0 {
		n.Fault(fault.Required, "%q is missing: %s", k.Key, k.About)
	}
	for i, c := range list {
		path := below(s.Path, k.Key, i, "steps")
		t := &Branch{Kind: k, Name: c.Text("name").Value, Path: path, At: c.At()}
		if k.If {
			t.If = c.Required("if")
		}
		t.Steps = steps(c, "steps", path, seen)
		c.RejectUnknown()
		s.Branches = append(s.Branches, t)
	}
}

// Branch finds the single branch of a key; nil when the kind has none.
func (s *Step) Branch(key string) *Branch {
	for _, t := range s.Branches {
		if t.Kind.Key == key {
			return t
		}
	}
	return nil
}

// Walk visits every step in order, outer before inner.
func (f *Flow) Walk(visit func(s *Step)) { WalkSteps(f.Steps, visit) }

// WalkSteps visits steps and those inside them in order, outer before inner.
func WalkSteps(steps []*Step, visit func(*Step)) {
	for _, s := range steps {
		visit(s)
		for _, t := range s.Branches {
			WalkSteps(t.Steps, visit)
		}
	}
}

// Step finds a step by id; nil when there is none.
func (f *Flow) Step(id string) *Step {
	var found *Step
	f.Walk(func(s *Step) {
		if s.ID == id {
			found = s
		}
	})
	return found
}

// Gap is a place between steps: the path of a list of steps in the part, and a position in it.
type Gap struct {
	Path []any
	At   int
}

// Number reads a setting that was checked.
func (s *Step) Number(name string) float64 {
	n, err := strconv.ParseFloat(s.Setting(name), 64)
	if err != nil || n < 0 {
		return 0
	}
	return n
}
