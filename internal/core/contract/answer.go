package contract

import (
	"mime"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
)

// AnswerFor is what the contract says of a status: of that, of its hundred, or of all others; nil where it says nothing.
func (o *Operation) AnswerFor(status int) *Answer {
	text := strconv.Itoa(status)
	for _, want := range []string{text, text[:1] + "XX", "default"} {
		for _, a := range o.Answers {
			if a.Status == want {
				return a
			}
		}
	}
	return nil
}

// CheckAnswer compares an answer with what its operation says. Faults of the body have their place in it.
func (c *Contract) CheckAnswer(o *Operation, s Sent) fault.List {
	a := o.AnswerFor(s.Status)
	if a == nil {
		var known []string
		for _, a := range o.Answers {
			known = append(known, a.Status)
		}
		return fault.List{fault.Expect(fault.Unknown, "a status that the contract has ("+strings.Join(known, ", ")+")", strconv.Itoa(s.Status)).InField("status")}
	}
	faults := c.checkHeaders(a, s)
	if len(s.Body) == 0 || len(a.Media) == 0 {
		return faults
	}
	media, _, err := mime.ParseMediaType(s.Media)
	m := fitting(a.Media, media)
	if err != nil || m == nil {
		var known []string
		for _, m := range a.Media {
			known = append(known, m.Type)
		}
		return append(faults, fault.Expect(fault.Unknown, "a body as "+strings.Join(known, " or "), fault.Quote(s.Media)).InField("header Content-Type"))
	}
	d, err := c.Schema(m.Schema)
	if err != nil || d == nil {
		return faults
	}
	_, found := message(d.Schema, media, s.Body)
	return append(faults, found...)
}

// checkHeaders finds headers that are promised and do not come, and values that are none of theirs.
func (c *Contract) checkHeaders(a *Answer, s Sent) (faults fault.List) {
	for _, h := range a.Headers {
		if strings.EqualFold(h.Name, "Content-Type") {
			continue
		}
		var texts []string
		for _, came := range s.Headers {
			if strings.EqualFold(came[0], h.Name) {
				texts = append(texts, came[1])
			}
		}
		q := Request{Headers: map[string][]string{strings.ToLower(h.Name): texts}}
		p := *h
		p.In = "header"
		_, there, ft := c.parameter(&p, Match{}, q)
		switch {
		case ft != nil:
			faults.Add(ft.InField("header " + h.Name))
		case !there && h.Required:
			faults.Add(fault.Expect(fault.Required, "a value", "none").InField("header " + h.Name))
		}
	}
	return faults
}
