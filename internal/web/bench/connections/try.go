package connections

import (
	"context"
	"errors"
	"fmt"
	"mime"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	stdjson "encoding/json"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/notation/xml"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/value"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

// Bounds on one try of an operation.
const (
	tryTime    = 60 * time.Second
	mostTried  = 200
	mostBytes  = 8 << 20 // of records, beside the first
	keptTrials = 50
	keptBytes  = 64 << 20 // of all tries, beside the newest
)

// trial is what an operation answered when it was tried.
type trial struct {
	ID      string
	Asked   map[string]string
	Records []value.Value
	More    bool // there are more records than were read
	Turns   []running.Turn
	XML     []byte // the answer as it came, where it is XML whose records are those of the document
	Took    time.Duration
	Fault   *fault.Fault
	At      int // the record that is shown
	Record  []page.Row
	bytes   int
}

// trials keeps the newest tries, to step through their records.
type trials struct {
	mu    sync.Mutex
	kept  map[string]*trial
	order []string
	bytes int
}

func (t *trials) keep(one *trial) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.kept == nil {
		t.kept = map[string]*trial{}
	}
	t.kept[one.ID] = one
	t.bytes += one.bytes
	for t.order = append(t.order, one.ID); len(t.order) > keptTrials || t.bytes > keptBytes && len(t.order) > 1; t.order = t.order[1:] {
		t.bytes -= t.kept[t.order[0]].bytes
		delete(t.kept, t.order[0])
	}
}

func (t *trials) get(id string) (trial, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	one := t.kept[id]
	if one == nil {
		return trial{}, false
	}
	return *one, true
}

// tryOperation calls an operation with the values of the form and keeps what was said on both sides.
func (b pages) tryOperation(c *gin.Context) error {
	p, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	t := &trial{ID: uuid.NewString(), Asked: map[string]string{}}
	request, err := asked(c, d.Op, t.Asked)
	if err == nil {
		pool := b.poolOf(d.In)
		t.call(c, pool, system.Request{Op: d.Op, Value: request, Key: "try-" + t.ID})
	} else {
		t.Fault = fault.From(err, fault.Syntax)
	}
	b.trials.keep(t)
	if page.Partial(c) {
		d.Trial = t
		d.Trial.show(0)
		d.ask(p, t.Asked)
		operationView.Part(c, "answer", d)
		return nil
	}
	c.Redirect(303, d.trialAt(t.ID, 0))
	return nil
}

func (d *operationPage) trialAt(id string, record int) string {
	return fmt.Sprintf("/bench/connections/%s/operations/%s/try/%s?env=%s&record=%d", url.PathEscape(d.ID), url.PathEscape(d.Op.ID), id, url.QueryEscape(d.In), record)
}

// At is the address of a record of the try.
func (d *operationPage) At(step int) string { return d.trialAt(d.Trial.ID, d.Trial.At+step) }

// asked reads the request of the form, as JSON against the request's schema.
func asked(c *gin.Context, op *connection.Operation, keep map[string]string) (value.Value, error) {
	if op.Request == nil {
		return value.Value{}, nil
	}
	var members []string
	for _, f := range op.Request.Root.Fields {
		text := strings.TrimSpace(strings.ReplaceAll(c.PostForm("ask "+f.Name), "\r\n", "\n"))
		if keep[f.Name] = text; text == "" {
			continue
		}
		quoted := !f.List() && (f.Kind == value.Text || f.Kind == value.Binary || f.Kind == value.Date || f.Kind == value.Time || f.Kind == value.Timestamp)
		if quoted {
			q, err := stdjson.Marshal(text)
			if err != nil {
				return value.Value{}, err
			}
			text = string(q)
		}
		name, err := stdjson.Marshal(f.Name)
		if err != nil {
			return value.Value{}, err
		}
		members = append(members, string(name)+":"+text)
	}
	rows, err := project.ReadJSON(op.Request, "{"+strings.Join(members, ",\n")+"}")
	if err != nil {
		return value.Value{}, err
	}
	var faults fault.List
	op.Request.Check(rows[0], func(f *fault.Fault) { faults = append(faults, f) })
	if len(faults) > 0 {
		return value.Value{}, faults
	}
	return rows[0], nil
}

// call does the operation and takes the first records of its answer.
func (t *trial) call(ctx context.Context, pool *connector.Pool, r system.Request) {
	ctx, cancel := context.WithTimeout(ctx, tryTime)
	defer cancel()
	ctx, said := system.Listen(ctx, pool.Mask)
	began := time.Now()
	var err error
	if r.Op.Kind.Reads {
		err = t.read(ctx, pool, r)
	} else {
		var v value.Value
		if v, err = pool.Ask(ctx, r); err == nil && v.Kind() != value.Absent {
			t.Records = []value.Value{v}
		}
	}
	t.Took = time.Since(began)
	t.Turns = said.Turns
	if media, _, _ := mime.ParseMediaType(said.Media); strings.HasSuffix(media, "xml") && r.Op.Setting("records") == "" && err == nil {
		t.XML = said.Body
	}
	if err != nil {
		var f *fault.Fault
		if !errors.As(err, &f) {
			f = fault.New(fault.Outside, "the system cannot be reached: %s", err).WithFix("Test the connection to see at which stage")
		}
		t.Fault = f
	}
}

func (t *trial) read(ctx context.Context, pool *connector.Pool, r system.Request) error {
	for v, err := range pool.Read(ctx, r) {
		if err != nil {
			return err
		}
		size := value.Size(v)
		if len(t.Records) == mostTried || len(t.Records) > 0 && t.bytes+size > mostBytes {
			t.More = true
			return nil
		}
		t.Records = append(t.Records, v)
		t.bytes += size
	}
	return nil
}

// Which says which record is shown.
func (t *trial) Which() string { return fmt.Sprintf("%d of %d", t.At+1, len(t.Records)) }

// show puts one record in view.
func (t *trial) show(at int) {
	t.At = max(0, min(at, len(t.Records)-1))
	if len(t.Records) > 0 {
		t.Record = page.Tree("record", t.Records[t.At])[1:]
	}
}

// tried shows a record of a try.
func (b pages) tried(c *gin.Context) error {
	p, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	t, ok := b.trials.get(c.Param("trial"))
	if !ok {
		c.Redirect(303, operationAt(d.ID, d.Op.ID, d.In))
		return nil
	}
	at, err := strconv.Atoi(c.DefaultQuery("record", "0"))
	if err != nil {
		return store.ErrNotFound
	}
	t.show(at)
	d.Trial = &t
	d.ask(p, t.Asked)
	if page.Partial(c) {
		operationView.Part(c, "answer", d)
		return nil
	}
	operationView.Page(c, d)
	return nil
}

// keepAnswer keeps the records of a try as a sample of the response's schema. Where the operation has no such
// schema yet, one is made of them.
func (b pages) keepAnswer(c *gin.Context) error {
	p, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	t, ok := b.trials.get(c.Param("trial"))
	if !ok || len(t.Records) == 0 {
		return fault.New(fault.InputGone, "the answer is not kept any more").WithFix("Try the operation again")
	}
	as, sample := &json.Kind, jsonText(t.Records)
	if t.XML != nil && (d.Op.Response == nil || d.Op.Response.Notation.Elements) {
		as, sample = &xml.Kind, infer.Text(t.XML)
	}
	if part := p.Schema(d.Op.Give.Value); part != nil && part == d.Op.Response {
		if part.Notation != as.Notation && part.Notation.Bytes {
			return fault.New(fault.Setting, "the schema %s is written as %s; the answer is kept as %s only", part.ID, part.Notation, as.Name)
		}
		name, err := b.Designer(c).AddSample(c, part.ID, design.ID(d.Op.ID+" answer")+"."+as.Ending, sample)
		if err != nil {
			return err
		}
		c.Redirect(303, d.trialAt(t.ID, t.At)+"&said="+url.QueryEscape("Kept as the sample "+name))
		return nil
	}
	s, err := shapeOf(d, as, sample)
	if err != nil {
		return err
	}
	if !d.Op.Kind.HasResponse() {
		return b.keepShape(c, p, d, s, []base.Upload{{Name: s.ID + "." + as.Ending, Content: []byte(sample)}})
	}
	if err := b.KeepSchema(c, s, []base.Upload{{Name: s.ID + "." + as.Ending, Content: []byte(sample)}}); err != nil {
		return err
	}
	c.Redirect(303, "/bench/schemas/"+s.ID)
	return nil
}

// shapeOf is the schema of an answer: the operation's own, or one that is made of what was answered.
func shapeOf(d *operationPage, as *notation.Kind, sample string) (*schema.Schema, error) {
	id := design.ID(d.ID + " " + d.Op.ID)
	if d.Op.Response != nil {
		s := *d.Op.Response
		s.ID, s.Title = id, d.Op.Name
		return &s, nil
	}
	r, err := infer.From(id, d.Op.Name, as, infer.Sample{Name: id + "." + as.Ending, Content: []byte(sample)})
	if err != nil {
		return nil, err
	}
	return r.Schema, nil
}

func jsonText(records []value.Value) string {
	var b strings.Builder
	b.WriteString("[\n")
	for i, r := range records {
		if i > 0 {
			b.WriteString(",\n")
		}
		b.WriteString(json.Text(r))
	}
	return b.String() + "\n]\n"
}
