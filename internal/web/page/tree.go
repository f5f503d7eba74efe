package page

import (
	"fmt"
	"hash/maphash"
	"strconv"
	"strings"

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
	sum   uint64 // of a text of which a part is shown: two rows that look alike may differ behind it
}

// Bounds on what a page draws of one message.
const (
	maxRows = 400   // lines
	maxLine = 4_000 // bytes of a value
	maxText = 1 << 18
)

// Cut is as much of a text as a page draws: of a long one the beginning, and how long it is.
func Cut(s string) string {
	const most = maxText
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + shownOf(most, len(s))
}

func shownOf(most, all int) string {
	return fmt.Sprintf(" … (%s of %s bytes are shown)", Number(most), Number(all))
}

// Tree shows a named message as rows.
func Tree(name string, v value.Value) []Row {
	rows := tree(nil, 0, name, v)
	if len(rows) > maxRows {
		rows[maxRows] = Row{Depth: 1, Name: "…", Text: "there is more than is shown", Group: true}
		rows = rows[:maxRows+1]
	}
	return rows
}

func tree(rows []Row, depth int, name string, v value.Value) []Row {
	if len(rows) > maxRows {
		return rows
	}
	switch v.Kind() {
	case value.RecordKind:
		rows = append(rows, Row{Depth: depth, Name: name, Group: true})
		r := v.Record()
		for i, f := range r.Fields {
			rows = tree(rows, depth+1, r.Layout.Names[i], f)
		}
	case value.ListKind:
		rows = append(rows, Row{Depth: depth, Name: name, Text: items(len(v.Items())), Group: true})
		for i, item := range v.Items() {
			rows = tree(rows, depth+1, strconv.Itoa(i), item)
		}
	default:
		rows = append(rows, Line(depth, name, v))
	}
	return rows
}

// Line is the row of a value that has no parts.
func Line(depth int, name string, v value.Value) Row {
	r := Row{Depth: depth, Name: name, Text: Show(v)}
	if (v.Kind() == value.Text || v.Kind() == value.Binary) && len(v.Text()) > maxLine/2 {
		r.sum = maphash.String(seed, v.Text())
	}
	return r
}

var seed = maphash.MakeSeed()

// same says whether two rows have the same value.
func (r Row) same(other Row) bool { return r.Text == other.Text && r.sum == other.sum }

// Show writes a scalar as it is shown in data: text in quotes, absent and null by their names.
func Show(v value.Value) string {
	switch v.Kind() {
	case value.Text:
		s := v.Text()
		if len(s) <= maxLine {
			return strconv.Quote(s)
		}
		return strconv.Quote(strings.ToValidUTF8(s[:maxLine], "")) + shownOf(maxLine, len(s))
	case value.Absent:
		return "absent"
	case value.Null:
		return "null"
	case value.RecordKind:
		return "record"
	case value.ListKind:
		return items(len(v.Items()))
	}
	s := schema.ScalarText(v)
	if len(s) > maxLine {
		return s[:maxLine] + shownOf(maxLine, len(s))
	}
	return s
}

// Mark tells for each row of what goes out whether it is new or changed beside what came in. Of several messages that came
// in, the one that has most of the same fields is compared, place by place; a value that another one has under the same name
// was carried over.
func Mark(in, out []Row) (changed, fresh int) {
	messages, carried := messagesOf(in)
	places := placesOf(out)
	before := likest(messages, out, places)
	for i := range out {
		r := &out[i]
		if r.Group || r.Text == "absent" && before[places[i]].Text == "" {
			continue
		}
		old, known := before[places[i]]
		switch {
		case known && old.same(*r), !known && carried[[2]string{r.Name, r.Text}]:
		case known:
			r.Class = "changed"
			changed++
		default:
			r.Class = "new"
			fresh++
		}
	}
	return changed, fresh
}

// placesOf gives for each row its place in its message: the names from below the message's own to the row's.
func placesOf(rows []Row) []string {
	var stack []string
	places := make([]string, len(rows))
	for i, r := range rows {
		stack = append(stack[:min(r.Depth, len(stack))], r.Name)
		places[i] = strings.Join(stack[min(1, len(stack)-1):], "\x00")
	}
	return places
}

// messagesOf gives the values of each message by their places, and all values by their names.
func messagesOf(rows []Row) (messages []map[string]Row, carried map[[2]string]bool) {
	carried = map[[2]string]bool{}
	places := placesOf(rows)
	for i, r := range rows {
		if r.Depth == 0 {
			messages = append(messages, map[string]Row{})
		}
		if !r.Group && len(messages) > 0 {
			messages[len(messages)-1][places[i]] = r
			carried[[2]string{r.Name, r.Text}] = true
		}
	}
	return messages, carried
}

// likest is the message that has most of the places of some rows, and of those with as many the most equal values.
func likest(messages []map[string]Row, rows []Row, places []string) (best map[string]Row) {
	most, mostEqual := -1, 0
	for _, m := range messages {
		n, equal := 0, 0
		for i, place := range places {
			if was, there := m[place]; there {
				n++
				if was.same(rows[i]) {
					equal++
				}
			}
		}
		if n > most || n == most && equal > mostEqual {
			best, most, mostEqual = m, n, equal
		}
	}
	return best
}

func items(n int) string {
	if n == 1 {
		return "1 item"
	}
	return strconv.Itoa(n) + " items"
}
