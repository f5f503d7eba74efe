package flow

import (
	"context"
	"regexp"
	"strconv"
	"strings"
	"time"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var noteKind = &Kind{
	Name: "note", Title: "Note", Group: Run, About: "Notes a text with the run.",
	Settings: setting.List{
		{Name: "text", Label: "Text", Type: setting.Formula, Required: true},
		{Name: "where", Label: "Noted in", Type: setting.Choice, Default: "the run", Choices: []string{"the run", "the event log"}, Help: "The event log is seen without opening the run"},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("text") },
	compile: compileNote,
}

func compileNote(c *compiler, s *Step) runner {
	prog := c.want(s.place("text"), value.Text, "a text")
	log := s.Setting("where") == "the event log"
	return func(_ context.Context, b *Batch, items []*Item) error {
		for _, it := range items {
			if text, ok := it.text(s, prog); ok {
				it.Notes = append(it.Notes, it.placed(s.ID, fault.New(fault.Note, "%s", text))...)
				if log {
					b.Events = append(b.Events, Event{Step: s.ID, Record: it.Record, Text: text})
				}
			}
		}
		return nil
	}
}

// text evaluates a formula that must yield a text, which is told or is a key of something kept; the item is set aside where it does not.
func (it *Item) text(s *Step, prog *formula.Program) (string, bool) {
	if prog == nil {
		return "", false
	}
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	if f == nil && (v.Missing() || v.Kind() >= value.RecordKind) {
		f = fault.Expect(fault.Required, "a text", v.Kind().String())
	}
	if f != nil {
		it.aside(s.ID, f.In(s.Name))
		return "", false
	}
	return fault.Shown(v.String()), true
}

var referenceKind = &Kind{
	Name: "reference", Title: "Set the reference", Group: Run, About: "Gives the run a business key by which people find it. Each record can give one of its own.",
	Settings: setting.List{
		{Name: "is", Label: "Reference", Type: setting.Formula, Required: true},
		onFault,
	},
	Detail: func(s *Step) string { return s.Setting("is") },
	compile: func(c *compiler, s *Step) runner {
		prog := c.single(s.place("is"))
		return func(_ context.Context, b *Batch, items []*Item) error {
			for _, it := range items {
				if text, ok := it.text(s, prog); ok {
					b.References = append(b.References, Reference{Record: it.Record, Text: text})
				}
			}
			return nil
		}
	},
}

var stopKind = &Kind{
	Name: "stop", Title: "Stop", Group: Run, About: "Ends the way of a record, or the run, with an outcome.", Ends: true,
	Settings: setting.List{
		{Name: "ends", Label: "Ends", Type: setting.Choice, Default: "this record", Choices: []string{"this record", "the run"}, Help: "The run: the records before this one are done, and it can be resumed"},
		{Name: "outcome", Label: "Outcome", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skipped", "done"}},
		{Name: "text", Label: "Because", Type: setting.Formula, Help: "A text"},
	},
	Detail:  func(s *Step) string { return s.Setting("ends") + ": " + s.Setting("outcome") },
	compile: compileStop,
}

func compileStop(c *compiler, s *Step) runner {
	prog := c.optional(s, "text")
	return func(_ context.Context, b *Batch, items []*Item) error {
		for _, it := range items {
			text := s.Name
			if prog != nil {
				t, ok := it.text(s, prog)
				if !ok {
					continue
				}
				text = t
			}
			f := it.placed(s.ID, fault.New(fault.Stopped, "%s", text))[0]
			if s.Setting("ends") == "the run" {
				b.stop(it.root().Record, f)
				continue
			}
			switch s.Setting("outcome") {
			case "set aside":
				it.aside(s.ID, f)
			case "skipped":
				it.leave(s.ID, text)
			default:
				it.State, it.Step, it.Reason = Ended, s.ID, text
			}
		}
		return nil
	}
}

var answerKind = &Kind{
	Name: "answer", Title: "Answer", Group: Run, About: "Answers who called the flow.",
	Fits: func(o Offering) bool { return o.Plan().Output != nil || o.Plan().Flow.Trigger.Of().Requests },
	Begin: func(o Offering) doc.Out {
		if o.Plan().Output == nil {
			return nil
		}
		return o.Request(o.Plan().Output)
	},
	Settings: setting.List{
		{Name: "from", Label: "With", Type: setting.Name, Help: "The name of a record that is the answer; or write it by fields"},
		{Name: "with", Label: "By fields", Type: setting.Pairs},
		{Name: "schema", Label: "It is a message of", Type: setting.Part, Of: "schema", Rare: true, Redraw: true, Help: "In place of the trigger's, as for another status"},
		{Name: "body", Label: "Body", Type: setting.Choice, Default: "yes", Choices: []string{"yes", NoBody}, Rare: true, Redraw: true, Help: "Of the answer to a request"},
		{Name: "status", Label: "HTTP status", Type: setting.Formula, Rare: true, Help: "Of the answer to a request: 200 where it is empty"},
		{Name: "headers", Label: "HTTP headers", Type: setting.Template, Rare: true, Help: "One a line, as Retry-After: ${seconds}. The content type is that of the answer's schema where none stands here"},
		onFault,
	},
	Detail: func(s *Step) string {
		if s.Setting("from") != "" {
			return "with " + s.Setting("from")
		}
		return "with " + plural(len(s.Match), "field")
	},
	compile: compileAnswer,
}

// NoBody is the setting of an answer whose status says all.
const NoBody = "none"

func compileAnswer(c *compiler, s *Step) runner {
	asked := c.flow.Trigger.Of().Requests
	if c.plan.Output == nil && !asked {
		c.fault(s.At, fault.New(fault.Setting, "nobody waits for an answer").Mended("Let the flow be called by another one, or start with a request, and give its trigger the schema of the answer"))
		return pass
	}
	c.ownAnswer(s, asked)
	var a *filled
	if of := c.plan.answerOf(s); of != nil {
		c.cur.Columns = of
		a = c.filling(s, s.At, of, "the answer")
	}
	r := c.reply(s, asked)
	return func(_ context.Context, b *Batch, items []*Item) error {
		for _, it := range items {
			v, f := value.Value{}, (*fault.Fault)(nil)
			if a != nil {
				v, f = a.make(&it.Frame)
			}
			reply := &Reply{Status: 200, Schema: s.Setting("schema"), Empty: s.Setting("body") == NoBody}
			if f == nil {
				f = r.fill(it, reply)
			}
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				continue
			}
			b.Answer, b.Reply = v, reply
		}
		return nil
	}
}

// ownAnswer checks the schema that an answer has in place of the trigger's.
func (c *compiler) ownAnswer(s *Step, asked bool) {
	own := s.Settings.Text("schema")
	if !asked && (own.Value != "" || s.Setting("body") == NoBody) {
		c.fault(s.At, fault.New(fault.Setting, "no request is answered: the answer has the schema of the trigger"))
		return
	}
	sch := c.contract(own)
	if sch == nil {
		return
	}
	if !sch.Notation.Bytes {
		c.fault(own, fault.Expect(fault.Setting, "a schema with a notation that can be sent", "rows"))
	}
	if c.plan.Answers == nil {
		c.plan.Answers = map[string]*schema.Schema{}
	}
	c.plan.Answers[own.Value] = sch
}

// replying makes the status and the headers of an answer.
type replying struct {
	status  *formula.Program
	headers [][]piece // a line of the template each, so that no value can add another
}

func (c *compiler) reply(s *Step, asked bool) *replying {
	r := &replying{}
	if !asked && (s.Setting("status") != "" || s.Setting("headers") != "") {
		c.fault(s.At, fault.New(fault.Setting, "no request is answered: there is no status and no header"))
		return r
	}
	if s.Setting("status") != "" {
		r.status = c.want(s.place("status"), value.Integer, "a whole number")
	}
	list, _ := c.template(s, "headers")
	r.headers = lines(list)
	return r
}

// lines cuts a template at its line breaks.
func lines(list []piece) (out [][]piece) {
	var line []piece
	for _, p := range list {
		texts := strings.Split(p.text, "\n")
		for _, text := range texts[:len(texts)-1] {
			out, line = append(out, append(line, piece{text: strings.TrimSuffix(text, "\r")})), nil
		}
		line = append(line, piece{texts[len(texts)-1], p.prog})
	}
	return append(out, line)
}

func (r *replying) fill(it *Item, reply *Reply) *fault.Fault {
	if r.status != nil {
		it.Frame.Reset()
		v, f := r.status.Eval(&it.Frame)
		if f != nil {
			return f
		}
		n, ok := v.Int64()
		if !ok || !statusOK(n) {
			return badStatus(v.String())
		}
		reply.Status = int(n)
	}
	for _, pieces := range r.headers {
		line, f := written(pieces, it)
		if f != nil {
			return f
		}
		if line = strings.Trim(line, " \t"); line == "" {
			continue
		}
		name, v, ok := strings.Cut(line, ":")
		if name = strings.TrimSpace(name); !ok || !headerOK.MatchString(name) {
			return fault.Expect(fault.Syntax, "a header as Name: value", fault.Quote(line))
		}
		if strings.ContainsFunc(v, notInHeaders) {
			return fault.Expect(fault.Syntax, "a value without line breaks or control characters for the header "+name, fault.Quote(v)).
				Mended("Take them out, as with replace(…, \"\\n\", \" \")")
		}
		reply.Headers = append(reply.Headers, Pair{name, strings.Trim(v, " \t")})
	}
	return nil
}

// notInHeaders says whether a character cannot stand in the value of a header (RFC 9110, section 5.5).
func notInHeaders(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }

// headerOK is what the name of a header looks like (RFC 9110, section 5.1).
var headerOK = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")

var onceKind = &Kind{
	Name: "once", Title: "Skip duplicates", Group: Way, Lasting: true, About: "Lets a record pass only when its key was not there before, in this run or an earlier one.",
	Settings: setting.List{
		{Name: "key", Label: "Key", Type: setting.Formula, Required: true},
		{Name: "within", Label: "Within (seconds)", Type: setting.Decimal, Help: "After that time a key may come again; empty: never"},
		onFault,
	},
	Detail:  func(s *Step) string { return "by " + s.Setting("key") },
	compile: compileOnce,
}

func compileOnce(c *compiler, s *Step) runner {
	prog := c.single(s.place("key"))
	within := time.Duration(s.number("within") * float64(time.Second))
	return func(ctx context.Context, b *Batch, items []*Item) error {
		var asked []*Item
		var keys []string
		for _, it := range items {
			if key, ok := it.text(s, prog); ok {
				asked, keys = append(asked, it), append(keys, key)
			}
		}
		if len(asked) == 0 {
			return nil
		}
		seen, err := b.Runtime.MarkSeen(ctx, DuplicateCheck{Step: s.ID, Items: asked, Within: within}, keys)
		if err != nil {
			return err
		}
		for i, it := range asked {
			if seen[i] {
				it.leave(s.ID, "repeated: "+keys[i])
			}
		}
		return nil
	}
}

var waitKind = &Kind{
	Name: "wait", Title: "Wait", Group: Run, Lasting: true, About: "Lets the run rest for a time, or until a time; it needs no worker while it does.",
	Begin: func(Offering) doc.Out { return doc.Out{{Key: "seconds", Value: "60"}} },
	Settings: setting.List{
		{Name: "seconds", Label: "Seconds", Type: setting.Formula, Help: "A number, or a formula for one"},
		{Name: "until", Label: "Or until", Type: setting.Formula, Help: "A formula that is a timestamp"},
		onFault,
	},
	Detail: func(s *Step) string {
		if s.Setting("until") != "" {
			return "until " + s.Setting("until")
		}
		return s.Setting("seconds") + " s"
	},
	compile: compileWait,
}

// maxWait bounds how long a run rests.
const maxWait = 366 * 24 * time.Hour

func compileWait(c *compiler, s *Step) runner {
	var prog *formula.Program
	seconds := s.Setting("seconds") != ""
	switch {
	case seconds == (s.Setting("until") != ""):
		c.fault(s.At, fault.Expect(fault.Required, "either seconds or until", map[bool]string{true: "both", false: "neither"}[seconds]))
		return pass
	case seconds:
		prog = c.want(s.place("seconds"), value.Decimal, "a number")
	default:
		prog = c.want(s.place("until"), value.Timestamp, "a timestamp")
	}
	if prog == nil {
		return pass
	}
	return func(ctx context.Context, b *Batch, items []*Item) error {
		var waiting []*Item
		var until []time.Time
		for _, it := range items {
			it.Frame.Reset()
			v, f := prog.Eval(&it.Frame)
			if f == nil && v.Missing() {
				continue // until nothing: no wait
			}
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				continue
			}
			at := b.Runtime.Now()
			if seconds {
				n, _ := strconv.ParseFloat(v.String(), 64)
				at = at.Add(time.Duration(min(max(n, 0), maxWait.Seconds()) * float64(time.Second)))
			} else if at = v.GoTime(); at.Sub(b.Runtime.Now()) > maxWait {
				it.aside(s.ID, fault.Expect(fault.Range, "a time within a year", v.String()).In(s.Name))
				continue
			}
			waiting, until = append(waiting, it), append(until, at)
		}
		if len(waiting) == 0 {
			return nil
		}
		return b.Runtime.Wait(ctx, s.ID, waiting, until)
	}
}

var flowKind = &Kind{
	Name: "flow", Title: "Run a flow", Group: Run, Lasting: true, About: "Runs another flow with each record, as a run of its own: waits for its answer, or only begins it.",
	Targets: true,
	Settings: setting.List{
		{Name: "flow", Label: "Flow", Type: setting.Part, Of: "flow", Required: true, Help: "One that is called by others, or by a person with a form"},
		{Name: "from", Label: "Record to begin with", Type: setting.Name, Help: "The name of a record that is the flow's input; or write it by fields"},
		{Name: "with", Label: "Begin with", Type: setting.Pairs, Help: "Fields of its input and their formulas"},
		{Name: "wait", Label: "Wait for its end", Type: setting.Choice, Default: "yes", Choices: []string{"yes", "no"}, Help: "No: it goes on by itself, and its faults are its own"},
		{Name: "as", Label: "Answer is called", Type: setting.Text, Default: "answer"},
		{Name: "records set aside", Label: "When it sets records aside", Type: setting.Choice, Was: older, Default: "continue", Choices: []string{"continue", "set aside", "stop"}, Rare: true, Help: "The called run has ended, and some of its records wait for somebody there: go on with a note, set aside the record that it was called for, or stop this run"},
		onFault,
	},
	Detail: func(s *Step) string {
		if s.Setting("wait") == "no" {
			return s.Setting("flow") + ", not waiting"
		}
		return s.Setting("flow")
	},
	compile: compileFlowStep,
}

func compileFlowStep(c *compiler, s *Step) runner {
	id := s.Setting("flow")
	if id == "" {
		return pass
	}
	contract := c.parts.Contract(id)
	switch {
	case contract == nil:
		c.fault(s.place("flow"), fault.New(fault.Unknown, "there is no flow %q that can be called", id).Mended("It is to be started by another flow, or by a person"))
		return pass
	case id == c.flow.ID:
		c.fault(s.place("flow"), fault.New(fault.Setting, "the flow would run itself for ever"))
		return pass
	}
	c.cur.Calls = contract
	c.plan.Flows = append(c.plan.Flows, id)
	var a *filled
	if contract.Input != nil {
		a = c.filling(s, s.At, contract.Input, contract.Title)
	}
	wait, slot := s.Setting("wait") == "yes", -1
	if wait && contract.Output != nil {
		slot = c.define(s, "as", contract.Output)
	}
	return func(ctx context.Context, b *Batch, items []*Item) error {
		var asked []*Item
		var inputs []value.Value
		for _, it := range items {
			var v value.Value
			var f *fault.Fault
			if a != nil {
				v, f = a.make(&it.Frame)
			}
			if f != nil {
				it.aside(s.ID, f)
				continue
			}
			asked, inputs = append(asked, it), append(inputs, v)
		}
		if len(asked) == 0 {
			return nil
		}
		done, err := b.Runtime.Start(ctx, FlowCall{Flow: contract, From: c.flow.ID, Step: s.ID, Wait: wait, Items: asked}, inputs)
		if err != nil {
			return err
		}
		for i, it := range asked {
			if done[i].Fault == nil && slot >= 0 {
				it.Frame.Slots[slot] = done[i].Answer
			}
			calledRun(b, s, it, done[i])
		}
		return nil
	}
}

// calledRun deals with what became of a called run: a fault of it sets the record aside that it was called for; records that it
// has set aside do what the step says.
func calledRun(b *Batch, s *Step, it *Item, d Response) {
	if d.Fault != nil {
		f := *d.Fault
		it.aside(s.ID, f.In(s.Name))
		return
	}
	if d.Aside == 0 {
		return
	}
	f := fault.New(fault.Outside, "the called run has set aside %s", plural(d.Aside, "record")).Mended("Open it from this run, and mend them there").In(s.Name)
	switch s.Setting("records set aside") {
	case "set aside":
		it.aside(s.ID, f)
	case "stop":
		it.aside(s.ID, f)
		b.stop(it.root().Record, f)
	default:
		it.Notes = append(it.Notes, it.placed(s.ID, f)...)
	}
}
