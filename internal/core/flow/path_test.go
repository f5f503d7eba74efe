package flow

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPathsOfRequests(t *testing.T) {
	for _, c := range []struct {
		pattern, path string
		want          map[string]string
		matches       bool
	}{
		{"invoices/{booking}", "invoices/B-1", map[string]string{"booking": "B-1"}, true},
		{"invoices/{booking}/lines/{no}", "invoices/B-1/lines/2", map[string]string{"booking": "B-1", "no": "2"}, true},
		{"invoices/{booking}", "invoices/", nil, false},
		{"invoices/{booking}", "invoices", nil, false},
		{"invoices/{booking}", "invoices/B-1/lines", nil, false},
		{"invoices/all", "invoices/all", map[string]string{}, true},
		{"invoices/all", "invoices/ALL", nil, false},
	} {
		got, ok := MatchPath(c.pattern, c.path)
		require.Equal(t, c.matches, ok, c.path)
		require.Equal(t, c.want, got, c.path)
	}
	require.True(t, Closer("a/b", "a/{x}"))
	require.False(t, Closer("a/{x}", "a/b"))
	require.True(t, Closer("a/{x}/c", "a/{x}/{y}"))
	require.True(t, SamePaths("a/{x}", "a/{y}"))
	require.False(t, SamePaths("a/{x}", "a/b"))
	for path, ok := range map[string]bool{"a/{b}": true, "{a}": true, "a/{b": false, "a/b}": false, "a/{}": false, "a/{b-c}": false, "a//b": false, "/a": false, "a/x{b}": false} {
		require.Equal(t, ok, PathOK.MatchString(path), path)
	}
}
