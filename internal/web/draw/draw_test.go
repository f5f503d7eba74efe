package draw

import (
	"encoding/xml"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/layout"
	"hollowreed/internal/core/flow/running"
)

const evil = `<script>alert("x")</script>&'`

// wellFormed reads a drawing as XML and counts its elements.
func wellFormed(t *testing.T, svg string) map[string]int {
	t.Helper()
	n := map[string]int{}
	d := xml.NewDecoder(strings.NewReader(svg))
	for {
		tok, err := d.Token()
		if err == io.EOF {
			return n
		}
		require.NoError(t, err, svg)
		if el, ok := tok.(xml.StartElement); ok {
			n[el.Name.Local]++
		}
	}
}

func geometry() layout.Geometry {
	return layout.Geometry{
		Width: 600, Height: 152,
		Lanes: []layout.Lane{{ID: "a", Title: evil, About: evil, Height: 76}, {ID: "reed", Title: "In the reed", Y: 76, Height: 76, Reed: true}},
		Nodes: []layout.Node{
			{ID: "trigger", Title: "Pick up", X: 150, Y: 20, W: 118, H: 36},
			{ID: "read", Title: evil, Detail: evil, X: 290, Y: 96, W: 118, H: 36, Faults: 2},
		},
		Links: []layout.Link{{From: "trigger", To: "read", Points: []layout.Point{{X: 268, Y: 38}, {X: 279, Y: 38}, {X: 279, Y: 114}, {X: 290, Y: 114}}, CX: 279, CY: 76}},
		Spans: []layout.Span{{ID: "each", Title: evil, X: 270, Width: 200}},
	}
}

func TestAFlowIsDrawnWellFormedAndEscaped(t *testing.T) {
	got := string(Flow(geometry(), FlowOptions{
		Selected: "read", Target: "#work", Read: 48,
		Counts: map[string]*running.Counts{"read": {In: 48, Out: 45, Skipped: 1, SetAside: 2}},
		Href:   func(step string) string { return "/x?step=" + step + "&record=1" },
	}))
	require.NotContains(t, got, "<script")
	n := wellFormed(t, got)
	require.Equal(t, 3, n["a"], "each node is a link, and each title of a span")
	require.Contains(t, got, `aria-current="true"`)
	require.Contains(t, got, `class="node bad sel"`)
	require.Contains(t, got, "2 set aside")
	require.Contains(t, got, "1 skipped")
	require.Contains(t, got, "step=read&amp;record=1")
	require.NotContains(t, got, "%!", "a broken format")
}

func TestAChartIsDrawnWellFormedAndEscaped(t *testing.T) {
	got := string(Chart(
		[]ChartSystem{{ID: "a", Title: evil, About: "folder", Health: "well"}},
		[]ChartSystem{{ID: "b", Title: "Ledger", About: evil, Health: "fault"}},
		[]ChartFlow{
			{ID: "f", Title: evil, When: evil, Reads: []string{"a"}, Writes: []string{"b", "none"}, Rate: "1/h", Status: "in step", Mood: "well", Slices: []int{0, 3, 1}},
			{ID: "g", Title: "Other", Status: "not released", Mood: "draft"},
		}, "f"))
	require.NotContains(t, got, "<script")
	n := wellFormed(t, got)
	require.Equal(t, 2, n["a"])
	require.Equal(t, 1, n["polyline"], "no line where nothing ran")
	require.Contains(t, got, "not usable")
	require.NotContains(t, got, "%!")
	wellFormed(t, string(Chart(nil, nil, nil, "")))
}

func TestBarsAndStems(t *testing.T) {
	bars := string(Bars([]Bar{{Label: "06:00", Runs: 10, Failed: 0}, {Label: "06:01", Runs: 200, Failed: 1}, {Label: evil}}))
	require.Equal(t, 6, wellFormed(t, bars)["rect"])
	require.Contains(t, bars, "06:01: 200 runs, 1 with trouble")
	require.Contains(t, bars, `height="4" fill="`+clay, "a little trouble is still seen")
	wellFormed(t, string(Bars(nil)))
	stem := string(Steps([]string{"passed", "aside", "stopped", "waiting"}))
	require.Equal(t, 4, wellFormed(t, stem)["rect"])
	require.Equal(t, 2, strings.Count(stem, `stroke-width="1.6"`), "trouble has a mark besides its colour")
}

func TestLabelsAreCut(t *testing.T) {
	require.Equal(t, "abc", cut("abc", 3))
	require.Equal(t, "ab…", cut("abcd", 3))
	require.Equal(t, "æø…", cut("æøåæ", 3))
}
