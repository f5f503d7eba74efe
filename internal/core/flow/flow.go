// Package flow is the model of flows: a trigger and a tree of steps, read from the text of a part, and how kinds of step and
// of trigger are described.
//
// The packages below it: step and trigger hold the kinds, a file each; compile makes a plan of a flow; running takes records
// through a plan; trial does so without outside systems, for tests and tries; layout draws a flow; edit changes one.
package flow

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/setting"
)

// Flow is one part.
type Flow struct {
	ID        string
	Title     string
	Trigger   Trigger
	Settings  setting.Values
	Reference doc.Text // a formula over run and input
	Limit     int      // seconds that a run may take; 0 is no limit
	AtOnce    int      // how many runs may be under way; 0 is any number
	OnePer    doc.Text // a formula over run and input: of the runs for which it is the same one is under way, in their order
	Keeps     Keeps    // what the journal keeps of its messages
	KeptFor   int      // days for which its runs are kept; 0 is for ever
	Busy      string   // what becomes of a start when as many are under way: queue or skip
	Steps     []*Step
	At        doc.Text
	Doc       *doc.Doc
}

// Settings are those of a flow as a whole.
var Settings = setting.List{
	{Name: "reference", Label: "Run reference", Type: setting.Formula, Help: "By which people look for it: a formula over run and the message that it begins with"},
	{Name: "concurrency", Older: []string{"at once"}, Label: "Concurrent runs (at most)", Type: setting.Number, Help: "Empty: any number"},
	{Name: "when busy", Older: []string{"busy"}, Label: "When the limit is reached", Type: setting.Choice, Default: "queue", Choices: []string{"queue", "skip"}},
	{Name: "ordering key", Older: []string{"one per"}, Label: "Ordering key", Type: setting.Formula, Help: "A formula over run and the message: runs for which it is the same wait for each other, in their order"},
	{Name: "store", Older: []string{"keeps"}, Label: "Stored message data", Type: setting.Choice, Default: string(KeepsAll), Choices: []string{string(KeepsAll), string(KeepsEnds), string(KeepsNothing)}, Help: "What is set aside is kept always, until somebody has dealt with it"},
	{Name: "retention days", Older: []string{"kept for"}, Label: "Retention (days)", Type: setting.Number, Help: "Empty: for ever"},
	{Name: "timeout", Older: []string{"time limit"}, Label: "Time limit of a run (seconds)", Type: setting.Number, Help: "Empty: none"},
}

// Keeps is what the journal keeps of a flow's messages. What is set aside is kept always, with its own text: it waits for
// somebody to mend it.
type Keeps string

// The levels of keeping.
const (
	KeepsAll     Keeps = "everything"
	KeepsEnds    Keeps = "ends and faults" // what came in and what went out; of records with a fault everything
	KeepsNothing Keeps = "nothing"         // only what became of each record
)

// Trigger is what starts a run: a new file in a connection's folder, new records that an operation gives, a
// schedule, a person, or another flow.
type Trigger struct {
	Kind       string
	Settings   setting.Values
	Name       string
	Connection doc.Text
	Mask       doc.Text
	Operation  doc.Text       // records: the operation that gives them
	Rising     doc.Text       // records: a field that is greater in each new one
	With       []setting.Pair // records: what it is asked with; rising is the greatest value so far, as text
	From       string         // mail: part of the sender's name or address; empty: anybody's
	Subject    string         // mail: part of the subject
	Input      doc.Text       // person, called, request: the schema of the message that a run begins with
	Output     doc.Text       // called, request: the schema of the answer
	As         string         // by which steps speak of the message
	Cron       doc.Text       // schedule: its times; empty: every so many seconds
	Zone       doc.Text       // schedule: the time zone of its times, by its name in the tz database
	Holidays   doc.Text       // schedule: a table whose keys are days on which nothing starts
	Missed     Missed         // schedule: what becomes of starts that were missed
	Method     string         // request
	Path       doc.Text       // request: behind the address under which requests come in
	Parameters doc.Text       // request: the schema of the parameters in its path, query and headers
	Key        doc.Text       // request: the secret that the caller must send as bearer token; empty: none
	Sample     doc.Text       // request: the body of a try, where no schema has one; mail: the mail of a try
	Keep       string         // request: names of its query and headers that are kept beside the usual ones
	Elsewhere  bool           // request: browsers may send it for pages of other sites
	Wait       int            // request: seconds for which the caller waits for the answer
	Every      int            // seconds between two looks, or two starts of a schedule
	At         doc.Text
}

// Step is one step of the tree.
type Step struct {
	ID       string
	Kind     string
	Name     string
	Comment  string
	Off      bool // switched off: it is passed over, and yields nothing
	Settings setting.Values
	Match    []setting.Pair // pairs of name and formula, for the kinds that have them
	Tracks   []*Track
	Path     []any // where the step stands in the part, for edits
	At       doc.Text
	Faults   fault.List // of what is written of it, the steps inside it apart
}

// Track is a sequence of steps inside a step.
type Track struct {
	Kind  *TrackKind
	Name  string
	If    doc.Text // the condition under which it is taken
	Steps []*Step
	Path  []any // where its list of steps stands in the part
	At    doc.Text
}

// Setting reads one of the step's settings, or its default.
func (s *Step) Setting(name string) string { return s.Settings.Get(name) }

// Parse reads a flow part.
func Parse(id string, d *doc.Doc) *Flow {
	d.Upgrade(Upgrade)
	n := d.Root()
	f := &Flow{ID: id, Title: n.Need("flow").Value, At: n.At(), Doc: d}
	f.Trigger = readTrigger(n.Map("trigger"))
	f.Settings = Settings.Read(n)
	f.Reference, f.OnePer = f.Settings.Text("reference"), f.Settings.Text("ordering key")
	f.Limit, f.AtOnce, f.Busy = f.Settings.Int("timeout"), f.Settings.Int("concurrency"), f.Settings.Get("when busy")
	f.Keeps, f.KeptFor = Keeps(f.Settings.Get("store")), f.Settings.Int("retention days")
	f.Steps = steps(n, "steps", []any{"steps"}, map[string]bool{"trigger": true})
	if len(f.Steps) == 0 && n.Present() {
		n.Fault(fault.Required, "the flow has no steps").Setting = "steps"
	}
	n.Done()
	return f
}

func steps(n doc.Node, key string, path []any, seen map[string]bool) []*Step {
	var out []*Step
	for i, c := range n.List(key) {
		out = append(out, step(c, below(path, i), seen))
	}
	return out
}

// below is the path of something inside.
func below(path []any, names ...any) []any { return append(path[:len(path):len(path)], names...) }

// step reads a step; its faults are those that were found while it was read, and belong to no step inside it.
func step(n doc.Node, path []any, seen map[string]bool) *Step {
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

func readStep(n doc.Node, path []any, seen map[string]bool) *Step {
	kind := n.Need("step")
	s := &Step{
		ID: n.Need("id").Value, Kind: kind.Value, Name: n.Text("name").Value, Comment: n.Text("comment").Value, Off: n.Bool("off", false),
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
	for i := range k.Tracks {
		s.tracks(n, &k.Tracks[i], seen)
	}
	n.Done()
	return s
}

// tracks reads the tracks of one kind: a list of steps, or a list of tracks with steps of their own. A single
// track that is not there has no steps.
func (s *Step) tracks(n doc.Node, k *TrackKind, seen map[string]bool) {
	if !k.Many {
		list := steps(n, k.Key, below(s.Path, k.Key), seen)
		s.Tracks = append(s.Tracks, &Track{Kind: k, Steps: list, Path: below(s.Path, k.Key), At: s.At})
		return
	}
	list := n.List(k.Key)
	if len(list) == 0 {
		n.Fault(fault.Required, "%q is missing: %s", k.Key, k.About)
	}
	for i, c := range list {
		path := below(s.Path, k.Key, i, "steps")
		t := &Track{Kind: k, Name: c.Text("name").Value, Path: path, At: c.At()}
		if k.If {
			t.If = c.Need("if")
		}
		t.Steps = steps(c, "steps", path, seen)
		c.Done()
		s.Tracks = append(s.Tracks, t)
	}
}

// Track finds the single track of a key; nil when the kind has none.
func (s *Step) Track(key string) *Track {
	for _, t := range s.Tracks {
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
		for _, t := range s.Tracks {
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
