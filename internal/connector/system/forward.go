package system

import (
	"errors"
	"net/http"
	"net/url"
	"time"
)

// Forwarding is how a request is handed on to a system, and its response back.
type Forwarding struct {
	Path     string                                 // escaped, below the address of the system
	Query    string                                 // as it came
	Keep     func(name string) bool                 // which headers of the request are passed on; nil: all
	Drop     []string                               // headers of the response that are not
	Token    string                                 // what becomes of the user name token of an envelope, as package api says; empty: nothing
	Timeout  time.Duration                          // until the response begins
	Response func(*http.Response) error             // looks at the response before it is handed back, and may change it; nil: nothing does
	Failed   func(w http.ResponseWriter, err error) // answers in place of the system: it did not, or Response gave an error
}

// Forwarder is a system that requests of others can be handed on to, as they are.
type Forwarder interface {
	// Forward gives an error where the system did not answer.
	Forward(w http.ResponseWriter, r *http.Request, f Forwarding) error
	// Address is where requests are handed on to.
	Address() *url.URL
}

// Why a request is not answered by the system that it is handed on to.
var (
	ErrSlow = errors.New("the system did not answer in time")
	ErrBusy = errors.New("so many requests are handed on to the system that this one has to come again")
)
