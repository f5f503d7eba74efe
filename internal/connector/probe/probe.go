// Package probe tries a connection stage by stage, so that a failure names the stage, what was answered
// and what to try.
package probe

import (
	"context"
	"errors"
	"net"
	"strconv"
	"time"

	"hollowreed/internal/core/fault"
)

// Stage is one step of trying a connection.
type Stage struct {
	Name string
	OK   bool
	Told string // what was found, or what went wrong
	Try  string // what would mend it
	Took time.Duration
}

// Run goes through stages until one fails.
type Run struct {
	Stages []Stage
	Seen   func(Stage)         // told of each stage as it ends; may be nil
	Hide   func(string) string // masks secrets in what is told; may be nil
	failed bool
}

// Do runs a stage, unless one before it failed. try says for an error what would mend it.
func (r *Run) Do(name string, stage func() (told string, err error), try func(error) string) {
	if r.failed {
		return
	}
	began := time.Now()
	told, err := stage()
	r.Did(name, time.Since(began), told, err, try)
}

// Did keeps a stage that was gone through as a part of something else, with the time that it took.
func (r *Run) Did(name string, took time.Duration, told string, err error, try func(error) string) {
	if r.failed {
		return
	}
	s := Stage{Name: name, OK: err == nil, Told: told, Took: took}
	if err != nil {
		r.failed = true
		if s.Told == "" {
			s.Told = err.Error()
		}
		s.Try = try(err)
	}
	if r.Hide != nil {
		s.Told, s.Try = r.Hide(s.Told), r.Hide(s.Try)
	}
	r.Stages = append(r.Stages, s)
	if r.Seen != nil {
		r.Seen(s)
	}
}

// Well says whether every stage was passed.
func (r *Run) Well() bool { return !r.failed && len(r.Stages) > 0 }

// Reach resolves a host's name and reaches its port over TCP with a dialer.
func (r *Run) Reach(ctx context.Context, d *net.Dialer, host string, port int) {
	r.Do("name found", func() (string, error) {
		if net.ParseIP(host) != nil {
			return host + " is an address", nil
		}
		list, err := net.DefaultResolver.LookupHost(ctx, host)
		if err != nil {
			return "no address is known for " + host, err
		}
		return host + " is " + list[0], nil
	}, func(error) string { return "Check how the host is written, and whether this machine can ask for names" })
	at := net.JoinHostPort(host, strconv.Itoa(port))
	r.Do("port reached", func() (string, error) {
		c, err := d.DialContext(ctx, "tcp", at)
		var refused *fault.Fault
		switch {
		case errors.As(err, &refused):
			return refused.Error(), err
		case err != nil:
			return "nothing answers at " + at, err
		}
		return at, c.Close()
	}, func(err error) string {
		var late net.Error
		var refused *fault.Fault
		if errors.As(err, &refused) {
			return refused.Mend
		}
		if errors.As(err, &late) && late.Timeout() {
			return "A firewall may drop what is sent; ask whether this machine may reach the port"
		}
		return "Check the port, and whether the system runs"
	})
}
