// Package api is the part that publishes an API: a contract, below which path its operations are called, what answers each, and the
// guards before them.
package api

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

// API is a part that publishes an API.
type API struct {
	ID, Title string
	Base      string        // the path below which its operations are called, without slashes around it
	File      partfile.Text // of its contract
	Contract  *contract.Contract
	Guards    Guards
	Settings  setting.Values
	Ways      []*Way // what answers operations other than flows
	Caches    []*Cache
	At        partfile.Text
	way       map[*contract.Operation]*Way
}

// Way is what answers an operation.
type Way struct {
	Operation *contract.Operation // nil where there is none of the name
	Kind      *WayKind
	Settings  setting.Values
	Name      partfile.Text // of the operation, as it is written
	Index     int           // in the part
	In        *running.Plan // of a way with steps: they answer, or go before a backend; nil where there are none
	Back      *running.Plan // the steps behind a backend; nil where there are none
	passing   passing
}

// Setting reads one of the settings, or its default.
func (w *Way) Setting(name string) string { return w.Settings.Get(name) }

// Connections finds the kind of a connection; empty where there is none.
type Connections func(id string) (kind string)

// baseOK is what a base path looks like.
var baseOK = regexp.MustCompile(`^[A-Za-z0-9._-]+(/[A-Za-z0-9._-]+)*$`)

// Contracts finds a contract by its file: nil where there is none, an error where it cannot be read.
type Contracts func(file string) (*contract.Contract, error)

// Parse reads the part. Its faults are noted in the document, those of the contract with their places in that.
func Parse(id string, d *partfile.Doc, contracts Contracts, kindOf Connections) *API {
	n := d.Root()
	a := &API{ID: id, Title: n.Required("api").Value, Base: id, File: n.Required("contract"), At: n.At()}
	a.Settings = Settings.Read(n)
	if base := a.Settings.Text("base"); base.Value != "" {
		if a.Base = strings.Trim(base.Value, "/"); !baseOK.MatchString(a.Base) {
			d.Fault(base, fault.Expect(fault.Setting, "a path as bookings or v1/bookings", fault.Quote(base.Value)).InField("base"))
		}
	}
	a.Guards = guardsOf(d, a.Settings)
	list, caching := n.List("operations"), n.List("caching")
	if a.contract(d, contracts); a.Contract == nil {
		return a
	}
	a.way = make(map[*contract.Operation]*Way, len(list))
	for i, item := range list {
		a.readWay(d, item, i, kindOf)
	}
	for i, item := range caching {
		a.readCache(d, item, i)
	}
	n.RejectUnknown()
	return a
}

// contract reads the contract.
func (a *API) contract(d *partfile.Doc, contracts Contracts) {
	if a.File.Value == "" {
		return
	}
	var err error
	switch a.Contract, err = contracts(a.File.Value); {
	case err != nil:
		d.Fault(a.File, fault.From(err, fault.Syntax))
		return
	case a.Contract == nil:
		d.Fault(a.File, fault.New(fault.Unknown, "there is no contract %s", fault.Quote(a.File.Value)).InField("contract"))
		return
	}
	d.Faults = append(d.Faults, a.Contract.Faults...)
	for _, o := range a.Contract.Operations {
		if !flow.PathOK.MatchString(a.Path(o)) {
			d.Fault(a.File, fault.New(fault.Setting, "%s: paths have segments of letters, digits, . _ - or one parameter here", o.Name()))
		}
	}
}

// readWay reads what answers one operation.
func (a *API) readWay(d *partfile.Doc, n partfile.Node, i int, kindOf Connections) {
	w := &Way{Name: n.Required("operation"), Index: i}
	w.Kind = WayOf(n.Choice("answered by", wayNames()...))
	w.Settings = w.Kind.Settings.Read(n)
	n.RejectUnknown()
	a.Ways = append(a.Ways, w)
	if w.Operation = a.Operation(w.Name.Value); w.Operation == nil {
		if w.Name.Value != "" {
			d.Fault(w.Name, fault.New(fault.Unknown, "the contract has no operation %s", fault.Quote(w.Name.Value)).InField("operation"))
		}
		return
	}
	if a.way[w.Operation] != nil {
		d.Fault(w.Name, fault.New(fault.Setting, "the operation %s is answered twice", fault.Quote(w.Name.Value)).InField("operation"))
		return
	}
	a.way[w.Operation] = w
	w.readPassing()
	if w.Kind.check != nil {
		w.Kind.check(d, w, kindOf)
	}
}

// Path is where an operation is called, as triggers of flows have paths.
func (a *API) Path(o *contract.Operation) string {
	return strings.TrimSuffix(a.Base+"/"+strings.Trim(o.Path, "/"), "/")
}

// Operation finds an operation of the contract; nil where there is none.
func (a *API) Operation(name string) *contract.Operation {
	if a == nil || a.Contract == nil {
		return nil
	}
	return a.Contract.Operation(name)
}

// Way is what answers an operation other than a flow; nil where nothing does.
func (a *API) Way(o *contract.Operation) *Way { return a.way[o] }

// Connections are the ids of the connections that answer operations.
func (a *API) Connections() (ids []string) {
	for _, w := range a.Ways {
		if id := w.Setting("connection"); id != "" && !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	return ids
}

// Lifecycle is where a version of an API is in its life at a time.
type Lifecycle string

// The stages: callers may build on it, should go to another one, or get 410.
const (
	Published  Lifecycle = "published"
	Deprecated Lifecycle = "deprecated"
	Retired    Lifecycle = "retired"
)

// Stage is where the API is in its life at a time: it is retired, too, once its date has come.
func (a *API) Stage(now time.Time) Lifecycle {
	g := a.Guards
	switch {
	case g.Status == Retired || g.Status == Deprecated && !g.RetiresOn.IsZero() && !now.Before(g.RetiresOn):
		return Retired
	case g.Status == Deprecated:
		return Deprecated
	}
	return Published
}
