package schemas

import (
	"errors"
	"io"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

var convertView = page.Parse(files, "convert.html")

// Bounds on what is shown of a conversion.
const (
	convertedRecords = 200
	convertedBytes   = 32 << 10
)

// convertPage shows a sample in its own notation beside the same in another one.
type convertPage struct {
	page.Frame
	ID, SchemaTitle, Sample string
	Notation                *schema.Notation
	To                      string
	Choices                 edit.Settings
	Settings                []form.Field
	Changed                 bool // the choices are not those of the schema
	Revision                int64
	OOB                     bool
	Notations               []*notation.Kind
	Media                   string
	Before, After           string
	Records                 int
	Cut                     bool
	Faults                  fault.List
}

func (b pages) convertSchema(c *gin.Context) error {
	p, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	d := &convertPage{
		Frame: b.Frame(c, "bench", "Convert "+s.Title), ID: s.ID, SchemaTitle: s.Title, Notation: s.Notation, To: c.Query("to"),
		Sample: c.Query("sample"), Choices: edit.ReadSchema(s),
	}
	for _, set := range convertSettings {
		if v, chosen := c.GetQuery(form.Input(set.Name)); chosen {
			v = strings.TrimSpace(base.UnixLines(v))
			d.Changed = d.Changed || v != d.Choices[set.Name]
			d.Choices[set.Name] = v
		}
	}
	list := convertSettings
	if s.Notation.Elements {
		list = slices.DeleteFunc(slices.Clone(list), func(set setting.Setting) bool { return set.Name == schema.ValuesAsSetting.Name })
	}
	d.Settings = form.Fields(list.Chosen(d.Choices))
	draft, err := store.PartDraft(c, b.DB, p.ID, project.Path(project.Schemas, s.ID))
	if err != nil {
		return err
	}
	d.Revision = draft.Revision
	for _, n := range all.Kinds {
		if !n.Columns || s.Notation.Columns {
			d.Notations = append(d.Notations, n)
		}
	}
	if d.To == "" {
		d.To = other(s.Notation).Name
	}
	if d.Sample == "" && len(s.Samples) > 0 {
		d.Sample = s.Samples[0]
	}
	if d.Sample != "" {
		if err := d.convert(p, s); err != nil {
			d.Faults = append(d.Faults, fault.From(err, fault.Setting))
		}
	}
	if d.OOB = page.Partial(c); d.OOB {
		convertView.Part(c, "changed", d)
		return nil
	}
	convertView.Page(c, d)
	return nil
}

// other is the notation that a schema is probably converted to: XML, or from XML to JSON.
func other(n *schema.Notation) *notation.Kind {
	i := slices.IndexFunc(all.Kinds, func(k *notation.Kind) bool { return k.Document && k.Elements != n.Elements })
	return all.Kinds[i]
}

// convertSettings are the settings of a schema that say how its messages look in another notation.
var convertSettings = setting.List{
	schema.RootSetting, schema.RecordSetting, schema.NamespacesSetting, schema.ValuesAsSetting, schema.NullAsSetting, schema.EmptyAsSetting, schema.AbsentAsSetting,
}

// keepChoices writes the choices into the schema, for all that write its messages.
func (b pages) keepChoices(c *gin.Context) error {
	_, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	err = b.Save(c, project.Path(project.Schemas, s.ID), func(text []byte) ([]byte, error) {
		return edit.WriteSchema(text, s, form.Changed(c, convertSettings.Chosen(edit.ReadSchema(s))))
	})
	if err != nil {
		return err
	}
	q := url.Values{"to": {c.PostForm("to")}, "sample": {c.PostForm("sample")}}
	c.Redirect(303, "/bench/schemas/"+s.ID+"/convert?"+q.Encode())
	return nil
}

// chosen is the schema under the choices of the page.
func (d *convertPage) chosen(s *schema.Schema) *schema.Schema {
	as := *s
	to, w := d.Choices, &as.Settings
	w.RootName, w.RecordName, w.Namespaces, w.Attributes = to["root"], to["record"], edit.Namespaces(to["namespaces"]), to["values as"] == "attributes"
	w.Missing = schema.Missing{Null: to["null as"], Empty: to["empty as"], Absent: to["absent as"]}
	return &as
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
	as := d.chosen(s)
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
			if w, err = target.NewWriter(&b, notation.Options{Schema: as, Many: r.Many()}); err != nil {
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
