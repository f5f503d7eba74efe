package table

import (
	"encoding/csv"
	"errors"
	"io"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// Columns are the names of the columns, in order.
func (t *Table) Columns() []string { return t.Row.Layout().Names }

// Texts are the values of a row as a part writes them; what is absent is empty.
func Texts(row value.Value) partfile.Row {
	fields := row.Record().Fields
	out := make(partfile.Row, len(fields))
	for i, v := range fields {
		if !v.IsMissing() {
			out[i] = v.String()
		}
	}
	return out
}

// WriteCSV writes the table with a heading (RFC 4180).
func (t *Table) WriteCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	if err := out.Write(t.Columns()); err != nil {
		return err
	}
	for _, row := range t.Rows {
		if err := out.Write(Texts(row)); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// Merge gives the table's rows with those of a CSV text (RFC 4180): a row whose key is there is
// replaced, the others are added. A first line that names columns says their order; the columns that it
// does not name stay as they are. Values are not
// checked here.
func (t *Table) Merge(text string) (rows []partfile.Row, added, replaced int, err error) {
	read := csv.NewReader(strings.NewReader(text))
	read.FieldsPerRecord, read.TrimLeadingSpace = -1, true
	names, at := t.Columns(), map[string]int{}
	for _, row := range t.Rows {
		cells := Texts(row)
		at[t.key(cells)] = len(rows)
		rows = append(rows, cells)
	}
	order := names
	for n := 0; ; n++ {
		record, err := read.Read()
		if err == io.EOF {
			return rows, added, replaced, nil
		}
		if err != nil {
			return nil, 0, 0, csvFault(err)
		}
		if n == 0 && slices.Contains(names, record[0]) {
			order = record
			continue
		}
		cells, ft := t.cells(order, record)
		if ft != nil {
			line, _ := read.FieldPos(0)
			return nil, 0, 0, ft.At(fault.Place{Source: "the pasted rows", Line: line, Column: 1})
		}
		if i, there := at[t.key(cells)]; there {
			for j, name := range names {
				if !slices.Contains(order, name) {
					cells[j] = rows[i][j]
				}
			}
			rows[i] = cells
			replaced++
			continue
		}
		at[t.key(cells)] = len(rows)
		rows = append(rows, cells)
		added++
	}
}

func csvFault(err error) *fault.Fault {
	var p *csv.ParseError
	if errors.As(err, &p) {
		return fault.New(fault.Syntax, "%s", p.Err).At(fault.Place{Source: "the pasted rows", Line: p.Line, Column: p.Column})
	}
	return fault.From(err, fault.Syntax)
}

// cells puts the values of a record into the order of the columns.
func (t *Table) cells(order, record []string) (partfile.Row, *fault.Fault) {
	if len(record) > len(order) {
		return nil, fault.New(fault.Setting, "the row has %d values for %d columns", len(record), len(order))
	}
	names := t.Columns()
	out := make(partfile.Row, len(names))
	for i, cell := range record {
		at := slices.Index(names, order[i])
		if at < 0 {
			return nil, fault.New(fault.Unknown, "the table has no column %q", order[i]).WithFix("It has %s", strings.Join(names, ", "))
		}
		out[at] = cell
	}
	return out, nil
}

func (t *Table) key(cells partfile.Row) string {
	var keys []string
	for i, f := range t.Row.Fields {
		if f.Required() {
			keys = append(keys, cells[i])
		}
	}
	return strings.Join(keys, "\x00")
}
