package step

import (
	"context"
	"regexp"
	"strconv"
	"strings"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var respondKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "respond", Older: []string{"answer"}, Title: "Respond", Group: flow.GroupRun, About: "Responds to the caller of the flow.",
		Fits: func(o flow.Offering) bool { return o.Output() != nil || o.Asked() },
		Begin: func(o flow.Offering) partfile.Ordered {
			if o.Output() == nil {
				return nil
			}
			return o.Request(o.Output())
		},
		Settings: setting.List{
			{Name: "from", Label: "Response", Type: setting.Name, Help: "The name of a record that is the answer; or write it by fields"},
			{Name: "with", Label: "By fields", Type: setting.Pairs},
			{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Rare: true, Redraw: true, Help: "In place of the trigger's, as for another status"},
			{Name: "body", Label: "Body", Type: setting.Choice, Default: "yes", Choices: []string{"yes", running.NoBody}, Rare: true, Redraw: true, Help: "Of the answer to a request"},
			{Name: "status", Label: "HTTP status", Type: setting.Formula, Rare: true, Help: "Of the answer to a request: 200 where it is empty"},
			{Name: "headers", Label: "HTTP headers", Type: setting.Template, Rare: true, Help: "One a line, as Retry-After: ${seconds}. The content type is that of the answer's schema where none stands here"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			if s.Setting("from") != "" {
				return "with " + s.Setting("from")
			}
			return "with " + plural(len(s.Match), "field")
		},
	},
	Compile: compileRespond,
	Ending:  func(*compile.Compiler, *flow.Step) compile.Ending { return compile.Ending{Some: true, All: true} },
}

func compileRespond(c *compile.Compiler, s *flow.Step) running.Runner {
	asked := c.Flow.Trigger.Of().Requests
	if c.Plan.Output == nil && !asked {
		c.Fault(s.At, fault.New(fault.Setting, "nobody waits for an answer").WithFix("Let the flow be called by another one, or start with a request, and give its trigger the schema of the answer"))
		return running.PassOn
	}
	ownAnswer(c, s, asked)
	promised := promisedAnswer(c, s)
	var a *running.Filled
	if of := c.Plan.AnswerOf(s); of != nil {
		c.Cur.Columns = of
		a = c.Fill(s, s.At, of, "the answer")
	}
	r := replyOf(c, s, asked)
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		for _, it := range items {
			v, f := value.Value{}, (*fault.Fault)(nil)
			if a != nil {
				v, f = a.Make(&it.Frame)
			}
			reply := &running.Reply{Status: 200, Schema: s.Setting("schema"), Empty: s.Setting("body") == running.NoBody}
			if promised != nil {
				promised(reply)
			}
			if f == nil {
				f = r.fill(it, reply)
			}
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			b.Answer, b.Reply = v, reply
		}
		return nil
	}
}

// promisedAnswer checks an answer against the contract that the flow answers, and gives what makes a reply one of it; nil where the
// flow answers no contract, or where the status is computed.
func promisedAnswer(c *compile.Compiler, s *flow.Step) func(*running.Reply) {
	status := s.Settings.Text("status")
	if c.Plan.Bound == nil || s.Setting("schema") != "" {
		return nil
	}
	a := c.Plan.Promised(s)
	if a == nil {
		if _, err := strconv.Atoi(status.Value); err == nil {
			c.Fault(status, fault.Expect(fault.Setting, "a status that the contract has ("+statuses(c.Plan.Bound.Operation)+")", status.Value).InField("status"))
		}
		return nil
	}
	first, _ := strconv.Atoi(a.Status)
	key := running.AnswerKey(a)
	empty := c.Plan.Answers[key] == nil
	return func(r *running.Reply) {
		if r.Schema, r.Empty = key, r.Empty || empty; first > 0 {
			r.Status = first
		}
	}
}

// statuses are those of a contract's answers.
func statuses(o *contract.Operation) string {
	list := make([]string, len(o.Answers))
	for i, a := range o.Answers {
		list[i] = a.Status
	}
	return strings.Join(list, ", ")
}

// ownAnswer checks the schema that an answer has in place of the trigger's.
func ownAnswer(c *compile.Compiler, s *flow.Step, asked bool) {
	own := s.Settings.Text("schema")
	if !asked && (own.Value != "" || s.Setting("body") == running.NoBody) {
		c.Fault(s.At, fault.New(fault.Setting, "no request is answered: the answer has the schema of the trigger"))
		return
	}
	sch := c.Contract(own)
	if sch == nil {
		return
	}
	if !sch.Notation.Bytes {
		c.Fault(own, fault.Expect(fault.Setting, "a schema with a notation that can be sent", "rows"))
	}
	if c.Plan.Answers == nil {
		c.Plan.Answers = map[string]*schema.Schema{}
	}
	c.Plan.Answers[own.Value] = sch
}

// replying makes the status and the headers of an answer.
type replying struct {
	status  *formula.Program
	headers [][]piece // a line of the template each, so that no value can add another
}

func replyOf(c *compile.Compiler, s *flow.Step, asked bool) *replying {
	r := &replying{}
	if !asked && (s.Setting("status") != "" || s.Setting("headers") != "") {
		c.Fault(s.At, fault.New(fault.Setting, "no request is answered: there is no status and no header"))
		return r
	}
	if s.Setting("status") != "" {
		r.status = c.Want(s.Place("status"), value.Integer, "a whole number")
	}
	list, _ := templateOf(c, s, "headers")
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

func (r *replying) fill(it *running.Item, reply *running.Reply) *fault.Fault {
	if r.status != nil {
		it.Frame.Reset()
		v, f := r.status.Eval(&it.Frame)
		if f != nil {
			return f
		}
		n, ok := v.Int64()
		if !ok || !running.StatusOK(n) {
			return running.BadStatus(v.String())
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
				WithFix("Take them out, as with replace(…, \"\\n\", \" \")")
		}
		reply.Headers = append(reply.Headers, running.Pair{Name: name, Value: strings.Trim(v, " \t")})
	}
	return nil
}

// notInHeaders says whether a character cannot stand in the value of a header (RFC 9110, section 5.5).
func notInHeaders(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }

// headerOK is what the name of a header looks like (RFC 9110, section 5.1).
var headerOK = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")
