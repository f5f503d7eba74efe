package step

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/value"
)

// textOf evaluates a formula that must yield a text, which is told or is a key of something kept; the item is set aside where it does not.
func textOf(it *running.Item, s *flow.Step, prog *formula.Program) (string, bool) {
	if prog == nil {
		return "", false
	}
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	if f == nil && (v.IsMissing() || v.Kind() >= value.RecordKind) {
		f = fault.Expect(fault.Required, "a text", v.Kind().String())
	}
	if f != nil {
		it.Aside(s.ID, f.InField(s.Name))
		return "", false
	}
	return fault.Printable(v.String()), true
}

func bytesOf(b []byte, raw bool) value.Value {
	if raw {
		return value.Bytes(string(b))
	}
	return value.NewText(strings.ToValidUTF8(string(b), "\uFFFD"))
}

// wantBytes checks that a formula yields a text or bytes.
func wantBytes(c *compile.Compiler, s *flow.Step, setting string, prog *formula.Program) {
	if !prog.Type.Fits(value.Text) && !prog.Type.Fits(value.Binary) {
		c.Fault(s.Place(setting), fault.Expect(fault.Type, "a text or bytes", prog.Type.String()))
	}
}

// wantBytes evaluates a formula that yields a text or bytes.
func bytesAt(it *running.Item, s *flow.Step, prog *formula.Program) ([]byte, bool) {
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	if f == nil && v.Kind() != value.Text && v.Kind() != value.Binary {
		f = fault.Expect(fault.Type, "a text or bytes", v.Kind().String())
	}
	if f != nil {
		it.Aside(s.ID, f.InField(s.Name))
		return nil, false
	}
	return []byte(v.Text()), true
}
