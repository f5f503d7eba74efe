package step

import (
	"context"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var templateKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "template", Title: "Fill in a template", Group: flow.GroupTransform, Concurrent: true, About: "Writes a text in which ${formula} stands for what the formula yields.",
		Begin: func(flow.Offering) partfile.Ordered { return yields("text") },
		Settings: setting.List{
			{Name: "text", Label: "Template", Type: setting.Template, Required: true, Help: "${formula} is replaced by what it yields, nothing where that is absent; \\${ stays as ${"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "text"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			first, _, _ := strings.Cut(strings.TrimSpace(s.Setting("text")), "\n")
			return first
		},
	},
	Compile: compileTemplate,
}

// piece is a part of a template: a text as it is, or a formula.
type piece struct {
	text string
	prog *formula.Program
}

// pieces cuts a template; at is where the formula stands that has no end, -1 where all have.
func pieces(source string) (texts, formulas []string, at int) {
	var text strings.Builder
	for i := 0; i < len(source); {
		switch {
		case strings.HasPrefix(source[i:], `\${`):
			text.WriteString("${")
			i += 3
		case strings.HasPrefix(source[i:], "${"):
			n := closing(source[i+2:])
			if n < 0 {
				return nil, nil, i
			}
			texts, formulas = append(texts, text.String()), append(formulas, source[i+2:i+2+n])
			text.Reset()
			i += n + 3
		default:
			text.WriteByte(source[i])
			i++
		}
	}
	return append(texts, text.String()), formulas, -1
}

// closing is where the brace stands that ends a formula: braces in it are paired, those in texts do not count.
func closing(s string) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '"', '\'', '`':
			for i++; i < len(s) && s[i] != c; i++ {
				if s[i] == '\\' && c != '`' {
					i++
				}
			}
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return i
			}
			depth--
		}
	}
	return -1
}

// templateOf compiles a setting that is a template.
func templateOf(c *compile.Compiler, s *flow.Step, setting string) (list []piece, ok bool) {
	at := s.Place(setting)
	texts, formulas, open := pieces(s.Setting(setting))
	if open >= 0 {
		c.Fault(at, fault.Expect(fault.Syntax, "} behind the formula", "the end of the template"))
		return nil, false
	}
	list = make([]piece, len(texts))
	for i, text := range texts {
		list[i].text = text
		if i == len(formulas) {
			break
		}
		one := at
		one.Value = formulas[i]
		if list[i].prog = c.Formula(one); list[i].prog == nil {
			return nil, false
		}
	}
	return list, true
}

func compileTemplate(c *compile.Compiler, s *flow.Step) running.Runner {
	list, ok := templateOf(c, s, "text")
	slot := c.Yield(s, "as", running.Named{}, formula.Type{Kind: value.Text})
	if !ok {
		return running.PassOn
	}
	return func(_ context.Context, _ *running.Batch, items []*running.Item) error {
		for _, it := range items {
			text, f := written(list, it)
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			it.Frame.Slots[slot] = value.NewText(text)
		}
		return nil
	}
}

func written(list []piece, it *running.Item) (string, *fault.Fault) {
	var out strings.Builder
	for _, p := range list {
		out.WriteString(p.text)
		if p.prog == nil {
			continue
		}
		it.Frame.Reset()
		v, f := p.prog.Eval(&it.Frame)
		if f != nil {
			return "", f
		}
		if !v.IsMissing() {
			out.WriteString(v.String())
		}
		if out.Len() > maxText {
			return "", fault.New(fault.Limit, "the text is longer than %d bytes", maxText)
		}
	}
	return out.String(), nil
}
