package flow

import (
	"context"
	"errors"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
)

// Played is what became of a message that was taken through a flow in one go, with nothing recorded.
type Played struct {
	Whole *Item // the run as a whole
	Items []*Item
	More  bool // there are more records than were taken
}

// Playing is a message that is taken through a flow in one go.
type Playing struct {
	Facts Facts
	Input value.Value
	Open  func() (notation.Reader, error) // the records that are read; nil where none are
	Most  int                             // records that are taken
	Only  int                             // from 1: the only one that is worked on; 0: all
}

// Unread is why the records of a message could not be read.
type Unread struct{ Err error }

// Error is the cause.
func (u *Unread) Error() string { return u.Err.Error() }

// Unwrap is the cause.
func (u *Unread) Unwrap() error { return u.Err }

// Play takes a message through the batch's flow: its head, its records in one batch, and its tail. What was done before an
// error is given, too; an error is an *Unread, a *Halt, or that of a step.
func (b *Batch) Play(ctx context.Context, m Playing) (*Played, error) {
	plan := b.Plan
	p := &Played{Whole: plan.Whole(m.Facts, m.Input)}
	if err := b.Pass(ctx, plan.Head, p.Whole); err != nil {
		return p, err
	}
	if plan.ReadStep == nil || p.Whole.State != Done {
		return p, nil
	}
	if err := b.records(ctx, m, p); err != nil || b.Stopped != nil {
		return p, err
	}
	plan.Tallied(p.Whole, b.Totals.Values)
	p.Whole.State = Live
	return p, b.Pass(ctx, plan.Tail, p.Whole)
}

// records reads the records and passes them through the body.
func (b *Batch) records(ctx context.Context, m Playing, p *Played) error {
	if b.Plan.Source == nil || m.Open == nil {
		return &Unread{fault.New(fault.Setting, "the flow reads nothing yet")}
	}
	r, err := m.Open()
	if err != nil {
		return &Unread{fault.From(err, fault.Setting)}
	}
	src := NewSource(b.Plan, r, m.Facts).Within(p.Whole)
	if p.Items, err = src.Batch(m.Most); err != nil {
		if AtEnd(err) {
			return &Unread{Empty(m.Facts.File)}
		}
		return &Unread{fault.From(err, fault.Syntax)}
	}
	if len(p.Items) == m.Most {
		_, err := src.Batch(1)
		p.More = err == nil
	}
	items := p.Items
	if m.Only > 0 && m.Only <= len(items) {
		items = items[m.Only-1 : m.Only]
	}
	b.live, b.next = nil, 0
	return b.Run(ctx, items)
}

// Halted is where an error of Play has halted the message; nil where it has not.
func Halted(err error) *Halt {
	var h *Halt
	if errors.As(err, &h) {
		return h
	}
	return nil
}
