package http

import (
	"context"
	"iter"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// mostPages bounds the pages of one reading: a service that always names a next page would never end.
const mostPages = 100_000

// Read gives the records of all pages, each page asked for when those before it are taken.
func (s *Service) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		var at *url.URL
		if start, err := s.request(r, nil); err != nil {
			yield(value.Value{}, err)
			return
		} else {
			at = started(start.url, r)
		}
		seen := map[string]bool{}
		for page := 1; ; page++ {
			if seen[at.String()] || page > mostPages {
				yield(value.Value{}, fault.New(fault.Limit, "the pages go in a circle: page %d is one that was read before", page).WithFix("Check how the next page is asked for"))
				return
			}
			seen[at.String()] = true
			a, err := s.exchange(ctx, r, at)
			if err != nil || a == nil {
				if err != nil {
					yield(value.Value{}, err)
				}
				return
			}
			n := 0
			for v, err := range a.records(ctx, r.Op) {
				n++
				if !yield(v, err) || err != nil {
					return
				}
			}
			next, err := following(r, a, at, n)
			if err != nil {
				yield(value.Value{}, err)
			}
			if next == nil || err != nil {
				return
			}
			if next.Host != s.base.Host || next.Scheme != s.base.Scheme {
				yield(value.Value{}, fault.Expect(fault.Setting, "a next page at "+s.base.Host, next.Host).WithFix("The service's answer leads to another host, to which the sign-in is not sent"))
				return
			}
			at = next
		}
	}
}

// started is the address of the first page.
func started(u *url.URL, r system.Request) *url.URL {
	switch name := r.Op.Setting("page"); r.Op.Setting("pages") {
	case "page number":
		return with(u, name, r.Op.Setting("first"))
	case "offset":
		return with(u, name, "0")
	}
	return u
}

func with(u *url.URL, name, v string) *url.URL {
	next := *u
	q := next.Query()
	q.Set(name, v)
	next.RawQuery = q.Encode()
	return &next
}

// following is the address of the page behind one with n records; nil where that was the last.
func following(r system.Request, a *answer, at *url.URL, n int) (*url.URL, error) {
	op := r.Op
	switch op.Setting("pages") {
	case "page number", "offset":
		if n == 0 {
			return nil, nil
		}
		name := op.Setting("page")
		now, err := strconv.Atoi(at.Query().Get(name))
		if err != nil {
			return nil, fault.New(fault.Setting, "the parameter %q holds no number", name)
		}
		step := 1
		if op.Setting("pages") == "offset" {
			if step = n; op.Setting("size") != "" {
				step, _ = strconv.Atoi(op.Setting("size"))
				if n < step {
					return nil, nil
				}
			}
		}
		return with(at, name, strconv.Itoa(now+step)), nil
	case "cursor":
		next, err := a.next(op.Setting("next"))
		if next == "" || err != nil {
			return nil, err
		}
		return with(at, op.Setting("page"), next), nil
	case "link header":
		return resolved(at, linked(a.header.Values("Link")))
	case "next field":
		next, err := a.next(op.Setting("next"))
		if err != nil {
			return nil, err
		}
		return resolved(at, next)
	}
	return nil, nil
}

func (a *answer) next(path string) (string, error) {
	doc, err := a.document()
	if err != nil {
		return "", err
	}
	v := Pointer(doc, path)
	if v.IsMissing() {
		return "", nil
	}
	return v.String(), nil
}

func resolved(at *url.URL, next string) (*url.URL, error) {
	if next == "" {
		return nil, nil
	}
	u, err := at.Parse(next)
	if err != nil {
		return nil, fault.Expect(fault.Syntax, "the address of the next page", fault.Quote(next))
	}
	return u, nil
}

var link = regexp.MustCompile(`<([^>]*)>((?:\s*;\s*[^,;=]+(?:=(?:"[^"]*"|[^,;]*))?)*)`)

var relNext = regexp.MustCompile(`(?i);\s*rel\s*=\s*"?([^";]*)"?`)

// linked is the address with the relation next among Link headers (RFC 8288).
func linked(values []string) string {
	for _, v := range values {
		for _, m := range link.FindAllStringSubmatch(v, -1) {
			rel := relNext.FindStringSubmatch(m[2])
			if rel == nil {
				continue
			}
			for _, word := range strings.Fields(rel[1]) {
				if strings.EqualFold(word, "next") {
					return m[1]
				}
			}
		}
	}
	return ""
}
