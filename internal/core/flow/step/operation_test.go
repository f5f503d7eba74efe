package step

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// desk is a project with one connection.
type desk struct {
	schemas map[string]*schema.Schema
	conn    *connection.Connection
	flows   map[string]*running.Plan
}

func (d *desk) Schema(id string) *schema.Schema { return d.schemas[id] }
func (d *desk) Mapping(string) *mapping.Plan    { return nil }
func (d *desk) Formulas() formula.Env           { return formula.Env{} }
func (d *desk) API(string) *api.API             { return nil }
func (d *desk) Channel(string) *channel.Channel { return nil }
func (d *desk) Contract(id string) *running.Contract {
	if p := d.flows[id]; p != nil {
		return &running.Contract{ID: id, Title: id, Input: p.Input, Output: p.Output}
	}
	return nil
}

func (d *desk) Connection(id string) *connection.Connection {
	if id == "desk" {
		return d.conn
	}
	return nil
}

func parts(t testing.TB) *desk {
	t.Helper()
	d := &desk{schemas: map[string]*schema.Schema{}}
	for id, text := range map[string]string{
		"booking": "schema: Booking\nnotation: json\nfields:\n  - {name: number, type: text}\n  - {name: pax, type: integer}\n",
		"note":    "schema: Note\nnotation: json\nnotation settings: {other fields: fault}\nfields:\n  - {name: number, type: text}\n  - {name: count, type: integer}\n  - {name: tags, type: text, occurs: 0..n}\n",
		"sailing": "schema: Sailing\nnotation: json\nnotation settings: {other fields: fault}\nfields:\n  - {name: ship, type: text}\n  - name: lines\n    type: record\n    occurs: 0..n\n    fields:\n      - {name: plate, type: text}\n      - {name: length, type: integer, constraints: {minimum: 1}}\n",
	} {
		p := partfile.Parse(id, []byte(text))
		d.schemas[id] = schema.Parse(id, p)
		require.Empty(t, p.Faults)
	}
	p := partfile.Parse("desk", []byte("connection: Desk\nkind: http\noperations:\n  - {operation: list, kind: read, path: /a, response: booking}\n  - {operation: note, kind: call, path: /b, request: note, response: note}\n"))
	d.conn = connection.Parse("desk", p)
	d.conn.Resolve(d.Schema, formula.Env{})
	require.Empty(t, p.Faults)
	return d
}

const noting = `
flow: Noting
trigger: {kind: records, connection: desk, operation: list, rising: pax}
steps:
  - {step: read, id: read, as: booking}
  - step: each
    id: each
    of: booking
    steps:
      - step: call
        id: note
        connection: desk
        operation: %OP%
        with: {%WITH%}
        as: noted
`

func compiled(t *testing.T, op, with string) *running.Plan {
	t.Helper()
	text := noting
	for name, s := range map[string]string{"%OP%": op, "%WITH%": with} {
		text = strings.ReplaceAll(text, name, s)
	}
	return compiledText(t, parts(t), "noting", text)
}

func TestWhatACallIsAskedWithIsChecked(t *testing.T) {
	for with, want := range map[string]string{
		"number: booking.number":                              "note needs count",
		"number: booking.number, count: booking.number":       "expected integer for count",
		"number: booking.number, count: pax, other: pax":      `note has no field "other". It has number, count, tags`,
		"number: booking.nothing, count: pax":                 "nothing",
		"number: booking.number, count: pax, tags: '\"one\"'": "",
	} {
		p := compiled(t, "note", with)
		if want == "" {
			require.Empty(t, p.Faults)
			continue
		}
		require.NotEmpty(t, p.Faults, with)
		require.Contains(t, p.Faults.Error(), want, with)
		require.Equal(t, "note", p.Faults[0].Place.Step)
	}
	require.Contains(t, compiled(t, "nowhere", "").Faults.Error(), `Desk has no operation "nowhere". It has list, note`)
}

// TestAMissingRisingFieldIsOneFault: what the operation gives and is asked with stays known, so that a form can offer it.
func TestAMissingRisingFieldIsOneFault(t *testing.T) {
	text := strings.NewReplacer("rising: pax", "rising: changed", "%OP%", "note", "%WITH%", "number: booking.number, count: booking.pax").Replace(noting)
	p := compiledText(t, parts(t), "noting", text)
	require.Len(t, p.Faults, 1)
	require.Contains(t, p.Faults[0].Error(), `booking has no field "changed"`)
	require.Equal(t, "list", p.Poll.Op.ID)
}

// told keeps what it was asked and answers it, but refuses one number.
type told struct {
	trial.Dry
	mu       sync.Mutex
	requests []value.Value
	numbers  []string
	away     string // the number for which it cannot be reached
	hangs    bool
}

func (o *told) Call(ctx context.Context, c running.Call, requests []value.Value) ([]running.Response, error) {
	if o.hangs {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	for _, r := range requests {
		if o.away != "" && r.Field("number").Text() == o.away {
			return nil, errors.New("the desk is away")
		}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, r := range requests {
		o.numbers = append(o.numbers, r.Field("number").Text())
	}
	o.requests = requests
	done := make([]running.Response, len(requests))
	for i, r := range requests {
		done[i].Answer = r
		switch r.Field("number").Text() {
		case "refused":
			done[i] = running.Response{Fault: fault.New(fault.Outside, "no")}
		case "none":
			done[i] = running.Response{}
		}
	}
	return done, nil
}

func TestACallAsksForEachRecordAndSetsAsideWhatIsRefused(t *testing.T) {
	p := compiled(t, "note", `number: booking.number, count: pax + 1, tags: '"one"'`)
	require.Empty(t, p.Faults)
	require.True(t, p.Spooled())
	root := p.Source.Root
	var items []*running.Item
	for i, number := range []string{"a", "refused", "none"} {
		it := &running.Item{Record: i, State: running.Live, Frame: formula.Frame{Slots: make([]value.Value, p.Slots)}}
		it.Frame.Slots[running.RunSlot] = running.RunFacts("r", "f", "", i, value.Value{})
		it.Frame.Slots[p.Record] = value.NewRecord(root.Layout(), []value.Value{value.NewText(number), value.Int(int64(i))})
		items = append(items, it)
	}
	out := &told{}
	b := &running.Batch{Plan: p, Systems: out}
	require.NoError(t, b.Run(t.Context(), items))
	require.Equal(t, []running.State{running.Done, running.SetAside, running.SetAside}, []running.State{items[0].State, items[1].State, items[2].State})
	require.Equal(t, "1", out.requests[0].Field("count").String())
	require.Len(t, out.requests[0].Field("tags").Items(), 1, "one value for a list is a list of one")
	require.Equal(t, "a", items[0].Frame.Slots[p.Planned("note").Result.Slot].Field("number").String())
	require.Contains(t, items[2].Faults[0].What(), "expected an answer of note, found none")
	require.Equal(t, 1, b.Counts["note"].Called)
	require.Equal(t, 2, b.Counts["note"].SetAside)

	items[0].State, items[0].Step, items[0].Effects = running.Live, "", nil
	dry := &running.Batch{Plan: p, Systems: &trial.Dry{}}
	require.NoError(t, dry.Run(t.Context(), items[:1]))
	require.Equal(t, running.NotDone, items[0].Effects[0].Effect, "a try asks nobody")
}
