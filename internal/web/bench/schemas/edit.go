package schemas

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

// setField changes the settings of one field and answers with all that this changes on the page.
func (b pages) setField(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	s := p.Schema(c.Param("id"))
	path, ok := edit.ParsePath(c.PostForm("field"))
	if s == nil || !ok {
		return store.ErrNotFound
	}
	if called := c.PostForm("called"); called != "" {
		if path, ok = edit.Named(s, path, called); !ok {
			return fault.New(fault.Unknown, "the schema has no field %s any more: what was typed for it is not kept", called)
		}
	}
	err = b.Save(c, project.Path(project.Schemas, s.ID), func(text []byte) ([]byte, error) { return edit.Write(text, s, path, fieldSettings(c, s, path)) })
	if err != nil {
		return err
	}
	d, err := b.schemaPage(c, s.ID, posted(c))
	if err != nil {
		return err
	}
	d.OOB = true
	schemaView.Part(c, "changed", d)
	return nil
}

// setWritten changes how messages of the schema are written.
func (b pages) setWritten(c *gin.Context) error {
	_, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	err = b.Save(c, project.Path(project.Schemas, s.ID), func(text []byte) ([]byte, error) { return edit.WriteSchema(text, s, schemaSettings(c, s)) })
	if err != nil {
		return err
	}
	d, err := b.schemaPage(c, s.ID, posted(c))
	if err != nil {
		return err
	}
	d.OOB = true
	schemaView.Part(c, "changed", d)
	return nil
}

// fieldSettings are the settings of a field that a form changes.
func fieldSettings(c *gin.Context, s *schema.Schema, at edit.Path) edit.Settings {
	f := edit.Field(s, at)
	if f == nil {
		return nil
	}
	to := edit.Settings(form.Changed(c, valuesOf(s, f)))
	if name, there := c.GetPostForm(form.Input("name")); there {
		to["name"] = strings.TrimSpace(name)
	}
	if place, changed := to["place"]; changed {
		to["attribute"], to["content"] = set(place == schema.Places[1]), set(place == schema.Places[2])
	}
	return to
}

// schemaSettings are the settings of a schema as a whole that a form changes.
func schemaSettings(c *gin.Context, s *schema.Schema) edit.Settings {
	to := edit.Settings(form.Changed(c, headOf(s)))
	maps.Copy(to, form.Changed(c, writtenOf(s)))
	return to
}

// set is how a part says that something is so; nothing where it is not.
func set(is bool) string {
	if is {
		return "true"
	}
	return ""
}

// change changes the tree of fields or the cuts of the ruler.
func (b pages) change(c *gin.Context) error {
	_, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	look := posted(c)
	err = b.Save(c, project.Path(project.Schemas, s.ID), func(text []byte) ([]byte, error) {
		r, err := changed(c, text, s)
		look.field = r.Selected.String()
		return r.Text, err
	})
	if err != nil {
		return err
	}
	return b.again(c, s.ID, look)
}

// takeIn adds the fields to a schema that one of its samples has and it lacks.
func (b pages) takeIn(c *gin.Context) error {
	p, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	look := posted(c)
	var seen notation.Ignored
	r, err := p.OpenSample(s, look.sample, true, &seen)
	if err != nil {
		return err
	}
	for range maxChecked {
		var faults fault.List
		if _, err := r.Next(); err != nil && !errors.As(err, &faults) {
			break
		}
	}
	as, err := all.OfFile(look.sample, s)
	if err != nil {
		return err
	}
	of, err := infer.From(s.ID, s.Title, as, infer.Sample{Name: look.sample, Content: []byte(p.Texts[project.Path(project.Samples, look.sample)])})
	if err != nil {
		return err
	}
	err = b.Save(c, project.Path(project.Schemas, s.ID), func(text []byte) ([]byte, error) {
		r, n, err := edit.TakeIn(text, s, of.Schema.Root, seen.Paths())
		if err == nil && n == 0 {
			err = fault.New(fault.Setting, "the fields could not be added: another schema describes the record, or the sample cannot be read without the schema").WithFix("Add them by hand")
		}
		look.field = r.Selected.String()
		return r.Text, err
	})
	if err != nil {
		return err
	}
	return b.again(c, s.ID, look)
}

func changed(c *gin.Context, text []byte, s *schema.Schema) (edit.Result, error) {
	op := c.PostForm("op")
	column, _ := strconv.Atoi(c.PostForm("column"))
	path, ok := edit.ParsePath(c.PostForm("field"))
	record := edit.Record(s, path)
	switch op {
	case "cut":
		return edit.Cut(text, s, record, column)
	case "left":
		return edit.Nudge(text, s, record, column, -1)
	case "right":
		return edit.Nudge(text, s, record, column, 1)
	case "line":
		return edit.AddLine(text, s, record, c.PostForm("like"), c.PostForm("first"))
	}
	if !ok {
		return edit.Result{}, store.ErrNotFound
	}
	return edit.Apply(op, text, s, path)
}

// share makes a schema of a record's fields, for other schemas to take them, too.
func (b pages) share(c *gin.Context) error {
	_, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	look := posted(c)
	at, ok := edit.ParsePath(look.field)
	if !ok {
		return store.ErrNotFound
	}
	if err := b.Designer(c).ShareRecord(c, s, at); err != nil {
		return err
	}
	return b.again(c, s.ID, look)
}

// again draws the page as it is now, or sends the browser there.
func (b pages) again(c *gin.Context, id string, look at) error {
	if !page.Partial(c) {
		q := url.Values{"line": {look.line}, "field": {look.field}, "sample": {look.sample}}
		c.Redirect(303, "/bench/schemas/"+id+"?"+q.Encode())
		return nil
	}
	d, err := b.schemaPage(c, id, look)
	if err != nil {
		return err
	}
	schemaView.Part(c, "work", d)
	return nil
}

// madeRecords is how many records a made sample has where the notation is a list of them.
const madeRecords = 12

// makeSample makes a sample of the schema and keeps it with it.
func (b pages) makeSample(c *gin.Context) error {
	_, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	kind, known := sample.KindNamed(c.DefaultPostForm("kind", string(sample.Typical)))
	if !known {
		return fault.Expect(fault.Setting, "minimal, typical or maximal", fault.Quote(c.PostForm("kind")))
	}
	seed, err := strconv.ParseUint(c.DefaultPostForm("seed", "1"), 10, 64)
	if err != nil {
		return fault.Expect(fault.Setting, "a whole number as seed", fault.Quote(c.PostForm("seed")))
	}
	text, ending, err := madeSample(s, kind, seed)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%s-%s-%d.%s", s.ID, kind, seed, ending)
	if name, err = b.Designer(c).AddSample(c, s.ID, name, text); err != nil {
		return err
	}
	return b.again(c, s.ID, at{sample: name, field: c.PostForm("field")})
}

func madeSample(s *schema.Schema, kind sample.Kind, seed uint64) (text, ending string, err error) {
	n := all.Of(s)
	var b strings.Builder
	records := madeRecords
	if n.Document && (!n.Elements || s.Settings.RecordName == "") {
		records = 1
	}
	w, err := n.NewWriter(&b, notation.Options{Schema: s, Many: records > 1})
	if err != nil {
		return "", "", err
	}
	for i := range records {
		v, ft := sample.Make(s, kind, seed*1000+uint64(i))
		if ft != nil {
			return "", "", ft
		}
		if err := w.Write(v); err != nil {
			return "", "", err
		}
	}
	err = w.Close()
	return b.String(), n.Ending, err
}

// uploadSample keeps a file, or what was pasted, as a sample.
func (b pages) uploadSample(c *gin.Context) error {
	_, s, err := b.schemaOf(c)
	if err != nil {
		return err
	}
	files, err := base.Uploads(c)
	if err != nil {
		return err
	}
	name := files[0].Name
	if name == "" {
		name = fmt.Sprintf("%s-%s.txt", s.ID, time.Now().UTC().Format("20060102-150405"))
	}
	if name, err = b.Designer(c).AddSample(c, s.ID, name, string(files[0].Content)); err != nil {
		return err
	}
	return b.again(c, s.ID, at{sample: name})
}
