package project

import (
	"slices"
	"strings"

	"hollowreed/internal/core/alert"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
)

// loadAlerts reads the alerts and checks them against the flows and connections that they name.
func (p *Project) loadAlerts() {
	p.alertFaults = map[string]*fault.Fault{}
	p.each(Alerts, func(id string, d *doc.Doc) {
		a := alert.Parse(id, d)
		p.checkAlert(a, d)
		p.alerts = append(p.alerts, a)
		if len(d.Faults) > 0 {
			p.alertFaults[id] = d.Faults[0]
		}
	})
	slices.SortFunc(p.alerts, func(a, b *alert.Alert) int { return strings.Compare(a.ID, b.ID) })
}

func (p *Project) checkAlert(a *alert.Alert, d *doc.Doc) {
	if a.Flow.Value != "" && p.flows[a.Flow.Value] == nil {
		d.Fault(a.Flow, fault.New(fault.Unknown, "there is no flow %q", a.Flow.Value))
	}
	if a.Connection.Value != "" && p.connections[a.Connection.Value] == nil {
		d.Fault(a.Connection, fault.New(fault.Unknown, "there is no connection %q", a.Connection.Value))
	}
	if a.Runs.Value == "" {
		return
	}
	c := p.Contract(a.Runs.Value)
	if c == nil {
		d.Fault(a.Runs, fault.New(fault.Unknown, "there is no flow %q that can be run", a.Runs.Value).Mended("It is to be started by another flow, or by a person"))
		return
	}
	if f := alert.Fits(c.Input); f != nil {
		d.Fault(a.Runs, f)
	}
}

// Alerts lists the alerts, by id.
func (p *Project) Alerts() []*alert.Alert { return p.alerts }

// Alert finds an alert; nil when there is none.
func (p *Project) Alert(id string) *alert.Alert {
	i := slices.IndexFunc(p.alerts, func(a *alert.Alert) bool { return a.ID == id })
	if i < 0 {
		return nil
	}
	return p.alerts[i]
}

// AlertFault is the first fault of an alert; nil where it has none.
func (p *Project) AlertFault(id string) *fault.Fault { return p.alertFaults[id] }
