package connector

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"sync"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
)

// Tables gives a connection in which rows can be looked up and upserted.
func (p *Pool) Tables(ctx context.Context, id string) (system.Tables, error) {
	db, _, err := as[system.Tables](ctx, p, id, "look up rows")
	return db, err
}

// Folder gives a connection that has files.
func (p *Pool) Folder(ctx context.Context, id string) (system.Folder, error) {
	f, _, err := as[system.Folder](ctx, p, id, "watch files")
	return f, err
}

// FetchMails brings the mails that wait in a mailbox, and takes those out of the way that take has taken.
func (p *Pool) FetchMails(ctx context.Context, id, from, subject string, take func(system.Mail) error) error {
	box, e, err := as[system.Mailbox](ctx, p, id, "bring mail")
	if err != nil {
		return err
	}
	return p.guarded(e, id, func() error { return box.FetchMails(ctx, from, subject, take) })
}

// Lookup finds rows.
func (p *Pool) Lookup(ctx context.Context, l running.Lookup, keys [][]value.Value) (rows []value.Value, err error) {
	db, e, err := as[system.Tables](ctx, p, l.Connection, "look up rows")
	if err != nil {
		return nil, err
	}
	err = p.guarded(e, l.Connection, func() error {
		rows, err = db.Lookup(ctx, l, keys)
		return err
	})
	return rows, err
}

// Upsert writes rows.
func (p *Pool) Upsert(ctx context.Context, u running.Upsert, rows []value.Value) (done []running.WriteResult, err error) {
	db, e, err := as[system.Tables](ctx, p, u.Connection, "upsert rows")
	if err != nil {
		return nil, err
	}
	err = p.guarded(e, u.Connection, func() error {
		done, err = db.Upsert(ctx, u, rows)
		return err
	})
	return done, err
}

// CheckUpsert holds an upsert against its table, and writes nothing.
func (p *Pool) CheckUpsert(ctx context.Context, u running.Upsert) (faults fault.List, err error) {
	db, e, err := as[system.Tables](ctx, p, u.Connection, "upsert rows")
	if err != nil {
		return nil, err
	}
	err = p.guarded(e, u.Connection, func() error {
		faults, err = db.CheckUpsert(ctx, u)
		return err
	})
	return faults, err
}

// Ask does one operation. A fault about the request is told as an error, too.
func (p *Pool) Ask(ctx context.Context, r system.Request) (answer value.Value, err error) {
	c, e, err := as[system.Caller](ctx, p, r.Op.Connection, "do "+r.Op.Name)
	if err != nil {
		return answer, err
	}
	err = p.guarded(e, r.Op.Connection, func() error {
		answer, err = c.Call(ctx, r)
		return err
	})
	return answer, err
}

// Call does an operation for each request: all at once where the system can, otherwise one after another, or some beside each other where they change nothing.
func (p *Pool) Call(ctx context.Context, c running.Call, requests []value.Value) ([]running.Response, error) {
	list := make([]system.Request, len(requests))
	for i, v := range requests {
		list[i] = system.Request{Op: c.Op, Value: v, Key: keyOf(c, i)}
	}
	if c.Rows != "" {
		return p.beside(ctx, list, func(ctx context.Context, r system.Request) (value.Value, error) { return p.rows(ctx, r, c.Rows) })
	}
	if done, ok, err := p.callAll(ctx, c, list); ok || err != nil {
		return done, err
	}
	if !c.Op.Changes() {
		return p.beside(ctx, list, p.Ask)
	}
	done := make([]running.Response, len(list))
	for i, r := range list {
		answer, err := p.heard(ctx, r, p.Ask)
		if err != nil {
			return nil, err
		}
		done[i] = answer
		if c.Done != nil {
			if err := c.Done(i, done[i:i+1]); err != nil {
				return nil, err
			}
		}
	}
	return done, nil
}

// atOnce is how many requests of a batch that change nothing are asked beside each other.
const atOnce = 4

// beside asks for what changes nothing, a few at a time; the answers stand in the order of the requests.
func (p *Pool) beside(ctx context.Context, list []system.Request, ask asking) ([]running.Response, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	done := make([]running.Response, len(list))
	free := make(chan struct{}, atOnce)
	var wg sync.WaitGroup
	for i, r := range list {
		free <- struct{}{}
		if ctx.Err() != nil {
			break
		}
		wg.Go(func() {
			defer func() { <-free }()
			var err error
			if done[i], err = p.heard(ctx, r, ask); err != nil {
				cancel(err)
			}
		})
	}
	wg.Wait()
	return done, context.Cause(ctx)
}

// asking asks for one thing.
type asking func(ctx context.Context, r system.Request) (value.Value, error)

// heard asks once and keeps what was said. A fault of a setting is about every request; any other one is about this one.
func (p *Pool) heard(ctx context.Context, r system.Request, ask asking) (running.Response, error) {
	ctx, said := system.ListenBriefly(ctx, p.Mask)
	ctx, passed := system.CountPassed(ctx)
	answer, err := ask(ctx, r)
	var f *fault.Fault
	if errors.As(err, &f) && f.Code != fault.Setting {
		return running.Response{Fault: f, Turns: said.Turns}, nil
	}
	return running.Response{Answer: answer, Turns: said.Turns, Ignored: passed.Fields()}, err
}

// Preview is what would be sent for a request of a call, with secrets masked; nil where the system cannot tell.
func (p *Pool) Preview(ctx context.Context, c running.Call, request value.Value) (*running.Turn, error) {
	r := system.Request{Op: c.Op, Value: request, Key: keyOf(c, 0)}
	s, err := p.System(ctx, r.Op.Connection)
	if err != nil {
		return nil, err
	}
	previewer, can := s.(system.Previewer)
	if !can {
		return nil, nil
	}
	turn, err := previewer.Preview(ctx, r)
	if err != nil {
		return nil, p.Redact(err)
	}
	turn.Sent, turn.Head, turn.Text = true, p.Mask(turn.Head), p.Mask(turn.Text)
	return &turn, nil
}

// rows reads the records of one answer that are wanted.
func (p *Pool) rows(ctx context.Context, r system.Request, wanted running.Rows) (value.Value, error) {
	var list []value.Value
	for v, err := range p.Read(ctx, r) {
		if err != nil {
			return value.Value{}, err
		}
		list = append(list, v)
		switch {
		case wanted == running.FirstRow:
			return v, nil
		case wanted == running.OneRow && len(list) > 1:
			return value.Value{}, fault.Expect(fault.Range, "one record of "+r.Op.Name, "several").WithFix("Choose the first record, or all as a list")
		case len(list) > running.MaxRows:
			return value.Value{}, fault.New(fault.Limit, "%s answers with more than %d records", r.Op.Name, running.MaxRows).WithFix("Read them as the records of a flow")
		}
	}
	switch {
	case wanted == running.AllRows:
		return value.ListOf(list...), nil
	case len(list) == 0:
		return value.Value{}, nil
	}
	return list[0], nil
}

// keyOf is the same for each try of a record.
func keyOf(c running.Call, i int) string {
	if i >= len(c.Items) {
		return ""
	}
	it := c.Items[i]
	key := fmt.Sprintf("%s-%s-%d", it.Frame.Slots[running.RunSlot].Field("id"), c.Step, it.Record)
	if it.Path != "" {
		key += "." + it.Path
	}
	return key
}

func (p *Pool) callAll(ctx context.Context, c running.Call, list []system.Request) (answers []running.Response, ok bool, err error) {
	b, e, err := as[system.Caller](ctx, p, c.Op.Connection, "do "+c.Op.Name)
	if err != nil {
		return nil, false, err
	}
	batcher, ok := b.(system.Batcher)
	if !ok || !c.Op.Changes() {
		return nil, false, nil
	}
	var done []system.Result
	err = p.guarded(e, c.Op.Connection, func() error {
		done, ok, err = batcher.CallAll(ctx, list)
		return err
	})
	if err != nil || !ok {
		return nil, ok, err
	}
	for _, d := range done {
		answers = append(answers, running.Response{Answer: d.Answer, Fault: d.Fault})
	}
	if c.Done != nil {
		err = c.Done(0, answers)
	}
	return answers, true, err
}

// Read gives the records that an operation answers, as they are wanted.
func (p *Pool) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		reader, e, err := as[system.Reader](ctx, p, r.Op.Connection, "read "+r.Op.Name)
		if err == nil {
			err = e.breaker.before(r.Op.Connection)
		}
		if err != nil {
			yield(value.Value{}, err)
			return
		}
		for v, err := range reader.Read(ctx, r) {
			if err != nil {
				e.breaker.after(err)
				yield(v, p.Redact(err))
				return
			}
			if !yield(v, nil) {
				return
			}
		}
		e.breaker.after(nil)
	}
}

// Secret opens a secret of the environment for a step that needs a key; it is masked like those of connections.
func (p *Pool) Secret(ctx context.Context, name string) (string, error) {
	text, err := p.source.Get(ctx, name)
	if text != "" {
		p.mask.Add(text)
	}
	return text, err
}

// Forward hands a request on to a connection's system, unless its breaker is open. It is answered in any case.
func (p *Pool) Forward(w http.ResponseWriter, r *http.Request, id string, f system.Forwarding) {
	failed := f.Failed
	f.Failed = func(w http.ResponseWriter, err error) { failed(w, p.Redact(err)) }
	s, e, err := as[system.Forwarder](r.Context(), p, id, "be passed through to")
	if err != nil {
		f.Failed(w, err)
		return
	}
	asked := false
	err = p.guarded(e, id, func() error {
		asked = true
		return s.Forward(w, r, f)
	})
	if !asked {
		f.Failed(w, err)
	}
}
