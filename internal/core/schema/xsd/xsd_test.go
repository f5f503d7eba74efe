package xsd

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
)

// files gives all schema documents of the corpus by name.
func files(t testing.TB) map[string][]byte {
	t.Helper()
	names, err := filepath.Glob("testdata/*.xsd")
	require.NoError(t, err)
	all := map[string][]byte{}
	for _, n := range names {
		text, err := os.ReadFile(n)
		require.NoError(t, err)
		all[filepath.Base(n)] = text
	}
	return all
}

func load(t testing.TB, name string) *Set {
	t.Helper()
	all := files(t)
	s, err := Load(name, all[name], all)
	require.NoError(t, err)
	return s
}

func faults(s *Set, doc string) []string {
	var out []string
	s.Validate("in.xml", strings.NewReader(doc), func(f *fault.Fault) bool {
		out = append(out, f.Error())
		return true
	})
	return out
}

// tree is a document that can be changed in one place.
type tree struct {
	start xml.StartElement
	kids  []any // *tree or string
}

func grow(t *testing.T, text []byte) *tree {
	t.Helper()
	dec := xml.NewDecoder(bytes.NewReader(text))
	top := &tree{}
	open := []*tree{top}
	for {
		tok, err := dec.RawToken()
		if err != nil {
			break
		}
		last := open[len(open)-1]
		switch k := tok.(type) {
		case xml.StartElement:
			n := &tree{start: k.Copy()}
			last.kids = append(last.kids, n)
			open = append(open, n)
		case xml.EndElement:
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) > 1 {
				last.kids = append(last.kids, string(k))
			}
		}
	}
	return top
}

func raw(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}

func (n *tree) write(b *strings.Builder) {
	if n.start.Name.Local != "" {
		b.WriteString("<" + raw(n.start.Name))
		for _, a := range n.start.Attr {
			b.WriteString(" " + raw(a.Name) + `="`)
			xml.EscapeText(b, []byte(a.Value))
			b.WriteString(`"`)
		}
		b.WriteString(">")
	}
	for _, k := range n.kids {
		switch k := k.(type) {
		case *tree:
			k.write(b)
		case string:
			xml.EscapeText(b, []byte(k))
		}
	}
	if n.start.Name.Local != "" {
		b.WriteString("</" + raw(n.start.Name) + ">")
	}
}

func (n *tree) text() string {
	var b strings.Builder
	n.write(&b)
	return b.String()
}

// mutants are documents that differ from one in a single place.
func mutants(t *testing.T, text []byte) []string {
	top := grow(t, text)
	out := []string{top.text()}
	shot := func(change, back func()) {
		change()
		out = append(out, top.text())
		back()
	}
	var walk func(n *tree)
	walk = func(n *tree) {
		for i := range n.kids {
			old := n.kids
			without := append(append([]any{}, old[:i]...), old[i+1:]...)
			switch k := n.kids[i].(type) {
			case *tree:
				if n != top {
					shot(func() { n.kids = without }, func() { n.kids = old })
					twice := append(append(append([]any{}, old[:i+1]...), k), old[i+1:]...)
					shot(func() { n.kids = twice }, func() { n.kids = old })
					if i+1 < len(old) {
						swapped := append([]any{}, old...)
						swapped[i], swapped[i+1] = swapped[i+1], swapped[i]
						shot(func() { n.kids = swapped }, func() { n.kids = old })
					}
				}
				name := k.start.Name
				shot(func() { k.start.Name.Local = "odd" }, func() { k.start.Name = name })
				inner := k.kids
				shot(func() { k.kids = nil }, func() { k.kids = inner })
				shot(func() { k.kids = append(append([]any{}, inner...), "stray") }, func() { k.kids = inner })
				attrs := k.start.Attr
				shot(func() {
					k.start.Attr = append(append([]xml.Attr{}, attrs...), xml.Attr{Name: xml.Name{Local: "odd"}, Value: "1"})
				}, func() { k.start.Attr = attrs })
				for j, a := range attrs {
					if a.Name.Space == "xmlns" || a.Name.Local == "xmlns" {
						continue
					}
					shot(func() { k.start.Attr = append(append([]xml.Attr{}, attrs[:j]...), attrs[j+1:]...) }, func() { k.start.Attr = attrs })
					for _, v := range []string{"", "x", "0", "-7", "2", "AB123", "true", "2031-02-30"} {
						shot(func() {
							k.start.Attr = append([]xml.Attr{}, attrs...)
							k.start.Attr[j].Value = v
						}, func() { k.start.Attr = attrs })
					}
				}
				walk(k)
			case string:
				for _, v := range []string{"", "x", "0", "-7", "1.500", "99999999999", "abc def", " a b ", "true", "2031-02-30", "2031-03-10", "--02-30", "1.50", "-P1Y", "INF", "24:00:00", "one", "NO1", "%zz", "12:00:60", "1e3"} {
					shot(func() {
						n.kids = append([]any{}, old...)
						n.kids[i] = v
					}, func() { n.kids = old })
				}
			}
		}
	}
	walk(top)
	return out
}

// explained says why the judge finds a document valid that is not: what the standard asks and
// libxml2 does not check. It is empty for any other disagreement.
func explained(judged bool, found []string) string {
	if !judged {
		return ""
	}
	for _, f := range found {
		switch {
		case strings.Contains(f, "an ID"):
			return "libxml2 does not check ID and IDREF of a schema (part 1, section 3.3.4, validation root valid (ID/IDREF))"
		case strings.Contains(f, "expected base64"):
			return "libxml2 passes over characters that base64 does not have (RFC 2045 would, part 2, section 3.2.16 does not)"
		}
	}
	return ""
}

// TestVerdictsAgreeWithTheJudge compares with xmllint of libxml2, over a corpus of schemas, their
// documents and every document that differs from those in one place.
func TestVerdictsAgreeWithTheJudge(t *testing.T) {
	if _, err := exec.LookPath("xmllint"); err != nil {
		t.Skip("xmllint (libxml2-utils) is not installed")
	}
	pairs := 0
	docs, err := filepath.Glob("testdata/*.xml")
	require.NoError(t, err)
	for _, doc := range docs {
		text, err := os.ReadFile(doc)
		require.NoError(t, err)
		schema := strings.SplitN(filepath.Base(doc), "-", 2)[0] + ".xsd"
		t.Run(filepath.Base(doc), func(t *testing.T) {
			s := load(t, schema)
			all := mutants(t, text)
			judged := judge(t, filepath.Join("testdata", schema), all)
			require.True(t, judged[0], "the document itself is valid")
			for i, m := range all {
				found := faults(s, m)
				if judged[i] != (len(found) == 0) && explained(judged[i], found) == "" {
					t.Errorf("the judge says valid=%v, we say %q of %s", judged[i], found, m)
				}
			}
			pairs += len(all)
		})
	}
	t.Logf("%d pairs of schema and document", pairs)
	require.Greater(t, pairs, 800)
}

// judge gives xmllint's verdict on each document.
func judge(t *testing.T, schema string, docs []string) []bool {
	t.Helper()
	dir := t.TempDir()
	var names []string
	for i, d := range docs {
		name := filepath.Join(dir, fmt.Sprintf("%05d.xml", i))
		require.NoError(t, os.WriteFile(name, []byte(d), 0o644))
		names = append(names, name)
	}
	cmd := exec.Command("xmllint", append([]string{"--noout", "--nonet", "--schema", schema}, names...)...)
	out, _ := cmd.CombinedOutput() // its exit code says that some are invalid
	valid := make([]bool, len(docs))
	told := 0
	for _, line := range strings.Split(string(out), "\n") {
		name, ok := strings.CutSuffix(line, " validates")
		if ok {
			valid[sort.SearchStrings(names, name)] = true
		}
		if ok || strings.HasSuffix(line, " fails to validate") {
			told++
		}
	}
	require.Equal(t, len(docs), told, string(out[:min(len(out), 2000)]))
	return valid
}
