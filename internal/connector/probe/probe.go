// Package probe tries a connection stage by stage, so that a failure names the stage, what was answered
// and what to try.
package probe

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"strconv"
	"time"

	"hollowreed/internal/core/fault"
)

// Stage is one step of trying a connection.
type Stage struct {
	Name     string
	OK       bool
	Finding  string // what was found, or what went wrong
	Advice   string // what would mend it
	Duration time.Duration
}

// Run goes through stages until one fails.
type Run struct {
	Stages []Stage
	Seen   func(Stage)         // told of each stage as it ends; may be nil
	Hide   func(string) string // masks secrets in what is told; may be nil
	Why    func(error) (why string, untrusted bool)
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
	s := Stage{Name: name, OK: err == nil, Finding: told, Duration: took}
	if err != nil {
		r.failed = true
		if s.Finding == "" {
			s.Finding = err.Error()
		}
		s.Advice = try(err)
	}
	if r.Hide != nil {
		s.Finding, s.Advice = r.Hide(s.Finding), r.Hide(s.Advice)
	}
	r.Stages = append(r.Stages, s)
	if r.Seen != nil {
		r.Seen(s)
	}
}

// Passed says whether every stage was passed.
func (r *Run) Passed() bool { return !r.failed && len(r.Stages) > 0 }

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
			return refused.Fix
		}
		if errors.As(err, &late) && late.Timeout() {
			return "A firewall may drop what is sent; ask whether this machine may reach the port"
		}
		return "Check the port, and whether the system runs"
	})
}

// TLS agrees on encryption with a host and says with whom.
func (r *Run) TLS(ctx context.Context, d *net.Dialer, host string, port int, c *tls.Config) {
	r.Do("encryption agreed", func() (string, error) {
		c = c.Clone()
		if c.ServerName == "" {
			c.ServerName = host
		}
		conn, err := (&tls.Dialer{NetDialer: d, Config: c}).DialContext(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
		if err != nil {
			return r.untrusted(err), err
		}
		defer conn.Close()
		return Agreed(conn.(*tls.Conn).ConnectionState()), nil
	}, func(error) string {
		return "Give the authority's certificate under CA certificates, or check that the host is the right one and speaks TLS at this port"
	})
}

// Agreed says what was agreed, and with whom.
func Agreed(s tls.ConnectionState) string {
	with := ""
	if len(s.PeerCertificates) > 0 {
		c := s.PeerCertificates[0]
		with = " with " + c.Subject.CommonName + ", valid until " + c.NotAfter.UTC().Format("2 Jan 2006")
	}
	return tls.VersionName(s.Version) + with
}

// untrusted says why a certificate is not trusted, or that there is no encryption at all.
func (r *Run) untrusted(err error) string {
	if r.Why != nil {
		if why, is := r.Why(err); is {
			return why
		}
	}
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		return "what answers there does not speak TLS"
	}
	return "no encryption could be agreed on: " + err.Error()
}
