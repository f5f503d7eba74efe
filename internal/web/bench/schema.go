package bench

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	stdjson "encoding/json"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var schemaView = page.Parse(files, "schema.html")

// rulerLines is how many lines of a sample stand on the ruler; maxChecked how many are read to say
// whether they fit.
const (
	rulerLines = 8
	maxChecked = 5000
)

type schemaPage struct {
	page.Frame
	ID, SchemaTitle, Notation string
	Sample                    string
	Bytes                     int
	Lines                     int
	Bad                       int
	Fields                    []fieldRow
	Ruler                     []rulerLine
	Ticks                     []tick
	Cuts                      []cut
	Width                     int
	Settings                  schema.Settings
	Line                      int
	Before, After             int
	JSON                      string
	Faults                    fault.List
	UsedBy                    []project.Part
}

type fieldRow struct {
	Name, Type, Columns, Written, Must, Value string
	Indent                                    int
}

type rulerLine struct {
	Number int
	Parts  []rulerPart
	End    string
	Bad    bool
	Chosen bool
	Href   string
}

type rulerPart struct {
	Text string
	Tint int
	Name string
}

type tick struct{ Column, Left int }

type cut struct {
	Left, Width int
	Name        string
}

// columnWidth is the width of one column on the ruler in pixels.
const columnWidth = 15

func (b bench) schema(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	s := p.Schema(c.Param("id"))
	if s == nil {
		return store.ErrNotFound
	}
	d := &schemaPage{
		Frame: b.Frame(c, "bench", s.Title, "↑ ↓", "choose a line"), ID: s.ID, SchemaTitle: s.Title,
		Notation: s.Notation, Settings: s.Settings, Width: s.Width(), UsedBy: p.UsedBy(project.Path(project.Schemas, s.ID)),
	}
	d.Line, _ = strconv.Atoi(c.Query("line"))
	record := value.Value{}
	if len(s.Samples) > 0 {
		d.Sample = s.Samples[0]
		d.Bytes = len(p.Texts[project.Path(project.Samples, d.Sample)])
		record = d.read(p, s)
	}
	d.fields(s, record)
	if s.Notation == "fixedwidth" {
		d.marks(s)
	}
	if page.Partial(c) {
		schemaView.Part(c, "work", d)
		return nil
	}
	schemaView.Page(c, d)
	return nil
}

// read reads the sample: the first lines for the ruler, all for the verdict, one in full.
func (d *schemaPage) read(p *project.Project, s *schema.Schema) value.Value {
	r, err := p.OpenSample(s, d.Sample)
	if err != nil {
		d.Faults = fault.List{fault.From(err, fault.Setting)}
		return value.Value{}
	}
	if d.Line < 1 {
		d.Line = 1
	}
	chosen := value.Value{}
	for d.Lines < maxChecked {
		v, err := r.Next()
		if err == io.EOF {
			break
		}
		var faults fault.List
		if err != nil && !errors.As(err, &faults) {
			d.Faults = append(d.Faults, fault.From(err, fault.Syntax))
			break
		}
		d.Lines++
		if faults == nil {
			s.Check(v, func(f *fault.Fault) { faults = append(faults, f.At(r.Place())) })
		}
		if faults != nil {
			d.Bad++
		}
		if d.Lines == d.Line {
			chosen, d.Faults = v, faults
			d.JSON = indented(v)
		}
		d.ruler(s, r.Raw(), faults != nil)
	}
	if d.Line > 1 {
		d.Before = d.Line - 1
	}
	if d.Line < d.Lines {
		d.After = d.Line + 1
	}
	return chosen
}

func indented(v value.Value) string {
	if v.Kind() == value.Absent {
		return ""
	}
	var enc json.Appender
	var b bytes.Buffer
	if err := stdjson.Indent(&b, enc.Append(nil, v), "", "  "); err != nil {
		return ""
	}
	return b.String()
}

// ruler keeps a line if it stands near the chosen one.
func (d *schemaPage) ruler(s *schema.Schema, raw string, bad bool) {
	first := max(1, min(d.Line-rulerLines/2, d.Lines))
	if s.Notation != "fixedwidth" || d.Lines < first || len(d.Ruler) >= rulerLines {
		return
	}
	l := rulerLine{Number: d.Lines, Bad: bad, Chosen: d.Lines == d.Line, Href: fmt.Sprintf("/bench/schemas/%s?line=%d", d.ID, d.Lines), End: s.Settings.LineEnd}
	at := 0
	for i, f := range s.Root.Fields {
		from, to := min(f.Written.From-1, len(raw)), min(f.Written.To, len(raw))
		if from > at {
			l.Parts = append(l.Parts, rulerPart{Text: raw[at:from], Tint: -1})
		}
		l.Parts = append(l.Parts, rulerPart{Text: raw[from:to], Tint: i % 4, Name: f.Name})
		at = to
	}
	if at < len(raw) {
		l.Parts = append(l.Parts, rulerPart{Text: raw[at:], Tint: -1})
	}
	d.Ruler = append(d.Ruler, l)
}

func (d *schemaPage) marks(s *schema.Schema) {
	for c := 1; c <= d.Width; c += 5 {
		d.Ticks = append(d.Ticks, tick{Column: c, Left: (c - 1) * columnWidth})
	}
	for _, f := range s.Root.Fields {
		w := f.Written
		d.Cuts = append(d.Cuts, cut{Left: (w.From - 1) * columnWidth, Width: (w.To - w.From + 1) * columnWidth, Name: f.Name})
	}
}

func (d *schemaPage) fields(s *schema.Schema, record value.Value) {
	s.Root.Walk(func(path []string, f *schema.Field) {
		if len(path) == 0 {
			return
		}
		row := fieldRow{Name: f.Name, Type: typeName(f), Must: f.Must.Text(), Written: howWritten(f), Indent: len(path) - 1}
		if w := f.Written; w.From > 0 {
			row.Columns = fmt.Sprintf("%d–%d", w.From, w.To)
			if w.From == w.To {
				row.Columns = strconv.Itoa(w.From)
			}
		}
		v := record
		for _, n := range path {
			v = v.Field(n)
		}
		if record.Kind() != value.Absent && f.Kind != value.RecordKind {
			row.Value = v.String()
		}
		d.Fields = append(d.Fields, row)
	})
}

func howWritten(f *schema.Field) string {
	w := f.Written
	switch {
	case w.Pattern != "":
		return w.Pattern
	case w.Implied > 0:
		return count(w.Implied, "implied place")
	case w.From == 0:
		return ""
	case f.Kind.Numeric() && w.Fill == '0':
		return "zero filled"
	}
	return w.Align + ", filled with " + strings.ReplaceAll(string(w.Fill), " ", "spaces")
}
