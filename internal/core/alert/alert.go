// Package alert holds alerts: when something is the matter with the flows or connections of a project, and which flow is
// run to tell somebody. Whether it is the matter now is asked of the store; what is told is a message of one shape.
package alert

import (
	"strings"
	"time"
	_ "time/tzdata" // zones by name, also where the machine has none

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Alert is one part.
type Alert struct {
	ID, Title   string
	Condition   Condition
	Settings    setting.Values
	Flow        partfile.Text // that it is about; empty: any
	Connection  partfile.Text // that it is about; empty: any
	Threshold   int
	Window      int // seconds
	Deadline    partfile.Text
	Zone        partfile.Text
	RunFlow     partfile.Text // the flow that is run
	RepeatAfter int           // seconds after which it is told again while it lasts; 0: never
	Rhythm      Rhythm        // what comes again
	Interval    int           // seconds, of at most every
	Disabled    bool
	At          partfile.Text
	by          time.Duration // since midnight
	zone        *time.Location
}

// Upgrade writes an alert part with the names of today where it has older ones. It says whether there were any.
func Upgrade(root partfile.Settings) bool {
	changed := root.Rename("when", "condition")
	for _, k := range Kinds { // settings that only other kinds have are kept
		changed = k.Settings.Upgrade(root) || changed
	}
	return changed
}

// Parse reads an alert part.
func Parse(id string, d *partfile.Doc) *Alert {
	d.Upgrade(Upgrade)
	n := d.Root()
	a := &Alert{ID: id, Title: n.Required("alert").Value, Condition: Condition(n.Choice("condition", names()...)), At: n.At(), zone: time.UTC}
	for _, k := range Kinds { // what only other kinds have is passed by
		for _, s := range k.Settings {
			n.Text(s.Name)
		}
	}
	v := KindOf(a.Condition).Settings.Read(n)
	a.Settings, a.Flow, a.Connection, a.RunFlow = v, v.Text("flow"), v.Text("connection"), v.Text("run flow")
	a.Threshold, a.Window, a.RepeatAfter = v.Int("threshold"), v.Int("window"), v.Int("repeat after")
	a.Rhythm, a.Interval, a.Disabled = Rhythm(v.Get("tells")), v.Int("every"), v.Is("disabled")
	a.Deadline, a.Zone = v.Text("deadline"), v.Text("zone")
	a.times(d)
	n.RejectUnknown()
	return a
}

// times reads the time of day and its zone.
func (a *Alert) times(d *partfile.Doc) {
	if a.Deadline.Value != "" {
		clock, err := time.Parse("15:04", a.Deadline.Value)
		if err != nil {
			d.Fault(a.Deadline, fault.Expect(fault.Setting, "a time of day as 06:30", fault.Quote(a.Deadline.Value)).InField("deadline"))
		}
		a.by = time.Duration(clock.Hour())*time.Hour + time.Duration(clock.Minute())*time.Minute
	}
	if a.Zone.Value == "" {
		return
	}
	zone, err := time.LoadLocation(a.Zone.Value)
	if err != nil || a.Zone.Value == "Local" {
		d.Fault(a.Zone, fault.Expect(fault.Setting, "a time zone as Europe/Oslo", fault.Quote(a.Zone.Value)).InField("zone"))
		return
	}
	a.zone = zone
}

// Since is the time after which something must have arrived; ok is false while it is not looked at, before its time of day.
func (a *Alert) Since(now time.Time) (since time.Time, ok bool) {
	within := time.Duration(a.Window) * time.Second
	if a.Deadline.Value == "" {
		return now.Add(-within), true
	}
	local := now.In(a.zone)
	by := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, a.zone).Add(a.by)
	return by.Add(-within), !now.Before(by)
}

// RepeatsNow says whether a cause that came again at a time is told, where the newest that was told came at another, and the last
// telling was at a third.
func (a *Alert) RepeatsNow(came, newest, toldAt, now time.Time) bool {
	if !came.After(newest) {
		return false
	}
	switch a.Rhythm {
	case EachOne:
		return true
	case AtMost:
		return now.Sub(toldAt) >= time.Duration(a.Interval)*time.Second
	}
	return false
}

// Message is the shape of what an alert tells. state is raised, again (what is told came again), reminder (it lasts) or
// cleared. value, reference, run and address are those of the newest run that failed.
var Message = schema.Record("alert",
	schema.Scalar("title", value.Text),
	schema.Scalar("state", value.Text),
	schema.Scalar("text", value.Text),
	schema.Scalar("cause", value.Text),
	schema.Scalar("flow", value.Text).Optional(),
	schema.Scalar("connection", value.Text).Optional(),
	schema.Scalar("since", value.Timestamp),
	schema.Scalar("told", value.Integer),  // how often, this time included
	schema.Scalar("count", value.Integer), // how often it has come
	schema.Scalar("value", value.Text).Optional(),
	schema.Scalar("reference", value.Text).Optional(),
	schema.Scalar("run", value.Text).Optional(),
	schema.Scalar("address", value.Text).Optional(), // of the run's page
)

// CheckFlow says why a flow cannot be run with the message: its input must be fields of it.
func CheckFlow(input *schema.Schema) *fault.Fault {
	if input == nil {
		return fault.New(fault.Setting, "the flow begins with no message").WithFix("Give its trigger a schema with some of %s", strings.Join(Message.Layout().Names, ", "))
	}
	for _, f := range input.Root.Fields {
		has := Message.Field(f.Name)
		switch {
		case has == nil && f.Required():
			return fault.New(fault.Setting, "an alert has no %q, which the flow needs", f.Name).WithFix("It has %s", strings.Join(Message.Layout().Names, ", "))
		case has != nil && (f.Kind != has.Kind || f.List()):
			return fault.Expect(fault.Type, has.Kind.String()+" for "+f.Name, f.Kind.String())
		case has != nil && f.Required() && !has.Required():
			return fault.New(fault.Setting, "not every alert has %q, which the flow needs", f.Name).WithFix("Let it be absent in the schema %s", input.ID)
		}
	}
	return nil
}

// Notification is what an alert tells.
type Notification struct {
	State, Text, Cause   string
	Flow, Connection     string
	Since                time.Time
	NotifiedCount, Count int
	Value, Reference     string
	Run, Address         string
}

// As is the message as one of a flow's input.
func (a *Alert) As(t Notification, input *schema.Schema) value.Value {
	optional := func(s string) value.Value {
		if s == "" {
			return value.Value{}
		}
		return value.NewText(s)
	}
	all := map[string]value.Value{
		"title": value.NewText(a.Title), "state": value.NewText(t.State), "text": value.NewText(t.Text), "cause": value.NewText(t.Cause),
		"flow": optional(t.Flow), "connection": optional(t.Connection), "since": value.Instant(t.Since), "told": value.Int(int64(t.NotifiedCount)),
		"count": value.Int(int64(t.Count)), "value": optional(t.Value), "reference": optional(t.Reference), "run": optional(t.Run), "address": optional(t.Address),
	}
	fields := make([]value.Value, len(input.Root.Fields))
	for i, f := range input.Root.Fields {
		fields[i] = all[f.Name]
	}
	return value.NewRecord(input.Root.Layout(), fields)
}
