package mapping

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatWouldChange(t *testing.T) {
	const was = "keep:\n  - {when: count(item) > 0}\nrules:\n  - {field: id, formula: id}\n  - {field: note, formula: remark}\n  - {field: line, each: item}\n  - {field: line/text, formula: sku}\n  - {field: line/qty, formula: qty}\n"
	now := strings.NewReplacer("formula: sku", "formula: upper(sku)", "formula: remark", `formula: remark, default: '"none"'`, "each: item", "each: item, where: qty != 5", "formula: qty", "formula: 'quotient(10, qty - 1) * 0 + qty'").Replace(was)
	old, cur := billing(t, was), billing(t, now)
	require.Empty(t, cur.Faults)
	var c Changes
	for i, in := range []string{
		`{"id":"A","state":"s","rate":1,"remark":"r","item":[{"sku":"X","kind":"k","qty":3}]}`,
		`{"id":"B","state":"s","rate":1,"item":[{"sku":"x","kind":"k","qty":3},{"sku":"y","kind":"k","qty":4}]}`,
		`{"id":"C","state":"s","rate":1,"remark":"r","item":[{"sku":"X","kind":"k","qty":5}]}`,
		`{"id":"D","state":"s","rate":1,"remark":"r","item":[{"sku":"X","kind":"k","qty":1}]}`,
		`{"id":"E","state":"s","rate":1}`,
	} {
		_, a := billed(t, old, in)
		_, b := billed(t, cur, in)
		c.Add("message "+string(rune('A'+i)), a, b)
	}
	require.Equal(t, [2]int{5, 3}, [2]int{c.Messages, c.Different})
	var told []string
	for _, ch := range c.List() {
		told = append(told, ch.Field+": "+string(ch.Cause))
	}
	require.Equal(t, []string{"line: another number of entries", "line/qty: fails now", "line/text: another value", "note: appears"}, told)
	text := c.List()[2]
	require.Equal(t, [2]int{1, 2}, [2]int{text.Messages, text.Places})
	require.Equal(t, Example{Message: "message B", Path: "/line/0/text", Was: `"x"`, Now: `"X"`}, text.Examples[0])
	c = Changes{}
	left := Result{LeftOut: "why"}
	_, made := billed(t, old, `{"id":"A","state":"s","rate":1,"item":[{"sku":"X","kind":"k","qty":3}]}`)
	c.Add("1", made, left)
	c.Add("2", left, made)
	c.Add("3", left, left)
	require.Equal(t, 2, c.Different)
	require.Equal(t, NowLeft, c.List()[0].Cause)
	require.Equal(t, NowKept, c.List()[1].Cause)
}
