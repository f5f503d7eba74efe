package json

import (
	"bufio"
	"io"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
)

// CopyDocument passes one JSON document on, token by token and in constant memory: names, order
// and the text of numbers stay as they are, white space goes. It makes the same faults as a reader.
func CopyDocument(w io.Writer, r io.Reader, o notation.Options) error {
	lines := &lineCounter{r: r, line: 1}
	out := bufio.NewWriterSize(w, flushAt)
	j := &reader{lines: lines, name: o.Source}
	j.dec = jsontext.NewDecoder(lines)
	enc := jsontext.NewEncoder(out)
	for first := true; ; first = false {
		tok, err := j.dec.ReadToken()
		if err == io.EOF && first {
			return fault.Expect(fault.Required, "a JSON value", "an empty file").At(fault.Place{Source: j.name, Line: 1, Column: 1})
		}
		if err != nil {
			return j.stopped(out, err)
		}
		if err := enc.WriteToken(tok); err != nil {
			return j.stopped(out, err)
		}
		lines.begin(j.dec.InputOffset())
		if j.dec.StackDepth() > notation.MaxDepth {
			return j.stopped(out, errDepth)
		}
		if j.dec.StackDepth() == 0 {
			if err := j.finish(); err != io.EOF {
				return j.stopped(out, err)
			}
			return out.Flush()
		}
	}
}

// stopped writes what was read before a fault.
func (j *reader) stopped(out *bufio.Writer, err error) error {
	if ferr := out.Flush(); ferr != nil {
		return ferr
	}
	if f, ok := err.(*fault.Fault); ok {
		return f
	}
	return j.broken(err)
}
