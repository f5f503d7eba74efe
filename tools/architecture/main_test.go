package main

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheDrawingIsFresh: docs/architecture.md is as the code is, and no rooms know each other in a circle.
func TestTheDrawingIsFresh(t *testing.T) {
	want, err := describe("../..")
	require.NoError(t, err)
	got, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	require.Equal(t, string(want), string(got), "run make architecture")

	rooms, err := read("../..")
	require.NoError(t, err)
	require.Greater(t, len(rooms), 20)
	for name, r := range rooms {
		for _, p := range r.packages {
			require.NotEmpty(t, p.about, "%s has no package comment", p.path)
		}
		if strings.HasPrefix(name, "core/") {
			for to := range r.knows {
				require.True(t, strings.HasPrefix(to, "core/"), "%s knows %s", name, to)
			}
		}
		if !strings.HasPrefix(name, "core/") { // folders within the core hold packages of several heights
			require.NotContains(t, reached(rooms, name), name, "a circle")
		}
	}
}

// reached are the rooms that one knows, and those that they know.
func reached(rooms map[string]*room, from string) map[string]bool {
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		for to := range rooms[name].knows {
			if !seen[to] {
				seen[to] = true
				visit(to)
			}
		}
	}
	visit(from)
	return seen
}
