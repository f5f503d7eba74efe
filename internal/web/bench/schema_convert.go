package bench

import (
	"errors"
	"io"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/web/page"
)

var convertView = page.Parse(files, "schemaconvert.html")

// Bounds on what is shown of a conversion.
const (
	convertedRecords = 200
	convertedBytes   = 32 << 10
)

// convertPage shows a sample in its own notation beside the same in another one.
type convertPage struct {
	page.Frame
	ID, SchemaTitle, Notation, Sample string
	To, Root, Record                  string
	Notations                         []notation.Notation
	Media                             string
	Before, After                     string
	Records                           int
	Cut                               bool
	Faults                            fault.List
}

func (b bench) convertSchema(c *gin.Context) error {
	p, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	d := &convertPage{
		Frame: b.Frame(c, "bench", "Convert "+s.Title), ID: s.ID, SchemaTitle: s.Title, Notation: s.Notation, To: c.Query("to"),
		Root: c.DefaultQuery("root", s.Settings.RootName), Record: c.DefaultQuery("record", s.Settings.RecordName), Sample: c.Query("sample"),
	}
	for _, n := range all.Notations {
		if n.Name != "fixedwidth" || s.Notation == "fixedwidth" {
			d.Notations = append(d.Notations, n)
		}
	}
	if d.To == "" {
		d.To = map[bool]string{true: "json", false: "xml"}[s.Notation == "xml"]
	}
	if d.Sample == "" && len(s.Samples) > 0 {
		d.Sample = s.Samples[0]
	}
	if d.Sample != "" {
		if err := d.convert(p, s); err != nil {
			d.Faults = append(d.Faults, fault.From(err, fault.Setting))
		}
	}
	if page.Partial(c) {
		convertView.Part(c, "work", d)
		return nil
	}
	convertView.Page(c, d)
	return nil
}

// convert reads the sample and writes it in the other notation, under the choices that were made.
func (d *convertPage) convert(p *project.Project, s *schema.Schema) error {
	text := p.Texts[project.Path(project.Samples, d.Sample)]
	d.Before = shownText(text)
	target, err := all.Named(d.To)
	if err != nil {
		return err
	}
	d.Media = target.Media
	as := *s
	as.Settings.RootName, as.Settings.RecordName = d.Root, d.Record
	r, err := p.OpenSample(s, d.Sample, false)
	if err != nil {
		return err
	}
	var b strings.Builder
	var w notation.Writer
	for d.Records < convertedRecords {
		v, err := r.Next()
		var faults fault.List
		if err == io.EOF {
			break
		}
		if errors.As(err, &faults) {
			d.Faults = append(d.Faults, faults[0])
			continue
		}
		if err != nil {
			return err
		}
		if w == nil {
			if w, err = target.NewWriter(&b, notation.Options{Schema: &as, Many: r.Many()}); err != nil {
				return err
			}
		}
		if err := w.Write(v); err != nil {
			return err
		}
		d.Records++
	}
	if w != nil {
		err = w.Close()
	}
	d.After = shownText(b.String())
	d.Cut = len(b.String()) > convertedBytes || len(text) > convertedBytes
	return err
}

func shownText(s string) string {
	return strings.ToValidUTF8(s[:min(len(s), convertedBytes)], "\uFFFD")
}
