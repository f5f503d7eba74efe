// Package form draws settings as a form and reads what the form says of them, for every kind of thing that has settings.
package form

import (
	"embed"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

// Files hold the template "setting", which draws a Field.
//
//go:embed *.html
var Files embed.FS

// Option is something to choose.
type Option struct{ ID, Title string }

// Row is one pair of a name and a formula.
type Row struct {
	Name, Formula, Result, About string
	Must                         bool
	Options                      []Option // one of these in place of a formula
}

// Field is one setting as it is edited.
type Field struct {
	setting.Setting
	Value    string
	Result   string // of a formula, for the record at hand
	Options  []Option
	Rows     []Row      // of pairs
	Secrets  []string   // names to choose from
	Complete string     // the address that completes a formula; empty: nothing does
	Faults   fault.List // of what is written
	Needed   bool       // it must be there, and is not yet
}

// Fields are the settings of a kind with what is chosen.
func Fields(v setting.Values) []Field {
	fields := make([]Field, len(v.List))
	for i, s := range v.List {
		fields[i] = Field{Setting: s, Value: v.Get(s.Name)}
		if s.Type == setting.Pairs {
			fields[i].Free, fields[i].Rows = true, Rows(v.Pairs[s.Name])
		}
	}
	return fields
}

// emptyRows are the rows for new pairs, in a form that is not drawn anew while it is filled in.
const emptyRows = 2

// Rows are pairs as they are edited, with empty rows for new ones.
func Rows(pairs []setting.Pair) []Row {
	rows := make([]Row, len(pairs), len(pairs)+emptyRows)
	for i, p := range pairs {
		rows[i] = Row{Name: p.Name.Value, Formula: p.Formula.Value}
	}
	return append(rows, make([]Row, emptyRows)...)
}

// Input is the name of the form's field for a setting.
func Input(name string) string { return "set " + name }

// Input is the name of the form's field.
func (f Field) Input() string { return Input(f.Name) }

// ID is the id of the form's field without its prefix.
func (f Field) ID() string { return strings.ReplaceAll(f.Name, " ", "-") }

// When says for the page on which other field this one depends: its name, and the values with which this one is there.
func (f Field) When() string {
	name, values, depends := f.Depends()
	if !depends {
		return ""
	}
	return Input(name) + "=" + strings.Join(values, "|")
}

// Folded says whether the field is shown only when more is asked for.
func (f Field) Folded() bool {
	return f.Rare && (f.Value == "" || f.Value == f.Default) && len(f.Faults) == 0 && !f.Needed
}

// Height is how many lines a field of several lines shows.
func (f Field) Height() int {
	if f.Type == setting.Template {
		return 6
	}
	return min(8, 2+strings.Count(f.Value, "\n"))
}

// Row says whether the field takes a row by itself where others stand side by side.
func (f Field) Row() bool {
	return f.Wide || f.Type == setting.Lines || f.Type == setting.Template || f.Type == setting.Pairs || f.Type == setting.Secret
}

// Numeric says whether it is a number.
func (f Field) Numeric() bool { return f.Type == setting.Number || f.Type == setting.Decimal }

// Long says whether a secret has several lines.
func (f Field) Long() bool { return f.Of == "key pair" || f.Of == "certificate" }

// Choices are those to choose from; what is chosen is among them, so that it is not lost.
func (f Field) Choices() []string {
	if f.Value == "" || slices.Contains(f.Setting.Choices, f.Value) {
		return f.Setting.Choices
	}
	return append([]string{f.Value}, f.Setting.Choices...)
}

// Text is what the form says of a setting; there is false where it says nothing of it.
func Text(c *gin.Context, s setting.Setting) (text string, there bool) {
	text, there = c.GetPostForm(Input(s.Name))
	text = strings.ReplaceAll(text, "\r\n", "\n")
	if s.Type != setting.Template {
		text = strings.TrimSpace(text)
	}
	return text, there
}

// Check reads what the form says of the fields, and marks what is missing or does not fit. What depends on something else that
// is not chosen is left out. Excused says of what is missing that it comes in another way.
func Check(c *gin.Context, list setting.List, fields []Field, excused func(setting.Setting) bool) (chosen map[string]string, ok bool) {
	chosen, ok = map[string]string{}, true
	for i := range fields {
		f := &fields[i]
		if f.Value, _ = Text(c, f.Setting); f.Value != "" {
			chosen[f.Name] = f.Value
		}
	}
	said := maps.Clone(chosen)
	for i := range fields {
		f := &fields[i]
		if !list.Applies(f.Setting, setting.Of(said)) {
			delete(chosen, f.Name)
			continue
		}
		if ft := f.Check(f.Value); ft != nil && !(f.Value == "" && excused(f.Setting)) {
			ft.Field = ""
			f.Faults, ok = fault.List{ft}, false
		}
	}
	return chosen, ok
}

// Changed is what the form says of settings that are not so already, by name; what is chosen as it is anyway is empty.
func Changed(c *gin.Context, v setting.Values) map[string]string {
	changed := map[string]string{}
	for _, s := range v.List {
		if to, there := Text(c, s); there && to != v.Get(s.Name) {
			if to == s.Default || s.Type == setting.Flag && s.Default == "" && to == "false" {
				to = ""
			}
			if to != v.Get(s.Name) {
				changed[s.Name] = to
			}
		}
	}
	return changed
}

// Write writes into a part what the form says of settings and what is not so already; at is where they stand in the part. What
// is chosen as it is anyway is not written.
func Write(c *gin.Context, text []byte, v setting.Values, at ...any) (out []byte, err error) {
	out = text
	changed := Changed(c, v)
	for _, s := range v.List {
		path := append(at[:len(at):len(at)], s.Name)
		if s.Type == setting.Pairs {
			out, err = writePairs(c, out, s.Name, v.Pairs[s.Name], path)
		} else if to, is := changed[s.Name]; is {
			out, err = partfile.Set(out, path, to)
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// writePairs writes pairs of names and formulas: those with fixed names by their names, or a list in which names are written,
// too.
func writePairs(c *gin.Context, text []byte, name string, was []setting.Pair, path []any) (out []byte, err error) {
	if _, there := c.GetPostForm(rowInput(name, "name", 0)); there {
		return writeRows(c, text, name, was, path)
	}
	written := map[string]string{}
	for _, p := range was {
		written[p.Name.Value] = p.Formula.Value
	}
	out = text
	c.PostForm("") // reads the form
	for _, field := range slices.Sorted(maps.Keys(c.Request.PostForm)) {
		key, is := strings.CutPrefix(field, Input(name)+"/")
		if to := c.PostForm(field); is && to != written[key] {
			if out, err = partfile.Set(out, append(path[:len(path):len(path)], key), to); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

func writeRows(c *gin.Context, text []byte, name string, was []setting.Pair, path []any) ([]byte, error) {
	rows, same := partfile.Ordered{}, true
	for i := 0; ; i++ {
		key, there := c.GetPostForm(rowInput(name, "name", i))
		if !there {
			break
		}
		formula := c.PostForm(rowInput(name, "formula", i))
		if key = strings.TrimSpace(key); key == "" {
			continue
		}
		n := len(rows)
		same = same && n < len(was) && was[n].Name.Value == key && was[n].Formula.Value == formula
		rows.Add(key, partfile.Text{Value: formula})
	}
	if same && len(rows) == len(was) {
		return text, nil
	}
	return partfile.Set(text, path, rows)
}

func rowInput(name, what string, row int) string {
	return Input(name) + "." + what + "." + strconv.Itoa(row)
}
