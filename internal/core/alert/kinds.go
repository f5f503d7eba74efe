package alert

import (
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/setting"
)

// Condition is what an alert looks for.
type Condition string

// What alerts look for.
const (
	FlowFailed     Condition = "a flow fails"
	NoRuns         Condition = "nothing arrives"
	BacklogGrows   Condition = "a backlog grows"
	ConnectionDown Condition = "a connection is down"
	RunTooLong     Condition = "a run takes long"
)

// Rhythm is when a cause that comes again, while it is told already, is told again.
type Rhythm string

// The rhythms.
const (
	Once    Rhythm = "once a cause"
	AtMost  Rhythm = "at most every"
	EachOne Rhythm = "each"
)

// Kind is one thing that an alert can look for: all that a person can set of it, and how it is said.
type Kind struct {
	Condition Condition
	About     string
	Settings  setting.List
	says      func(a *Alert, of string) string // when it is raised, in a sentence about a flow or connection
}

// Describe says when an alert is raised; title gives the title of a part.
func (a *Alert) Describe(title func(kind, id string) string) string {
	of := "any flow"
	switch {
	case a.Flow.Value != "":
		of = title("flow", a.Flow.Value)
	case a.Connection.Value != "":
		of = title("connection", a.Connection.Value)
	case KindOf(a.Condition).Settings.Find("connection") != nil:
		of = "a connection"
	}
	return KindOf(a.Condition).says(a, of)
}

// Runs is the setting that names the flow that is run.
const Runs = "run flow"

// Kinds in the order in which they are offered.
var Kinds = []*Kind{failsKind, nothingKind, backlogKind, downKind, longKind}

// KindOf finds what is known of what an alert looks for; nil when there is no such thing.
func KindOf(w Condition) *Kind {
	i := slices.IndexFunc(Kinds, func(k *Kind) bool { return k.Condition == w })
	if i < 0 {
		return nil
	}
	return Kinds[i]
}

func names() []string {
	list := make([]string, len(Kinds))
	for i, k := range Kinds {
		list[i] = string(k.Condition)
	}
	return list
}

var (
	anyFlow = setting.Setting{Name: "flow", Label: "Flow", Type: setting.Part, Of: "flow", None: "any"}
	runs    = setting.Setting{Name: Runs, Older: []string{"runs"}, Label: "Run flow", Type: setting.Part, Of: "flow", Required: true, Help: "Flows that a person or another flow starts, and whose message has fields of: " + strings.Join(Message.Layout().Names, ", ")}
	repeats = setting.Setting{Name: "repeat after", Older: []string{"reminder"}, Label: "Repeat after (s)", Type: setting.Number, Default: "3600", Help: "0: never"}
	off     = setting.Setting{Name: "disabled", Older: []string{"off"}, Label: "Disabled", Type: setting.Flag}
)

// within is for how many seconds something holds.
func within(label string) setting.Setting {
	return setting.Setting{Name: "window", Older: []string{"within"}, Label: label, Type: setting.Number, Default: "600"}
}

// all adds what can be set of every alert.
func all(own ...setting.Setting) setting.List {
	return append(setting.List(own), repeats, off)
}

var failsKind = &Kind{
	Condition: FlowFailed,
	About:     "Runs are set aside or stopped, or records of them are set aside, so many times in so many seconds. Once for each cause.",
	Settings: all(anyFlow,
		setting.Setting{Name: "threshold", Older: []string{"times"}, Label: "Threshold (times)", Type: setting.Number, Default: "1"}, within("Window (s)"), runs,
		setting.Setting{Name: "tells", Label: "When a cause comes again", Type: setting.Choice, Default: string(Once), Choices: []string{string(Once), string(AtMost), string(EachOne)}, Help: "It is counted in any case; this is when the flow runs again"},
		setting.Setting{Name: "every", Label: "At most every (s)", Type: setting.Number, Default: "900", When: "tells=" + string(AtMost)},
	),
	says: func(a *Alert, of string) string {
		if a.Threshold < 2 {
			return of + " fails within " + span(a.Window)
		}
		return of + " fails " + strconv.Itoa(a.Threshold) + " times within " + span(a.Window)
	},
}

var nothingKind = &Kind{
	Condition: NoRuns,
	About:     "No run of the flow has begun for so many seconds; where a time of day is set, it is looked at from then on.",
	Settings: all(
		setting.Setting{Name: "flow", Label: "Flow", Type: setting.Part, Of: "flow", Required: true}, within("Window (s)"),
		setting.Setting{Name: "deadline", Older: []string{"by"}, Label: "Deadline (time of day)", Type: setting.Text, Hint: "06:30"},
		setting.Setting{Name: "zone", Label: "Time zone", Type: setting.Text, Hint: "UTC", Help: "For example Europe/Oslo"}, runs,
	),
	says: func(a *Alert, of string) string {
		if a.Deadline.Value != "" {
			return "nothing arrives for " + of + " by " + a.Deadline.Value
		}
		return "nothing arrives for " + of + " for " + span(a.Window)
	},
}

var backlogKind = &Kind{
	Condition: BacklogGrows,
	About:     "More runs wait than so many.",
	Settings:  all(anyFlow, setting.Setting{Name: "threshold", Older: []string{"times"}, Label: "Threshold (waiting runs)", Type: setting.Number, Default: "1"}, runs),
	says: func(a *Alert, of string) string {
		return "more than " + strconv.Itoa(a.Threshold) + " runs of " + of + " wait"
	},
}

var downKind = &Kind{
	Condition: ConnectionDown,
	About:     "A connection that could be used before cannot be for so many seconds. Once for each connection.",
	Settings:  all(setting.Setting{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", None: "any"}, within("Window (s)"), runs),
	says: func(a *Alert, of string) string {
		return of + " cannot be used for " + span(a.Window)
	},
}

var longKind = &Kind{
	Condition: RunTooLong,
	About:     "A run is under way for more than so many seconds. Once for each run.",
	Settings:  all(anyFlow, within("Longer than (seconds)"), runs),
	says: func(a *Alert, of string) string {
		return "a run of " + of + " takes longer than " + span(a.Window)
	},
}

// span is a number of seconds for people: 2 h, 5 min, 90 s.
func span(seconds int) string {
	switch {
	case seconds >= 3600 && seconds%3600 == 0:
		return strconv.Itoa(seconds/3600) + " h"
	case seconds >= 60 && seconds%60 == 0:
		return strconv.Itoa(seconds/60) + " min"
	}
	return strconv.Itoa(seconds) + " s"
}
