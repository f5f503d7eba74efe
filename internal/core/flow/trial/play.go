package trial

import (
	"context"
	"errors"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
)

// PlayResult is what became of a message that was taken through a flow in one go, with nothing recorded.
type PlayResult struct {
	Whole *running.Item // the run as a whole
	Items []*running.Item
	More  bool // there are more records than were taken
}

// PlayOptions is a message that is taken through a flow in one go.
type PlayOptions struct {
	Facts   running.Facts
	Input   value.Value
	Open    func() (notation.Reader, error) // the records that are read; nil where none are
	Ignored *notation.Ignored               // where the reader counts what it passes over; may be nil
	Most    int                             // records that are taken
	Only    int                             // from 1: the only one that is worked on; 0: all
}

// ReadError is why the records of a message could not be read.
type ReadError struct{ Err error }

// Error is the cause.
func (u *ReadError) Error() string { return u.Err.Error() }

// Unwrap is the cause.
func (u *ReadError) Unwrap() error { return u.Err }

// Play takes a message through the batch's flow: its head, its records in one batch, and its tail. What was done before an
// error is given, too; an error is an *Unread, a *Halt, or that of a step.
func Play(ctx context.Context, b *running.Batch, m PlayOptions) (*PlayResult, error) {
	plan := b.Plan
	p := &PlayResult{Whole: plan.RunItem(m.Facts, m.Input)}
	if err := b.Pass(ctx, plan.Head, p.Whole); err != nil {
		return p, err
	}
	if plan.ReadStep == nil || p.Whole.State != running.Done {
		return p, nil
	}
	if err := playRecords(ctx, b, m, p); err != nil || b.Stopped != nil {
		return p, err
	}
	plan.SetTotals(p.Whole, b.Totals.Values)
	p.Whole.State = running.Live
	return p, b.Pass(ctx, plan.Tail, p.Whole)
}

// playRecords reads the records and passes them through the body.
func playRecords(ctx context.Context, b *running.Batch, m PlayOptions, p *PlayResult) error {
	if b.Plan.Source == nil || m.Open == nil {
		return &ReadError{fault.New(fault.Setting, "the flow reads nothing yet")}
	}
	r, err := m.Open()
	if err != nil {
		return &ReadError{fault.From(err, fault.Setting)}
	}
	src := running.NewSource(b.Plan, r, m.Facts).Within(p.Whole).Ignoring(m.Ignored)
	if p.Items, err = src.Batch(m.Most); err != nil {
		if running.AtEnd(err) {
			return &ReadError{running.Empty(m.Facts.File)}
		}
		return &ReadError{fault.From(err, fault.Syntax)}
	}
	if len(p.Items) == m.Most {
		_, err := src.Batch(1)
		p.More = err == nil
	}
	src.CountIgnored(b)
	items := p.Items
	if m.Only > 0 && m.Only <= len(items) {
		items = items[m.Only-1 : m.Only]
	}
	b.Rewind()
	return b.Run(ctx, items)
}

// Halted is where an error of Play has halted the message; nil where it has not.
func Halted(err error) *running.Halt {
	var h *running.Halt
	if errors.As(err, &h) {
		return h
	}
	return nil
}
