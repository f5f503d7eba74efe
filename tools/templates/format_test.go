package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"text/template"

	"github.com/stretchr/testify/require"
)

func TestFormat(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"blocks have lines of their own": {
			`<div class="a"><p>one</p><p>two <b>three</b></p></div>`,
			"<div class=\"a\">\n  <p>one</p>\n  <p>two <b>three</b></p>\n</div>\n",
		},
		"what is inline stays together": {
			"<p>a<b>b</b><i>c</i>\n  d</p>", "<p>a<b>b</b><i>c</i> d</p>\n",
		},
		"actions around blocks are indented": {
			`{{define "x"}}<div>{{if .A}}<p>a</p>{{else}}<p>b</p>{{end}}</div>{{end}}`,
			"{{define \"x\"}}\n  <div>\n    {{if .A}}\n      <p>a</p>\n    {{else}}\n      <p>b</p>\n    {{end}}\n  </div>\n{{end}}\n",
		},
		"where white space would be shown it is trimmed away": {
			`<td>{{if .A}}<div>a</div>{{end}}text{{range .B}}<p>b</p>{{end}}<b>c</b></td>`,
			"<td>\n  {{if .A}}\n    <div>a</div>\n  {{end -}}\n  text\n  {{- range .B}}\n    <p>b</p>\n  {{end -}}\n  <b>c</b>\n</td>\n",
		},
		"shown white space is kept": {
			"<div><p>a</p><pre> a\n   b </pre><textarea>\n x</textarea></div>", "<div>\n  <p>a</p>\n  <pre> a\n   b </pre><textarea>\n x</textarea>\n</div>\n",
		},
		"a long tag is broken between its attributes": {
			`<input class="` + strings.Repeat("x", 60) + `" title="a > b {{if eq .A "c"}}d{{end}}" ` + `data-c="` + strings.Repeat("y", 40) + `">`,
			`<input class="` + strings.Repeat("x", 60) + "\" title=\"a > b {{if eq .A \"c\"}}d{{end}}\"\n" + `  data-c="` + strings.Repeat("y", 40) + "\">\n",
		},
		"an end in another branch stays where it is": {
			`{{if .A}}<div>{{else}}<form>{{end}}x{{if .A}}</div>{{else}}</form>{{end}}`,
			"{{if .A}}\n  <div>\n{{else}}\n  <form>\n{{end -}}\nx\n{{- if .A}}\n  </div>\n{{else}}\n  </form>\n{{end}}\n",
		},
	} {
		t.Run(name, func(t *testing.T) {
			require.Equal(t, c.want, format(c.in))
			require.Equal(t, c.want, format(c.want))
		})
	}
}

// TestNothingThatIsShownChanges: templates of all shapes give the same page before and after, whatever their data.
func TestNothingThatIsShownChanges(t *testing.T) {
	long := 0
	for seed := range uint64(400) {
		g := &maker{Rand: rand.New(rand.NewPCG(seed, 1))}
		in := g.nodes(4)
		out := format(in)
		require.Equal(t, out, format(out), "seed %d: %s", seed, in)
		for data := range 8 {
			require.Equal(t, shown(t, in, data), shown(t, out, data), "seed %d\n%s\n---\n%s", seed, in, out)
		}
		if strings.Count(out, "\n") > 20 {
			long++
		}
	}
	require.Greater(t, long, 20)
}

// shown is what a browser shows of a template with some data: the white space that it does not show is gone.
func shown(t *testing.T, in string, data int) string {
	t.Helper()
	tmpl, err := template.New("x").Parse(in)
	require.NoError(t, err, in)
	var b strings.Builder
	require.NoError(t, tmpl.Execute(&b, map[string]any{"A": data&1 > 0, "B": data&2 > 0, "L": make([]int, data>>1), "V": "v w"}))
	text := regexp.MustCompile(`\s+`).ReplaceAllString(b.String(), " ")
	text = regexp.MustCompile(` ?(</?(?:div|p|tr|li)( [^>]*)?>) ?`).ReplaceAllString(text, "$1")
	return strings.TrimSpace(text)
}

// maker makes templates by chance.
type maker struct{ *rand.Rand }

func (g *maker) nodes(depth int) string {
	var b strings.Builder
	for range 1 + g.IntN(5) {
		b.WriteString(g.space())
		b.WriteString(g.node(depth))
	}
	return b.String() + g.space()
}

func (g *maker) space() string { return []string{"", "", " ", "\n  "}[g.IntN(4)] }

func (g *maker) node(depth int) string {
	if depth == 0 {
		return []string{"text", "{{.V}}", "<i>i</i>", "{{- .V -}}"}[g.IntN(4)]
	}
	switch g.IntN(7) {
	case 0, 1:
		tag := []string{"div", "p", "tr", "li"}[g.IntN(4)]
		return fmt.Sprintf(`<%s class="%s">%s</%s>`, tag, strings.Repeat("c ", g.IntN(60)), g.nodes(depth-1), tag)
	case 2:
		return "<b>" + g.nodes(0) + "</b>"
	case 3:
		return "{{if .A}}" + g.nodes(depth-1) + "{{else if .B}}" + g.nodes(depth-1) + "{{else}}" + g.nodes(depth-1) + "{{end}}"
	case 4:
		return "{{range .L}}" + strings.ReplaceAll(g.nodes(0), ".V", "$.V") + "{{end}}"
	case 5:
		return `{{if .B -}} ` + g.nodes(depth-1) + ` {{- end}}`
	}
	return strings.Repeat("word ", g.IntN(30)) + "end"
}

// TestWhatIsWrongIsFound: files that are not formatted, long lines and inline styles are named, and written only when asked.
func TestWhatIsWrongIsFound(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("a.html", "<p>a</p>\n")
	write("b.html", "<p>a</p><p>b</p>")
	write("c.html", "<p style=\"margin:0\">"+strings.Repeat("x", 150)+"</p>\n")
	bad, err := run([]string{dir}, false)
	require.NoError(t, err)
	b, c := filepath.Join(dir, "b.html"), filepath.Join(dir, "c.html")
	require.Equal(t, []string{
		b + ": not formatted; run make templates", c + ": has an inline style, which the content security policy forbids",
		c + ": not formatted; run make templates",
	}, bad)
	bad, err = run([]string{dir}, true)
	require.NoError(t, err)
	require.Len(t, bad, 1)
	text, err := os.ReadFile(b)
	require.NoError(t, err)
	require.Equal(t, "<p>a</p>\n<p>b</p>\n", string(text))
	write("d.html", "<p title=\""+strings.Repeat("x", 200)+"\">a</p>\n")
	bad, err = run([]string{dir}, true)
	require.NoError(t, err)
	require.Contains(t, strings.Join(bad, "\n"), "d.html:2: longer than 160 characters")
}
