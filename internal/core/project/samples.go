package project

import (
	"errors"
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

// OpenSample reads a sample of a schema, and checks it on the way when it is told to.
func (p *Project) OpenSample(s *schema.Schema, name string, check bool, ignored ...*notation.Ignored) (notation.Reader, error) {
	text, ok := p.Texts[Path(Samples, name)]
	if !ok {
		return nil, fault.New(fault.Unknown, "there is no sample %q", name)
	}
	n, err := all.OfFile(name, s)
	if err != nil {
		return nil, err
	}
	o := notation.Options{Source: name, Schema: s, Check: check}
	if len(ignored) > 0 {
		o.Ignored = ignored[0]
	}
	return n.NewReader(strings.NewReader(text), o)
}

// Example is a record of a schema: the first of its first sample, or a typical one that is made up.
func (p *Project) Example(s *schema.Schema) (value.Value, error) {
	if rows, err := p.SampleRecords(s, 1); err != nil || len(rows) > 0 {
		return append(rows, value.Value{})[0], err
	}
	v, f := sample.Make(s, sample.Typical, 0)
	if f != nil {
		return value.Value{}, f
	}
	return v, nil
}

// SampleRecords reads up to most records of a schema's first sample; records that cannot be read
// are passed over. It is empty when the schema has no sample; one of a contract has the contract's example, or a made-up one.
func (p *Project) SampleRecords(s *schema.Schema, most int) ([]value.Value, error) {
	if len(s.Samples) == 0 {
		return p.contractExample(s), nil
	}
	r, err := p.OpenSample(s, s.Samples[0], false)
	if err != nil {
		return nil, err
	}
	var records []value.Value
	err = eachRecord(r, func(v value.Value, faults fault.List) bool {
		if faults == nil {
			records = append(records, v)
		}
		return len(records) < most
	})
	return records, err
}

// eachRecord uses the records of a message, and the faults of those that cannot be read, until use is false.
func eachRecord(r notation.Reader, use func(v value.Value, faults fault.List) bool) error {
	for {
		v, err := r.Next()
		var faults fault.List
		switch {
		case err == io.EOF:
			return nil
		case err != nil && !errors.As(err, &faults):
			return err
		}
		if !use(v, faults) {
			return nil
		}
	}
}

// Unread counts the records of a sample that cannot be read, and gives the first fault.
func (p *Project) Unread(s *schema.Schema, sample string, most int) (n int, first *fault.Fault) {
	r, err := p.OpenSample(s, sample, false)
	if err == nil {
		left := most
		err = eachRecord(r, func(_ value.Value, faults fault.List) bool {
			if len(faults) > 0 {
				if n++; first == nil {
					first = faults[0]
				}
			}
			left--
			return left > 0
		})
	}
	if err != nil && first == nil {
		n, first = n+1, fault.From(err, fault.Syntax)
	}
	return n, first
}
