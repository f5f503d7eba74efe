// Package api is the part that publishes an API: a contract, and below which path its operations are called.
package api

import (
	"regexp"
	"strings"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/partfile"
)

// API is a part that publishes an API.
type API struct {
	ID, Title string
	Base      string        // the path below which its operations are called, without slashes around it
	File      partfile.Text // of its contract
	Contract  *contract.Contract
	At        partfile.Text
}

// baseOK is what a base path looks like.
var baseOK = regexp.MustCompile(`^[A-Za-z0-9._-]+(/[A-Za-z0-9._-]+)*$`)

// Parse reads the part; document gives the text of a contract, and whether there is one. Its faults are noted in the document, those
// of the contract with their places in that.
func Parse(id string, d *partfile.Doc, document func(file string) (text string, there bool)) *API {
	n := d.Root()
	a := &API{ID: id, Title: n.Required("api").Value, Base: id, File: n.Required("contract"), At: n.At()}
	if base := n.Text("base"); base.Value != "" {
		if a.Base = strings.Trim(base.Value, "/"); !baseOK.MatchString(a.Base) {
			d.Fault(base, fault.Expect(fault.Setting, "a path as bookings or v1/bookings", fault.Quote(base.Value)).InField("base"))
		}
	}
	n.RejectUnknown()
	if a.File.Value == "" {
		return a
	}
	text, there := document(a.File.Value)
	if !there {
		d.Fault(a.File, fault.New(fault.Unknown, "there is no contract %s", fault.Quote(a.File.Value)).InField("contract"))
		return a
	}
	var err error
	if a.Contract, err = contract.Read("contracts/"+a.File.Value, []byte(text)); err != nil {
		d.Fault(a.File, fault.From(err, fault.Syntax))
		return a
	}
	d.Faults = append(d.Faults, a.Contract.Faults...)
	for _, o := range a.Contract.Operations {
		if !flow.PathOK.MatchString(a.Path(o)) {
			d.Fault(a.File, fault.New(fault.Setting, "%s: paths have segments of letters, digits, . _ - or one parameter here", o.Name()))
		}
	}
	return a
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
