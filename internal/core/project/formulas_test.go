package project

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheLibraryOfTheDemoHoldsItsCases(t *testing.T) {
	p := loadDemo(t, nil)
	results := p.Library("freight").Run(p.EnvOf("freight"))
	require.Len(t, results, 4)
	for _, r := range results {
		require.True(t, r.OK(), "%s: %s", r.Case.Call.Value, r.Failure())
	}
}

// TestAProjectUsesThePublishedVersionThatItNames: the draft can change without touching it.
func TestAProjectUsesThePublishedVersionThatItNames(t *testing.T) {
	p := loadDemo(t, nil)
	old := p.Texts["libraries/freight.yaml"]
	changed := strings.Replace(old, "name: plate", "name: vehiclePlate", 1)
	p = loadWith(t, map[string]string{"libraries/freight.yaml": changed})
	require.Contains(t, p.Faults.Error(), `mappings/booking-to-invoice.yaml:`)
	require.Contains(t, p.Faults.Error(), `the library freight has no function "plate"`)
	pinned := map[string]string{"libraries/freight.yaml": strings.ReplaceAll(changed, "freight.plate", "freight.vehiclePlate"), "libraries/freight@1.yaml": old, File: "project: P\nlibraries: {freight: 1}\n"}
	p = loadWith(t, pinned)
	require.Empty(t, p.Faults)
	require.Equal(t, []int{1}, p.Versions("freight"))
	require.Equal(t, 1, p.LibraryVersion("freight"))
	for _, id := range []string{"freight", "freight@1"} {
		for _, r := range p.Library(id).Run(p.EnvOf(id)) {
			require.True(t, r.OK(), "%s %s: %s", id, r.Case.Call.Value, r.Failure())
		}
	}
	pinned[File] = "project: P\nlibraries: {freight: 7}\n"
	require.Contains(t, loadWith(t, pinned).Faults.Error(), "there is no version 7 of the library freight")
}

func TestWhoUsesATableOrAFunction(t *testing.T) {
	p := loadDemo(t, nil)
	by := p.Dependents(Libraries, "freight.plate")
	require.Len(t, by, 1)
	require.Equal(t, "booking-to-invoice line/plate", by[0].Part.ID+" "+by[0].Field)
	require.Empty(t, p.Dependents(Libraries, "freight.plat"))
	var fields []string
	for _, d := range p.Dependents(Tables, "cargo-articles") {
		fields = append(fields, d.Field)
	}
	require.Equal(t, []string{"vat", "line/article", "line/text", "line/vat"}, fields)
	text := strings.Replace(p.Texts["mappings/reading-to-tide-level.yaml"], "upper(trim(station.name))", `freight.plate(station.name) + coalesce(table("islands", "OS").name, "")`, 1)
	p = loadWith(t, map[string]string{"mappings/reading-to-tide-level.yaml": text})
	require.Empty(t, p.Faults)
	uses := p.Uses("gauge-readings")
	require.Contains(t, uses, "libraries/freight.yaml")
	require.Contains(t, uses, "tables/islands.yaml")
	require.NotContains(t, uses, "tables/cargo-articles.yaml")
	files := map[string]string{}
	for _, path := range uses {
		files[path] = p.Texts[path]
	}
	require.Empty(t, Load("release", files).Flow("gauge-readings").Faults, "a release holds all that it needs")
}

func TestFaultsOfLibrariesHavePlaces(t *testing.T) {
	for text, want := range map[string]string{
		"library: L\nfunctions:\n  - {name: a, formula: x + 1}\n":                                    "libraries/own.yaml:3:24: a: there is no \"x\" here",
		"library: L\nfunctions:\n  - {name: a, result: text, formula: '1'}\n":                        "expected text, found integer",
		"library: L\nfunctions:\n  - {name: a}\n":                                                    "a formula or a script, and not both",
		"library: L\nfunctions:\n  - {name: a b, formula: '1'}\n":                                    `cannot be called "a b"`,
		"library: L\nfunctions:\n  - {name: a, params: [{name: x}, {name: x}], formula: '1'}\n":      `a parameter cannot be called "x"`,
		"library: L\nfunctions:\n  - name: a\n    script: |\n      let b = 1\n      return +*\n":     "libraries/own.yaml:6",
		"library: L\nfunctions:\n  - {name: a, formula: own.b()}\n  - {name: b, formula: own.a()}\n": "circle",
	} {
		p := loadWith(t, map[string]string{"libraries/own.yaml": text})
		require.NotEmpty(t, p.Faults, text)
		require.Contains(t, p.Faults.Error(), want, text)
	}
	require.Contains(t, loadWith(t, map[string]string{"libraries/my-own.yaml": "library: L\n"}).Faults.Error(), `cannot be called "my-own"`)
}

func loadWith(t testing.TB, parts map[string]string) *Project {
	t.Helper()
	return loadDemo(t, func(texts map[string]string) { maps.Copy(texts, parts) })
}
