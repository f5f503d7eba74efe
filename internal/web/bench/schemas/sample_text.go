package schemas

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

var sampleView = page.Parse(files, "sampletext.html")

// Bounds of the page of a sample.
const (
	maxSampleText   = 512 << 10 // bytes that can be edited
	maxSampleFaults = 100
)

// samplePage is a sample as text, with what its schema says of it.
type samplePage struct {
	page.Frame
	ID, Path string
	Draft    store.Draft
	Schemas  []project.Part // that name it
	SchemaID string         // by which it is read; empty where none names it
	Text     string
	Size     int64
	Encoding string // where it is not UTF-8
	Media    string // Internet media type; empty where it is not known
	Editable bool
	Locked   string // why it is not
	Changed  bool
	Of, Bad  int // records, and those that do not fit
	Faults   fault.List
	Ignored  notation.Ignored // what the text has and the schema lacks
	Said     string
	OOB      bool
}

// sampleOf finds a sample and the schema that it is read by: the one that is asked for, or the first that names it.
func (b pages) sampleOf(c *gin.Context, as string) (*project.Project, *schema.Schema, *samplePage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, nil, err
	}
	id := c.Param("id")
	d := &samplePage{Frame: b.Frame(c, "bench", id, "Ctrl S", "save"), ID: id, Path: project.Path(project.Samples, id), Said: c.Query("said")}
	if _, there := p.Texts[d.Path]; !there {
		return nil, nil, nil, store.ErrNotFound
	}
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, nil, nil, err
	}
	for _, part := range p.Parts(project.Schemas) {
		if slices.Contains(p.Schema(part.ID).Samples, id) {
			d.Schemas = append(d.Schemas, part)
			if d.SchemaID == "" || part.ID == as {
				d.SchemaID = part.ID
			}
		}
	}
	s := p.Schema(d.SchemaID)
	d.Media = mime.TypeByExtension(path.Ext(id))
	if s != nil {
		d.Media = s.Notation.Media
	}
	d.Size, d.Editable, d.Text = int64(len(d.Draft.Text)), true, strings.ToValidUTF8(d.Draft.Text, "\uFFFD")
	if s != nil && s.Settings.Encoding != "" && !strings.EqualFold(s.Settings.Encoding, "utf-8") {
		d.Encoding, d.Text = s.Settings.Encoding, all.Decode(s, []byte(d.Draft.Text))
	}
	switch {
	case d.Size > maxSampleText:
		d.Editable, d.Locked, d.Text = false, "the first part; too large to edit here", strings.ToValidUTF8(d.Text[:min(len(d.Text), maxSampleText)], "")
	case d.Text != d.Draft.Text:
		d.Editable, d.Locked = false, "edit it in its encoding, and upload it"
	}
	return p, s, d, nil
}

// check reads the text as it would be saved.
func (d *samplePage) check(s *schema.Schema, text string) {
	if s == nil {
		return
	}
	err := readAs(s, d.ID, text, notation.Options{Check: true, Ignored: &d.Ignored}, func(_ value.Value, faults fault.List) {
		d.Of++
		if faults != nil {
			d.Bad++
		}
		if len(d.Faults) < maxSampleFaults {
			d.Faults = append(d.Faults, faults...)
		}
	})
	if err != nil {
		d.Bad++
		d.Of++
		d.Faults = append(d.Faults, fault.From(err, fault.Syntax))
	}
}

// readAs reads the records of a sample's text, with their faults.
func readAs(s *schema.Schema, name, text string, o notation.Options, use func(v value.Value, faults fault.List)) error {
	n, err := all.OfFile(name, s)
	if err != nil {
		return err
	}
	o.Source, o.Schema = name, s
	r, err := n.NewReader(strings.NewReader(text), o)
	if err != nil {
		return err
	}
	for range maxChecked {
		v, err := r.Next()
		var faults fault.List
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil && !errors.As(err, &faults):
			return err
		}
		use(v, faults)
	}
	return nil
}

func (b pages) sample(c *gin.Context) error {
	_, s, d, err := b.sampleOf(c, c.Query("as"))
	if err != nil {
		return err
	}
	d.check(s, d.Draft.Text)
	sampleView.Page(c, d)
	return nil
}

// checkSample says what a text would be, without saving it.
func (b pages) checkSample(c *gin.Context) error {
	_, s, d, err := b.sampleOf(c, c.PostForm("as"))
	if err != nil {
		return err
	}
	text := d.lines(c.PostForm("text"))
	d.Changed = text != d.Draft.Text
	d.check(s, text)
	sampleView.Part(c, "verdict", d)
	return nil
}

// Lacking lists the fields that the text has and the schema lacks.
func (d *samplePage) Lacking() string { return lackingText(&d.Ignored) }

// lines gives a form's text the line ends that the sample has.
func (d *samplePage) lines(text string) string {
	text = base.UnixLines(text)
	if strings.Contains(d.Draft.Text, "\r\n") {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	return text
}

// saveSample saves the text of a sample, also one that does not fit: that is what some samples are for.
func (b pages) saveSample(c *gin.Context) error {
	_, _, d, err := b.sampleOf(c, c.PostForm("as"))
	if err != nil {
		return err
	}
	if !d.Editable {
		return fault.New(fault.Setting, "it cannot be edited here: %s", d.Locked)
	}
	return b.keepSampleText(c, d, d.lines(c.PostForm("text")), "Saved")
}

func (b pages) keepSampleText(c *gin.Context, d *samplePage, text, said string) error {
	if err := b.Save(c, d.Path, func([]byte) ([]byte, error) { return []byte(text), nil }); err != nil {
		return err
	}
	q := url.Values{"as": {d.SchemaID}, "said": {said}}
	c.Redirect(303, "/bench/samples/"+url.PathEscape(d.ID)+"?"+q.Encode())
	return nil
}

// rewritten reads all records of a sample, and writes those that come of them. It is refused where a record cannot be read:
// nothing of it is to be lost.
func (d *samplePage) rewritten(s *schema.Schema, change func(records []value.Value) ([]value.Value, error)) (string, error) {
	if s == nil || !d.Editable {
		return "", fault.New(fault.Setting, "the records of this sample cannot be written here")
	}
	var records []value.Value
	var bad *fault.Fault
	var ignored notation.Ignored
	err := readAs(s, d.ID, d.Draft.Text, notation.Options{Ignored: &ignored}, func(v value.Value, faults fault.List) {
		if faults != nil && bad == nil {
			bad = faults[0]
		}
		records = append(records, v)
	})
	switch lost := ignored.Paths(); {
	case err != nil:
	case bad != nil:
		err = bad
	case len(lost) > 0:
		err = fault.Expect(fault.Unknown, "fields of the schema", fault.Quote(schema.PlainPath(lost[0]))).WithFix("Take it into the schema first: what the schema lacks would be lost")
	case ignored.Blank > 0 && s.Notation.Lines:
		err = fault.Expect(fault.Unknown, "records only", "blank lines, which would be lost").WithFix("Take them out first")
	}
	if err == nil {
		records, err = change(records)
	}
	if err != nil {
		return "", err
	}
	n, err := all.OfFile(d.ID, s)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	w, err := n.NewWriter(&out, notation.Options{Schema: s, Many: len(records) > 1})
	for i := 0; err == nil && i < len(records); i++ {
		err = w.Write(records[i])
	}
	if err == nil {
		err = w.Close()
	}
	return out.String(), err
}

// copyRecord adds a copy of a record behind the last.
func (b pages) copyRecord(c *gin.Context) error {
	_, s, d, err := b.sampleOf(c, c.PostForm("as"))
	if err != nil {
		return err
	}
	text, err := d.rewritten(s, func(records []value.Value) ([]value.Value, error) {
		at, err := strconv.Atoi(c.PostForm("record"))
		if err != nil || at < 1 || at > len(records) {
			return nil, fault.Expect(fault.Range, fmt.Sprintf("a record from 1 to %d", len(records)), fault.Quote(c.PostForm("record"))).InField("Copy record")
		}
		return append(records, records[at-1]), nil
	})
	if err != nil {
		return err
	}
	return b.keepSampleText(c, d, text, "Copied record "+c.PostForm("record")+" to the end")
}

// livenSample replaces values that look made up.
func (b pages) livenSample(c *gin.Context) error {
	_, s, d, err := b.sampleOf(c, c.PostForm("as"))
	if err != nil {
		return err
	}
	all := 0
	text, err := d.rewritten(s, func(records []value.Value) ([]value.Value, error) {
		for i := range records {
			var n int
			records[i], n = sample.Liven(s, records[i], uint64(i))
			all += n
		}
		return records, nil
	})
	if err != nil {
		return err
	}
	if all == 0 {
		text = d.Draft.Text
	}
	said := fmt.Sprintf("%d values were replaced", all)
	if all == 1 {
		said = "1 value was replaced"
	}
	return b.keepSampleText(c, d, text, said)
}
