package project

import (
	"hollowreed/internal/core/alert"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
)

var alertKind = &kind{
	folder: Alerts, one: "alert", title: "alert", older: alert.Upgrade, named: map[string]string{"flow": Flows, "run flow": Flows, "connection": Connections},
	compile: func(k *looking, u *unit) {
		d := u.doc.Again()
		a := alert.Parse(u.ID, d)
		checkAlert(k, a, d)
		u.value = a
		u.found(d.Faults)
	},
	titled: func(u *unit) string { return titleOf(u, func(a *alert.Alert) string { return a.Title }) },
}

// checkAlert holds an alert against the flows and connections that it names.
func checkAlert(k *looking, a *alert.Alert, d *partfile.Doc) {
	if a.Flow.Value != "" && !k.has(Flows, a.Flow.Value) {
		d.Fault(a.Flow, fault.New(fault.Unknown, "there is no flow %q", a.Flow.Value))
	}
	if a.Connection.Value != "" && !k.has(Connections, a.Connection.Value) {
		d.Fault(a.Connection, fault.New(fault.Unknown, "there is no connection %q", a.Connection.Value))
	}
	if a.RunFlow.Value == "" {
		return
	}
	c := k.Contract(a.RunFlow.Value)
	if c == nil {
		d.Fault(a.RunFlow, fault.New(fault.Unknown, "there is no flow %q that can be run", a.RunFlow.Value).WithFix("It is to be started by another flow, or by a person"))
		return
	}
	if f := alert.CheckFlow(c.Input); f != nil {
		d.Fault(a.RunFlow, f)
	}
}

// Alerts lists the alerts, by id.
func (p *Project) Alerts() (list []*alert.Alert) {
	for _, part := range p.Parts(Alerts) {
		list = append(list, p.Alert(part.ID))
	}
	return list
}

// Alert finds an alert; nil when there is none.
func (p *Project) Alert(id string) *alert.Alert { return compiled[*alert.Alert](p, Alerts, id) }

// AlertFault is the first fault of an alert; nil where it has none.
func (p *Project) AlertFault(id string) *fault.Fault {
	if u := p.units[Path(Alerts, id)]; u != nil && len(u.faults) > 0 {
		return u.faults[0]
	}
	return nil
}
