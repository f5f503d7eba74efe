// Package conformance runs independent suites of cases, fetched by make conformance, against the readers and checkers here, and
// holds the counts against those of docs/conformance.md: a count that falls is a failure.
package conformance

import (
	"bytes"
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/validate"
)

const page = "../../../docs/conformance.md"

// count is how many cases of one kind came out as their suite says.
type count struct{ agreed, of int }

func (c *count) add(agreed bool) {
	c.of++
	if agreed {
		c.agreed++
	}
}

func (c count) String() string { return fmt.Sprintf("%d of %d", c.agreed, c.of) }

// TestTheSuites runs all suites. With UPDATE set it writes the counts that it finds; with VERBOSE it tells each case that comes
// out otherwise.
func TestTheSuites(t *testing.T) {
	dir := os.Getenv("CASES")
	if dir == "" {
		t.Skip("CASES names no folder")
	}
	found := map[string]*count{}
	tally := func(t *testing.T, kind string, agreed bool, format string, args ...any) {
		found[kind] = cmp.Or(found[kind], &count{})
		found[kind].add(agreed)
		if !agreed && os.Getenv("VERBOSE") != "" {
			t.Logf("%s: "+format, append([]any{kind}, args...)...)
		}
	}
	for _, suite := range []struct {
		name string
		run  func(t *testing.T, dir string, tally tallier)
	}{{"json", jsonSchema}, {"xml", xmlDocuments}, {"xsd", xmlSchemas}, {"csv", delimitedFiles}} {
		t.Run(suite.name, func(t *testing.T) { suite.run(t, filepath.Join(dir, suite.name), tally) })
	}
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	lines := bytes.SplitAfter(text, []byte("\n"))
	for i, line := range lines {
		kind, was, ok := row(string(line))
		if !ok {
			continue
		}
		is := found[kind]
		require.NotNil(t, is, "no case is of the kind %q", kind)
		delete(found, kind)
		if is.of < was.of || is.agreed < was.agreed {
			t.Errorf("%s: %s agree; %s did", kind, is, was)
		}
		t.Logf("%s: %s", kind, is)
		lines[i] = bytes.Replace(line, []byte(was.String()), []byte(is.String()), 1)
	}
	for kind, c := range found {
		t.Errorf("docs/conformance.md has no row for %s: %s", kind, c)
	}
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(page, bytes.Join(lines, nil), 0o644))
	}
}

// tallier takes the outcome of a case: its kind, whether it came out as its suite says, and what it is.
type tallier func(t *testing.T, kind string, agreed bool, format string, args ...any)

// row reads a line of the table: | kind | agreed of all | what that is |.
func row(line string) (kind string, c count, ok bool) {
	cells := strings.Split(line, "|")
	if len(cells) < 4 {
		return "", c, false
	}
	_, err := fmt.Sscanf(strings.TrimSpace(cells[2]), "%d of %d", &c.agreed, &c.of)
	return strings.TrimSpace(cells[1]), c, err == nil
}

// reread is a schema as its part file has it.
func reread(s *schema.Schema) (*schema.Schema, error) {
	d := partfile.Parse("x.yaml", schema.Write(s))
	again := schema.Parse("x", d)
	if len(d.Faults) > 0 {
		return nil, d.Faults[0]
	}
	return again, nil
}

// fits says whether a message fits a schema; the error is the first fault in it.
func fits(s *schema.Schema, message []byte) (bool, error) {
	var first error
	tally, err := validate.File(s, "x.yaml", all.Of(s), "in", bytes.NewReader(message), func(f *fault.Fault) bool { first = f; return false })
	if err != nil {
		return false, err
	}
	return tally.OK(), first
}
