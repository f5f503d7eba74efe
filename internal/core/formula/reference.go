package formula

import (
	"fmt"
	"slices"
	"strings"

	"hollowreed/internal/core/value"
)

// Family is a group of functions of the catalogue, by name.
type Family struct {
	Name      string
	Functions []Function
}

// Families are the functions of the catalogue in their groups, each in the order of their names.
func Families() []Family {
	var out []Family
	at := map[string]int{}
	for _, fn := range Catalogue {
		i, there := at[fn.Family]
		if !there {
			i = len(out)
			at[fn.Family] = i
			out = append(out, Family{Name: fn.Family})
		}
		out[i].Functions = append(out[i].Functions, fn)
	}
	for _, f := range out {
		slices.SortFunc(f.Functions, func(a, b Function) int { return strings.Compare(a.Name, b.Name) })
	}
	return out
}

// Describe says in words what a parameter takes.
func (p Param) Describe() string {
	switch {
	case p.Each:
		return "a formula for every item (# is the item, .name its field)"
	case len(p.Kinds) == 0:
		return "anything"
	}
	names := make([]string, len(p.Kinds))
	for i, k := range p.Kinds {
		if names[i] = k.String(); k == value.Decimal {
			names[i] = "number"
		}
	}
	return strings.Join(names, " or ")
}

// WhenMissing says in words what becomes of arguments that are absent or null.
func (fn *Function) WhenMissing() string {
	if fn.Lenient {
		return "takes what is absent or null"
	}
	return "absent or null where an argument is"
}

// Reference is the catalogue as a page of Markdown.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Functions of formulas\n\nEvery example is run as a test. A name with ? may be left out; … repeats the one before. An empty text is a value like any other.\nDecimals are exact; rounding is half to even unless a mode is named.\n")
	b.WriteString("\n## Operators and conditions\n\nThose that bind closer come first.\n")
	for _, sign := range Signs {
		fmt.Fprintf(&b, "\n### %s\n\n%s\n\n", sign.Form, sign.About)
		for _, ex := range sign.Examples {
			fmt.Fprintf(&b, "    %s = %s\n", ex.Formula, ex.Result)
		}
	}
	for _, f := range Families() {
		fmt.Fprintf(&b, "\n## %s%s\n", strings.ToUpper(f.Name[:1]), f.Name[1:])
		for _, fn := range f.Functions {
			fmt.Fprintf(&b, "\n### %s\n\n%s\n\n", fn.Signature(), fn.About)
			for _, p := range fn.Params {
				fmt.Fprintf(&b, "- `%s`: %s\n", p.Name, p.Describe())
			}
			fmt.Fprintf(&b, "- %s\n\n", fn.WhenMissing())
			for _, ex := range fn.Examples {
				fmt.Fprintf(&b, "    %s = %s\n", ex.Formula, ex.Result)
			}
		}
	}
	return b.String()
}
