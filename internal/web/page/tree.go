package page

import (
	"strconv"

	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Row is one line of a message as it is shown.
type Row struct {
	Depth int
	Name  string
	Text  string
	Class string // new or changed, when it differs from what came in
	Group bool   // a record or list: no value of its own
}

// maxRows bounds the lines that one message shows.
const maxRows = 400

// Tree shows a named message as rows.
func Tree(name string, v value.Value) []Row {
	var rows []Row
	return tree(rows, 0, name, v)
}

func tree(rows []Row, depth int, name string, v value.Value) []Row {
	if len(rows) >= maxRows {
		return rows
	}
	switch v.Kind() {
	case value.RecordKind:
		rows = append(rows, Row{Depth: depth, Name: name, Group: true})
		r := v.Record()
		for i, f := range r.Fields {
			rows = tree(rows, depth+1, r.Shape.Names[i], f)
		}
	case value.ListKind:
		rows = append(rows, Row{Depth: depth, Name: name, Text: items(len(v.Items())), Group: true})
		for i, item := range v.Items() {
			rows = tree(rows, depth+1, strconv.Itoa(i), item)
		}
	default:
		rows = append(rows, Row{Depth: depth, Name: name, Text: Show(v)})
	}
	return rows
}

// Show writes a scalar as it is shown in data: text in quotes, absent and null by their names.
func Show(v value.Value) string {
	switch v.Kind() {
	case value.Text:
		return strconv.Quote(v.Text())
	case value.Absent:
		return "absent"
	case value.Null:
		return "null"
	case value.RecordKind:
		return "record"
	case value.ListKind:
		return items(len(v.Items()))
	}
	return schema.ScalarText(v)
}

// Mark tells for each row of what goes out whether it is new or changed beside what came in.
func Mark(in, out []Row) (changed, fresh int) {
	before := map[string]string{}
	for _, r := range in {
		if !r.Group {
			before[r.Name] = r.Text
		}
	}
	for i := range out {
		r := &out[i]
		if r.Group {
			continue
		}
		old, known := before[r.Name]
		switch {
		case !known:
			r.Class = "new"
			fresh++
		case old != r.Text:
			r.Class = "changed"
			changed++
		}
	}
	return changed, fresh
}

func items(n int) string {
	if n == 1 {
		return "1 item"
	}
	return strconv.Itoa(n) + " items"
}

// JSON writes a value as one line of JSON.
func JSON(v value.Value) string {
	var enc json.Appender
	return string(enc.Append(nil, v))
}
