package flows

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func told(lines []diffLine) string {
	var b strings.Builder
	for _, l := range lines {
		b.WriteString(l.Mark + l.Text + "\n")
	}
	return b.String()
}

func TestDiffShowsWhatChangesAndFoldsTheRest(t *testing.T) {
	old := "a\nb\nc\nd\ne\nf\ng\nh\n"
	require.Equal(t, " b\n c\n d\n−e\n+E\n f\n g\n h\n", strings.TrimPrefix(told(diff(old, strings.Replace(old, "e", "E", 1))), " ⋯\n"))
	require.Equal(t, "+x\n", told(diff("", "x\n")))
	require.Equal(t, "−x\n", told(diff("x\n", "")))
	require.Equal(t, " ⋯\n", told(diff(old, old)))
	moved := told(diff("a\nb\nc\n", "c\na\nb\n"))
	require.Equal(t, "+c\n a\n b\n−c\n", moved)
	long := strings.Repeat("x\n", maxDiff+1)
	require.Equal(t, "2001 lines before, 1 now\n", told(diff(long, "y\n")))
}
