package edit

import (
	"fmt"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
)

// Cut cuts a fixed-width schema before a column, counted from 1, or takes the cut away that is
// there. Where a field is cut its left part stays what it is, and the right becomes a text. Where
// a cut is taken away the left field gets the columns of the right.
func Cut(text []byte, s *schema.Schema, column int) (Result, error) {
	if s.Notation != "fixedwidth" {
		return Result{}, fault.New(fault.Setting, "only fixed width has columns to cut")
	}
	if column < 1 || column > 1<<16 {
		return Result{}, fault.New(fault.Setting, "there is no column %d", column)
	}
	for i, f := range s.Root.Fields {
		switch w := f.Written; {
		case w.From == column && i > 0:
			return join(text, s, i)
		case w.From < column && column <= w.To:
			return split(text, s, i, column)
		}
	}
	return reach(text, s, column)
}

func columns(from, to int) string {
	w := schema.Written{From: from, To: to}
	return w.Columns()
}

func split(text []byte, s *schema.Schema, i, column int) (Result, error) {
	w := s.Root.Fields[i].Written
	text, err := doc.Set(text, Path{i}.node("columns"), columns(w.From, column-1))
	if err != nil {
		return Result{}, err
	}
	item := newField(fresh(s.Root, fmt.Sprintf("field_%d", column)))
	item.Add("columns", columns(column, w.To))
	text, err = doc.Insert(text, Path{}.list(), i+1, item)
	return Result{text, Path{i + 1}}, err
}

func join(text []byte, s *schema.Schema, i int) (Result, error) {
	left, right := s.Root.Fields[i-1].Written, s.Root.Fields[i].Written
	text, err := doc.Set(text, Path{i - 1}.node("columns"), columns(left.From, right.To))
	if err != nil {
		return Result{}, err
	}
	text, err = doc.Remove(text, Path{}.list(), i)
	return Result{text, Path{i - 1}}, err
}

// reach covers columns behind the last field, or between two, with a new field before the column.
func reach(text []byte, s *schema.Schema, column int) (Result, error) {
	at, end := 0, 0
	for i, f := range s.Root.Fields {
		if f.Written.To < column {
			at, end = i+1, f.Written.To
		}
	}
	if end+1 >= column {
		return Result{}, fault.New(fault.Setting, "a field begins at column %d already", column)
	}
	item := newField(fresh(s.Root, fmt.Sprintf("field_%d", end+1)))
	item.Add("columns", columns(end+1, column-1))
	text, err := doc.Insert(text, Path{}.list(), at, item)
	return Result{text, Path{at}}, err
}

// Nudge moves the cut before a column by some columns: the fields on both sides keep at least one.
func Nudge(text []byte, s *schema.Schema, column, by int) (Result, error) {
	for i := 1; i < len(s.Root.Fields); i++ {
		left, right := s.Root.Fields[i-1].Written, s.Root.Fields[i].Written
		if right.From != column {
			continue
		}
		to := column + by
		if to <= left.From || to > right.To {
			return Result{}, fault.New(fault.Setting, "a field has at least one column")
		}
		text, err := doc.Set(text, Path{i - 1}.node("columns"), columns(left.From, to-1))
		if err != nil {
			return Result{}, err
		}
		text, err = doc.Set(text, Path{i}.node("columns"), columns(to, right.To))
		return Result{text, Path{i}}, err
	}
	return Result{}, fault.New(fault.Setting, "no field is cut before column %d", column)
}
