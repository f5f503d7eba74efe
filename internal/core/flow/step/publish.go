package step

import (
	"bytes"
	"context"
	"strings"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var publishKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "publish", Title: "Publish", Group: flow.GroupRun, Lasting: true,
		About: "Puts each record into a channel as a message, in one with what the run records: neither is there without the other.",
		Begin: func(o flow.Offering) partfile.Ordered { return o.Record("from", "") },
		Settings: setting.List{
			{Name: "channel", Label: "Channel", Type: setting.Part, Of: "channel", Required: true, Redraw: true},
			{Name: "from", Label: "Message", Type: setting.Name, Help: "The name of a record that is the message; or write it by fields"},
			{Name: "with", Label: "Message fields", Type: setting.Pairs},
			{Name: "key", Label: "Key", Type: setting.Formula, Help: "Default: as the channel says"},
			{Name: "headers", Label: "Headers", Type: setting.Template, Rare: true, Help: "One a line, as Gate: ${gate}"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return "to " + s.Setting("channel") },
	},
	Compile: compilePublish,
}

func compilePublish(c *compile.Compiler, s *flow.Step) running.Runner {
	at := s.Settings.Text("channel")
	ch := c.Parts.Channel(at.Value)
	if ch == nil {
		if at.Value != "" {
			c.Fault(at, fault.New(fault.Unknown, "there is no channel %s", fault.Quote(at.Value)))
		}
		return running.PassOn
	}
	c.Plan.Publishes = append(c.Plan.Publishes, ch.ID)
	of := ch.Message()
	c.Cur.Columns = of
	filled := c.Fill(s, s.At, of, "the message")
	p := &publishing{s: s, ch: ch, of: of, filled: filled, key: c.Optional(s, "key")}
	list, _ := templateOf(c, s, "headers")
	p.headers = lines(list)
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		for _, it := range items {
			m, f := p.message(it)
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			b.Published = append(b.Published, m)
		}
		return nil
	}
}

// publishing makes messages of items.
type publishing struct {
	s       *flow.Step
	ch      *channel.Channel
	of      *schema.Schema
	filled  *running.Filled
	key     *formula.Program
	headers [][]piece
}

func (p *publishing) message(it *running.Item) (m running.Published, f *fault.Fault) {
	m = running.Published{Item: it, Step: p.s.ID, Channel: p.ch.ID}
	v, f := p.filled.Make(&it.Frame)
	if f != nil {
		return m, f
	}
	if m.Body, m.Media, f = bodyOf(p.ch, p.of, v); f != nil {
		return m, f
	}
	if p.key == nil {
		m.Key, f = p.ch.KeyOf(v)
	} else {
		m.Key, f = p.keyOf(it)
	}
	if f != nil {
		return m, f
	}
	for _, pieces := range p.headers {
		line, f := written(pieces, it)
		if f != nil {
			return m, f
		}
		name, text, is := strings.Cut(line, ":")
		if name = strings.TrimSpace(name); is && headerOK.MatchString(name) && !strings.ContainsFunc(text, notInHeaders) {
			m.Headers = append(m.Headers, running.Pair{Name: strings.ToLower(name), Value: strings.Trim(text, " \t")})
		} else if strings.TrimSpace(line) != "" {
			return m, fault.Expect(fault.Syntax, "a header as Name: value", fault.Quote(line))
		}
	}
	return m, nil
}

func (p *publishing) keyOf(it *running.Item) (string, *fault.Fault) {
	it.Frame.Reset()
	v, f := p.key.Eval(&it.Frame)
	if f != nil || v.IsMissing() {
		return "", f
	}
	return schema.ScalarText(v), nil
}

// bodyOf writes a message in the notation of its channel.
func bodyOf(ch *channel.Channel, of *schema.Schema, v value.Value) (body []byte, media string, f *fault.Fault) {
	if ch.Schema == nil {
		return []byte(v.Field("text").Text()), "text/plain; charset=utf-8", nil
	}
	if f := running.FirstFault(of, v); f != nil {
		return nil, "", f
	}
	var out bytes.Buffer
	w, err := all.Of(of).NewWriter(&out, notation.Options{Schema: of})
	if err == nil {
		err = w.Write(v)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, "", fault.From(err, fault.Setting)
	}
	if out.Len() > ch.MaxBody {
		return nil, "", fault.Expect(fault.Limit, "a message of at most "+plural(ch.MaxBody>>10, "KB"), plural(out.Len()>>10, "KB"))
	}
	return out.Bytes(), all.Of(of).ContentType(), nil
}
