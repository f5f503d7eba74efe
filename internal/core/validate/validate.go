// Package validate checks messages and whole files against a schema, record by record in constant
// memory, and reports every fault with its place in the message and in the schema.
package validate

import (
	"errors"
	"io"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
)

// Summary is what a check found.
type Summary struct {
	Records int // that were read, bad ones included
	Bad     int // with at least one fault
	Faults  int
	Unread  bool             // it cannot be read as its notation, from the last fault on
	Ignored notation.Ignored // what was passed over
}

// OK says whether there was no fault.
func (t Summary) OK() bool { return t.Faults == 0 }

// File checks all records of a message in a notation. Part names
// the schema's file, for the rules. Report is given every fault and says whether to go on. The
// error is one for which nothing could be checked.
func File(s *schema.Schema, part string, as *notation.Kind, name string, in io.Reader, report func(*fault.Fault) bool) (Summary, error) {
	c := &check{part: part, name: name, report: report}
	r, err := as.NewReader(in, notation.Options{Source: name, Schema: s, Check: true, Ignored: &c.tally.Ignored})
	if err != nil {
		return c.tally, c.ended(err)
	}
	for !c.stopped {
		_, err := r.Next()
		var faults fault.List
		switch {
		case err == nil:
			c.tally.Records++
		case err == io.EOF:
			if !s.Message.List() || s.Message.Min > 0 {
				c.empty()
			}
			return c.tally, nil
		case errors.As(err, &faults):
			c.tally.Records++
			c.tally.Bad++
			for _, f := range faults {
				c.say(f)
			}
		default:
			return c.tally, c.ended(err)
		}
	}
	return c.tally, nil
}

type check struct {
	part, name string
	report     func(*fault.Fault) bool
	tally      Summary
	stopped    bool
}

func (c *check) say(f *fault.Fault) {
	if c.stopped {
		return
	}
	c.tally.Faults++
	if f.Place.Source == "" {
		f.Place.Source = c.name
	}
	if f.Rule.Line > 0 && f.Rule.Source == "" {
		f.Rule.Source = c.part
	}
	c.stopped = !c.report(f)
}

// ended takes a fault behind which nothing can be read as one of the message; any other error is
// the caller's.
func (c *check) ended(err error) error {
	f, ok := err.(*fault.Fault)
	if !ok || f.Code == fault.Outside || f.Code == fault.Setting {
		return err
	}
	c.tally.Bad++
	c.tally.Unread = Unreadable(f)
	c.say(f)
	return nil
}

// Unreadable says whether a fault that ends the reading tells that the bytes are none of the notation.
func Unreadable(f *fault.Fault) bool { return f.Code == fault.Syntax || f.Code == fault.Encoding }

// empty is the fault of a message without any record, where there must be one.
func (c *check) empty() {
	if c.tally.Records == 0 && c.tally.Faults == 0 {
		c.say(fault.Expect(fault.Required, "at least one record", "none").At(fault.Place{Source: c.name, Line: 1}))
	}
}
