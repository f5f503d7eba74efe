package project

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/demo"
)

func demoProject(t *testing.T) *Project {
	t.Helper()
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	return Load("skerry", texts)
}

// renamed renames a part of the demo and loads what comes of it.
func renamed(t *testing.T, path, title, id string) (*Project, map[string]string) {
	t.Helper()
	p := demoProject(t)
	changed, to, err := p.Rename(path, title, id)
	require.NoError(t, err)
	texts := map[string]string{}
	for at, text := range p.Texts {
		if at != path {
			texts[at] = text
		}
	}
	for at, text := range changed {
		texts[at] = text
	}
	after := Load("skerry", texts)
	require.Empty(t, after.Faults)
	require.Contains(t, texts, to)
	return after, changed
}

// TestRenamingFollowsUses: in settings, lists and formulas, and nothing else changes.
func TestRenamingFollowsUses(t *testing.T) {
	after, changed := renamed(t, "schemas/booking.yaml", "Order", "order")
	require.Equal(t, "Order", after.Schema("order").Title)
	require.Nil(t, after.Schema("booking"))
	require.Contains(t, changed["mappings/booking-to-invoice.yaml"], "schema: order")
	require.Contains(t, changed["connections/quayside.yaml"], "response: order")
	require.NotContains(t, changed, "flows/gauge-readings.yaml")

	after, _ = renamed(t, "tables/cargo-articles.yaml", "Articles", "articles")
	require.NotNil(t, after.Table("articles"))
	require.Contains(t, after.Texts["mappings/booking-to-invoice.yaml"], `lookup("articles"`)

	after, changed = renamed(t, "mappings/booking-to-invoice.yaml", "Bill", "bill")
	require.Contains(t, changed["flows/booking-to-invoice.yaml"], "mapping: bill")
	require.NotNil(t, after.Flow("booking-to-invoice").Planned("map").Mapping)

	sample := demoProject(t).Schema("booking").Samples[0]
	after, changed = renamed(t, "samples/"+sample, "", "orders.json")
	require.Contains(t, after.Schema("booking").Samples, "orders.json")
	require.Contains(t, changed["schemas/booking.yaml"], "orders.json")
}

// TestWhatCannotBeRenamedSaysWhy: the id of a flow or connection, one that is taken, and one that breaks something.
func TestWhatCannotBeRenamedSaysWhy(t *testing.T) {
	p := demoProject(t)
	for _, c := range []struct{ path, id, want string }{
		{"flows/vehicle.yaml", "car", "its runs and releases are kept under its id"},
		{"connections/quayside.yaml", "desk", "its settings and secrets are kept under its id"},
		{"schemas/booking.yaml", "invoice", "there is a part schemas/invoice.yaml already"},
		{"schemas/booking.yaml", "../x", "expected a name without slashes"},
	} {
		_, _, err := p.Rename(c.path, "T", c.id)
		require.ErrorContains(t, err, c.want, c.path)
	}
	changed, to, err := p.Rename("flows/vehicle.yaml", "Cars", "vehicle")
	require.NoError(t, err)
	require.Equal(t, "flows/vehicle.yaml", to)
	require.Len(t, changed, 1)
	require.True(t, strings.HasPrefix(changed[to], "flow: Cars\n"), changed[to])
}

// TestUsedByNamesEveryKind: mappings, connections, flows, alerts, cases and libraries alike.
func TestUsedByNamesEveryKind(t *testing.T) {
	p := demoProject(t)
	kinds := func(path string) map[string]bool {
		all := map[string]bool{}
		for _, part := range p.UsedBy(path) {
			all[part.Kind] = true
		}
		return all
	}
	require.Equal(t, map[string]bool{Flows: true, Mappings: true, Connections: true}, kinds("schemas/booking.yaml"))
	require.Equal(t, map[string]bool{Alerts: true}, kinds("flows/trouble-to-the-board.yaml"))
	require.True(t, kinds("mappings/reading-to-tide-level.yaml")[Cases])
	require.True(t, kinds("libraries/freight.yaml")[Mappings])
}

// TestWhatAFlowDoesNotUseDoesNotMatterToIt: another operation, another title of the project, a pinned library of others.
func TestWhatAFlowDoesNotUseDoesNotMatterToIt(t *testing.T) {
	p := demoProject(t)
	const path = "connections/quayside.yaml"
	text := p.Texts[path]
	same := func(path, now string) bool {
		return p.Matters("booking-to-invoice", path, p.Texts[path]) == p.Matters("booking-to-invoice", path, now)
	}
	require.True(t, same(path, text+"  - operation: more\n    name: More\n    kind: read\n    method: GET\n    path: more\n"))
	require.False(t, same(path, strings.Replace(text, "operation: note-invoice\n", "operation: note-invoice\n    about: x\n", 1)))
	require.False(t, same(path, strings.Replace(text, "kind: http", "kind: soap", 1)))
	require.True(t, same(File, "project: Other\nlibraries: {nothing: 2}\n"))
	require.False(t, same(File, "project: Skerry Line\nlibraries: {freight: 1}\n"))
	require.False(t, same("mappings/booking-to-invoice.yaml", p.Texts["mappings/booking-to-invoice.yaml"]+"# x\n"))
}
