package schemas

import (
	"errors"
	"io"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/compare"
	"hollowreed/internal/core/schema/source"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

var sourceView = page.Parse(files, "source.html")

// sourcePage is a schema as source text, and what the text that is being written would change.
type sourcePage struct {
	page.Frame
	ID, SchemaTitle, Path string
	Draft                 store.Draft
	Language              source.Language
	Languages             []source.Language
	Text                  string
	OOB                   bool
	verdict
}

// verdict is what is known of a text before it is kept.
type verdict struct {
	Changed  bool
	Refused  bool       // the text cannot be read
	Faults   fault.List // of the schema, and of parts that would not go with it any more
	Changes  []compare.Change
	Breaking int
	Sample   string
	Fit, Of  int // records of the sample
}

func (b pages) sourceOf(c *gin.Context) (*project.Project, *schema.Schema, *sourcePage, error) {
	p, s, err := b.schemaOf(c)
	if err != nil {
		return nil, nil, nil, err
	}
	d := &sourcePage{
		Frame: b.Frame(c, "bench", "Source of "+s.Title, "Ctrl S", "keep the text"), ID: s.ID, SchemaTitle: s.Title, Path: project.Path(project.Schemas, s.ID),
		Language: source.Named(c.DefaultQuery("as", c.PostForm("as"))), Languages: source.Languages,
	}
	d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path)
	return p, s, d, err
}

func (b pages) source(c *gin.Context) error {
	p, s, d, err := b.sourceOf(c)
	if err != nil {
		return err
	}
	d.Text = string(d.Language.Write(s, []byte(d.Draft.Text)))
	d.check(p, s)
	sourceView.Page(c, d)
	return nil
}

// checkSource says what a text would change, without keeping it.
func (b pages) checkSource(c *gin.Context) error {
	p, s, d, err := b.sourceOf(c)
	if err != nil {
		return err
	}
	d.Text = c.PostForm("text")
	d.check(p, s)
	sourceView.Part(c, "verdict", d)
	return nil
}

// setSource keeps a text as the schema's.
func (b pages) setSource(c *gin.Context) error {
	_, s, d, err := b.sourceOf(c)
	if err != nil {
		return err
	}
	text := base.UnixLines(c.PostForm("text"))
	err = b.Save(c, d.Path, func(part []byte) ([]byte, error) { return d.Language.Read(s, part, []byte(text)) })
	if err != nil {
		return err
	}
	p, s, kept, err := b.sourceOf(c)
	if err != nil {
		return err
	}
	kept.Text = string(kept.Language.Write(s, []byte(kept.Draft.Text)))
	kept.check(p, s)
	if !page.Partial(c) {
		c.Redirect(303, "/bench/schemas/"+s.ID+"/source?as="+d.Language.Name)
		return nil
	}
	sourceView.Part(c, "work", kept)
	return nil
}

// check reads the text as it would be kept.
func (d *sourcePage) check(p *project.Project, s *schema.Schema) {
	part, err := d.Language.Read(s, []byte(d.Draft.Text), []byte(base.UnixLines(d.Text)))
	if err != nil {
		d.Refused, d.Faults = true, fault.List{fault.From(err, fault.Syntax)}
		return
	}
	d.Changed = string(part) != d.Draft.Text
	then := p
	if d.Changed {
		then = p.With(d.Path, string(part))
	}
	d.Faults = further(p, then, d.Path)
	now := then.Schema(s.ID)
	d.Changes = compare.Schemas(s, now)
	for _, ch := range d.Changes {
		if ch.Readers || ch.Writers {
			d.Breaking++
		}
	}
	d.fit(then, now)
}

// further are the faults of a part, and those of others that were not there before.
func further(was, now *project.Project, path string) fault.List {
	before := map[string]bool{}
	for _, f := range was.Faults {
		before[f.Error()] = f.Place.Source != path
	}
	var list fault.List
	for _, f := range now.Faults {
		if f.Place.Source == path || !before[f.Error()] {
			list = append(list, f)
		}
	}
	return list
}

// fit reads the first sample.
func (d *sourcePage) fit(p *project.Project, s *schema.Schema) {
	if len(s.Samples) == 0 {
		return
	}
	d.Sample = s.Samples[0]
	r, err := p.OpenSample(s, d.Sample, true)
	if err != nil {
		d.Faults = append(d.Faults, fault.From(err, fault.Setting))
		return
	}
	for d.Of < maxChecked {
		_, err := r.Next()
		var faults fault.List
		if err == io.EOF {
			return
		}
		d.Of++
		switch {
		case err == nil:
			d.Fit++
		case !errors.As(err, &faults):
			return
		}
	}
}

// Line is the line of the text at which a fault is; 0 when it is elsewhere.
func (d *sourcePage) Line(f *fault.Fault) int {
	if f.Place.Source == "" || f.Place.Source == d.Path && d.Language.Name == source.Languages[0].Name {
		return f.Place.Line
	}
	return 0
}
