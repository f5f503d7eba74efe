package contract

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// AtOnce writes one file from several sides at once, by the operations write, keep (which refuses one that is there), add
// (to its end) and read: what stands there afterwards is whole and of one side, one keep comes about, and nothing that was
// added is torn or lost.
func AtOnce(t *testing.T, call func(op, json string) (string, error)) {
	t.Helper()
	const sides, size = 8, 300_000
	side := func(i int) string { return strings.Repeat(string(rune('a'+i)), size) }
	all := func(op, name string) (done int) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for i := range sides {
			wg.Go(func() {
				_, err := call(op, fmt.Sprintf(`{"name": %q, "text": %q}`, name, side(i)))
				mu.Lock()
				defer mu.Unlock()
				switch {
				case err == nil:
					done++
				case op != "keep" || !strings.Contains(err.Error(), "there is a file "+name+" already"):
					t.Errorf("%s %s: %s", op, name, err)
				}
			})
		}
		wg.Wait()
		return done
	}
	read := func(name string) string {
		got, err := call("read", fmt.Sprintf(`{"name": %q}`, name))
		require.NoError(t, err)
		var file struct{ Text string }
		require.NoError(t, json.Unmarshal([]byte(got), &file))
		return file.Text
	}
	for round := range 5 {
		require.Equal(t, sides, all("write", "same.txt"))
		text := read("same.txt")
		require.Len(t, text, size)
		require.True(t, text == side(int(text[0]-'a')), "the file is of one side")
		name := fmt.Sprintf("once-%d.txt", round)
		require.Equal(t, 1, all("keep", name))
		text = read(name)
		require.True(t, text == side(int(text[0]-'a')), "what was kept is of one side")
	}
	_, err := call("write", `{"name": "log.txt", "text": ""}`)
	require.NoError(t, err)
	require.Equal(t, sides, all("add", "log.txt"))
	var sizes []int
	for i, text := 0, read("log.txt"); i < len(text); {
		n := len(text[i:]) - len(strings.TrimLeft(text[i:], text[i:i+1]))
		sizes, i = append(sizes, n), i+n
	}
	require.Equal(t, slices.Repeat([]int{size}, sides), sizes, "what was added is whole")
}
