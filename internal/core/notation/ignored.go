package notation

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"hollowreed/internal/core/schema"
)

// Ignored counts the fields that the readers of a message passed over because the schema lacks them, by their path in the schema.
// It belongs to one goroutine.
type Ignored struct {
	counts map[string]int
	paths  []string
	More   int // how many beyond the paths that are kept
	Blank  int // lines that were blank
}

// maxIgnored bounds the paths that are kept.
const maxIgnored = 1000

// maxPath bounds the bytes of a path that is kept: names come with the message, and may be as long as it is.
const maxPath = 300

// Add counts one field.
func (g *Ignored) Add(path string) {
	if g == nil {
		return
	}
	if len(path) > maxPath {
		path = strings.ToValidUTF8(path[:maxPath], "") + "…"
	}
	if g.counts == nil {
		g.counts = map[string]int{}
	}
	n, known := g.counts[path]
	switch {
	case !known && len(g.paths) == maxIgnored:
		g.More++
		return
	case !known:
		g.paths = append(g.paths, path)
	}
	g.counts[path] = n + 1
}

// AddAll adds what another one has counted.
func (g *Ignored) AddAll(o *Ignored) {
	if g == nil || o == nil {
		return
	}
	for _, path := range o.paths {
		g.Add(path)
		if _, kept := g.counts[path]; kept {
			g.counts[path] += o.counts[path] - 1
		} else {
			g.More += o.counts[path] - 1
		}
	}
	g.More += o.More
	g.Blank += o.Blank
}

// Paths are the paths, in the order in which they were met.
func (g *Ignored) Paths() []string {
	if g == nil {
		return nil
	}
	return g.paths
}

// Take gives what was counted, and begins anew.
func (g *Ignored) Take() (taken Ignored) {
	taken, *g = *g, Ignored{}
	return taken
}

// Count is how often a path was met.
func (g *Ignored) Count(path string) int { return g.counts[path] }

// Fields counts the fields by their paths without the positions of items, as they can be stored and shown; those beyond the paths
// that are kept stand under MoreIgnored.
func (g *Ignored) Fields() map[string]int {
	fields := map[string]int{}
	for _, path := range g.Paths() {
		fields[shown(schema.PlainPath(path))] += g.counts[path]
	}
	if g.More > 0 {
		fields[MoreIgnored] = g.More
	}
	return fields
}

// shown is a name of a message as databases can store and terminals can show it: control characters, which either would refuse or
// obey, are U+FFFD.
func shown(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return utf8.RuneError
		}
		return r
	}, strings.ToValidUTF8(name, string(utf8.RuneError)))
}

// MoreIgnored stands for the fields beyond those that are kept.
const MoreIgnored = "…"

// mostShown is how many fields IgnoredText names.
const mostShown = 8

// IgnoredText tells which fields were passed over because the schema lacks them, the most frequent first: "2 fields that the schema
// lacks were passed over: cabin (120 times), deck (once)"; empty where there were none.
func IgnoredText(fields map[string]int) string {
	if len(fields) == 0 {
		return ""
	}
	paths := slices.SortedFunc(maps.Keys(fields), func(a, b string) int {
		more := func(path string) int { return btoi(path == MoreIgnored) }
		return cmp.Or(more(a)-more(b), fields[b]-fields[a], strings.Compare(a, b))
	})
	text := "1 field that the schema lacks was passed over: "
	switch n := len(paths); {
	case fields[MoreIgnored] > 0:
		text = fmt.Sprintf("more than %d fields that the schema lacks were passed over: ", n-1)
	case n > 1:
		text = fmt.Sprintf("%d fields that the schema lacks were passed over: ", n)
	}
	for i, path := range paths[:min(len(paths), mostShown)] {
		if i > 0 {
			text += ", "
		}
		times := "once"
		if n := fields[path]; n > 1 {
			times = strconv.Itoa(n) + " times"
		}
		text += path + " (" + times + ")"
	}
	if len(paths) > mostShown {
		text += ", …"
	}
	return text
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
