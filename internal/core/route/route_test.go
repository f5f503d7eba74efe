package route

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestParametersOfPaths: the names in braces, whatever stands around them.
func TestParametersOfPaths(t *testing.T) {
	for path, want := range map[string][]string{
		"": nil, "a/b": nil, "{a}": {"a"}, "/a/{b}/c/{d}.json": {"b", "d"}, "{a}{b}": {"a", "b"}, "{}": nil, "{": nil, "}": nil, "{a": nil, "a}": nil,
		"{a{b}": {"b"}, "{a{b}c}": {"b"}, "{{a}}": {"a"}, "{}{a}": {"a"}, "x{æ}": {"æ"},
	} {
		require.Equal(t, want, Parameters(path), path)
		var byPattern []string
		for _, m := range placeholder.FindAllStringSubmatch(path, -1) {
			byPattern = append(byPattern, m[1])
		}
		require.Equal(t, byPattern, want, path)
	}
}

// TestTheMoreFixedPathIsMeant: fixed texts go before segments that are a parameter in part, and these before whole ones.
func TestTheMoreFixedPathIsMeant(t *testing.T) {
	var list Table[string]
	for _, path := range []string{"a/{id}", "a/latest", "a/{id}.json", "{any}/latest", "a/{id}/b"} {
		require.True(t, list.Add("GET", path, path))
	}
	require.False(t, list.Add("GET", "a/{other}", "again"), "the first one stays")
	for path, want := range map[string]string{
		"a/latest": "a/latest", "a/1": "a/{id}", "a/1.json": "a/{id}.json", "b/latest": "{any}/latest", "a/l%61test": "a/latest", "a/1/b": "a/{id}/b", "a": "", "a/1/c": "", "a/": "",
	} {
		got, _, _, ft := list.Find("GET", path)
		require.Nil(t, ft, path)
		require.Equal(t, want, got, path)
	}
	_, values, _, _ := list.Find("GET", "a/x%2Fy.json")
	require.Equal(t, []Value{{"id", "x/y"}}, values)
	got, _, allowed, _ := list.Find("PUT", "a/1")
	require.Empty(t, got)
	require.Equal(t, []string{"GET"}, allowed)
	for _, path := range []string{"a/..", "a/%2e%2E", "./a", "a/%zz"} {
		_, _, _, ft := list.Find("GET", path)
		require.NotNil(t, ft, path)
	}
}
