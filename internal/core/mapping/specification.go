package mapping

import (
	"encoding/csv"
	"io"
	"strings"

	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
)

// Line is one line of a mapping's specification, for people who do not read formulas all day.
type Line struct {
	Target   string // path of the field as rules write it; of a variable its name
	Depth    int
	Kind     string // field, list, record, map, variant, branch, variable, condition
	Type     string
	Required bool
	Rule     string
	Sources  []string // the source fields that it reads, as source.field
	Uses     []string // tables, and functions of libraries
	Example  string   // what the message at hand makes of it
}

// Specification tells a mapping line by line: its conditions, its variables and every field of the
// target, with the results of a message where results has them.
func (p *Plan) Specification(results map[*Field]value.Value) []Line {
	var out []Line
	for _, k := range p.Mapping.Conditions {
		rule := "only where " + k.When.Value
		if k.Reason != "" {
			rule += "; else left out: " + k.Reason
		}
		out = append(out, Line{Target: "the message", Kind: "condition", Rule: rule})
	}
	for _, v := range p.Variables {
		l := line(v, results)
		l.Kind, l.Rule = "variable", v.Variable.Formula.Value
		if v.Program != nil {
			l.Type = v.Program.Type.Kind.String()
		}
		out = append(out, l)
	}
	for _, f := range p.Fields {
		l := line(f, results)
		l.Depth, l.Required, l.Type = len(f.Path)-1, f.Field.Required(), f.Field.Kind.String()
		around := p.Target.Root.Find(f.Path[:l.Depth]...)
		switch {
		case f.Field.List():
			l.Kind, l.Type = "list", "list of "+l.Type
		case around != nil && around.Kind == value.VariantKind:
			l.Kind = "branch"
		case f.Field.Nests():
			l.Kind = l.Type
		default:
			l.Kind = "field"
		}
		if f.Rule != nil {
			l.Rule = f.Rule.Words()
		}
		out = append(out, l)
	}
	return out
}

func line(f *Field, results map[*Field]value.Value) Line {
	l := Line{Target: f.Name(), Uses: append(append([]string{}, f.Tables...), f.Functions...)}
	for _, path := range f.Reads {
		l.Sources = append(l.Sources, strings.Join(path, "."))
	}
	switch v := results[f]; {
	case v.IsMissing():
	case v.Kind() < value.RecordKind:
		l.Example = v.String()
	case f.Rule != nil && (f.Rule.Kind == Formula || f.Rule.Kind == Script): // there are no rules below it that have examples of their own
		l.Example = clipped(json.Text(v))
	}
	return l
}

// maxExample bounds, in characters, an example of several values.
const maxExample = 200

func clipped(text string) string {
	if r := []rune(text); len(r) > maxExample {
		return string(r[:maxExample]) + "…"
	}
	return text
}

// Words tells a rule with all its settings.
func (r *Rule) Words() string {
	var parts []string
	switch r.Kind {
	case Constant:
		parts = append(parts, "always "+r.Text.Value)
	case Each:
		parts = append(parts, "for each "+r.As+" of "+r.Text.Value)
	case Formula:
		parts = append(parts, r.Text.Value)
	case Script:
		parts = append(parts, "script "+strings.TrimSpace(r.Text.Value))
	case Record:
		parts = append(parts, "one entry")
	}
	add := func(words, text string) {
		if text != "" {
			parts = append(parts, words+" "+text)
		}
	}
	for _, in := range r.Nested {
		add("and each "+in.As+" of", in.List.Value)
	}
	for _, v := range r.Variables {
		add("with "+v.Name+" =", v.Formula.Value)
	}
	add("where", r.Where.Value)
	add("key", r.Key.Value)
	add("distinct by", r.Distinct.Value)
	add("grouped by", r.Group.Value)
	add("sorted by", r.Sort.Value)
	add("numbered as", r.Index)
	add("only when", r.When.Value)
	add("or else", r.Default.Value)
	if r.Empty != asItIs {
		add("when empty:", r.Empty)
	}
	return strings.Join(parts, ", ")
}

// WriteSpecification writes the lines as CSV (RFC 4180) with a heading. A cell that a spreadsheet would
// take for a formula is written as text.
func WriteSpecification(w io.Writer, lines []Line) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	rows := [][]string{{"target", "kind", "type", "required", "rule", "sources", "uses", "example"}}
	for _, l := range lines {
		required := ""
		if l.Required {
			required = "yes"
		}
		rows = append(rows, []string{l.Target, l.Kind, l.Type, required, l.Rule, strings.Join(l.Sources, "; "), strings.Join(l.Uses, "; "), l.Example})
	}
	for _, row := range rows {
		for i, cell := range row {
			if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
				row[i] = "'" + cell
			}
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
