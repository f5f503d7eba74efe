package contract

import (
	"net/url"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
)

// Router finds the operation that a request is for. Fixed texts of a path go before parameters, as the standard says (OpenAPI 3.1,
// section 4.8.8.1).
type Router struct{ root branch }

type branch struct {
	fixed   map[string]*branch
	partly  []partly // segments that are a parameter in part, as {name}.json
	any     *branch  // a segment that is one parameter
	methods map[string]*route
}

type partly struct {
	form *regexp.Regexp
	text string // as the path has it
	next *branch
}

type route struct {
	operation *Operation
	names     []string // of its parameters, in the order of the path
}

// Match is the operation that a request is for, with the parameters of its path.
type Match struct {
	Operation *Operation
	Path      []Value
}

// Value is a parameter as it came.
type Value struct{ Name, Text string }

// NewRouter makes a router of the operations of a contract.
func NewRouter(operations []*Operation) *Router {
	r := &Router{}
	for _, o := range operations {
		at := &r.root
		for segment := range strings.SplitSeq(strings.TrimPrefix(o.Path, "/"), "/") {
			at = at.down(segment)
		}
		if at.methods == nil {
			at.methods = map[string]*route{}
		}
		if at.methods[o.Method] == nil { // of two that a request could be for, the first: that is a fault of the contract
			at.methods[o.Method] = &route{o, placeholders(o.Path)}
		}
	}
	return r
}

// down is the branch behind a segment of a path.
func (b *branch) down(segment string) *branch {
	names := placeholders(segment)
	switch {
	case len(names) == 0:
		if b.fixed == nil {
			b.fixed = map[string]*branch{}
		}
		if b.fixed[segment] == nil {
			b.fixed[segment] = &branch{}
		}
		return b.fixed[segment]
	case len(names) == 1 && segment == "{"+names[0]+"}":
		if b.any == nil {
			b.any = &branch{}
		}
		return b.any
	}
	text := shapeOf(segment)
	for _, p := range b.partly {
		if p.text == text {
			return p.next
		}
	}
	parts := strings.Split(text, "{}")
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	p := partly{regexp.MustCompile("^" + strings.Join(parts, "(.+?)") + "$"), text, &branch{}}
	b.partly = append(b.partly, p)
	return p.next
}

// maxSegments bounds the segments of a path that is looked for.
const maxSegments = 64

// Find finds the operation for a method and a path, which is escaped as it came. Where there is a path and no such method, the
// methods that there are are told. The fault is one of the path.
func (r *Router) Find(method, path string) (m Match, allowed []string, ft *fault.Fault) {
	segments := strings.Split(strings.TrimPrefix(path, "/"), "/")
	if len(segments) > maxSegments {
		return m, nil, fault.New(fault.Limit, "the path has more than %d segments", maxSegments)
	}
	for i, s := range segments {
		plain, err := url.PathUnescape(s)
		if err != nil {
			return m, nil, fault.New(fault.Syntax, "the path is not well escaped: %s", fault.Quote(s))
		}
		segments[i] = plain
	}
	var values []string
	at := r.root.find(segments, method, &values, &allowed)
	if at == nil {
		slices.Sort(allowed)
		return m, slices.Compact(allowed), nil
	}
	m.Operation = at.operation
	for i, name := range at.names {
		m.Path = append(m.Path, Value{name, values[i]})
	}
	return m, nil, nil
}

// find follows the segments; of a path that has not the method the others are noted.
func (b *branch) find(segments []string, method string, values, allowed *[]string) *route {
	if len(segments) == 0 {
		if at := b.methods[method]; at != nil {
			return at
		}
		for other := range b.methods {
			*allowed = append(*allowed, other)
		}
		return nil
	}
	first, rest := segments[0], segments[1:]
	if next := b.fixed[first]; next != nil {
		if at := next.find(rest, method, values, allowed); at != nil {
			return at
		}
	}
	n := len(*values)
	for _, p := range b.partly {
		if m := p.form.FindStringSubmatch(first); m != nil {
			*values = append((*values)[:n], m[1:]...)
			if at := p.next.find(rest, method, values, allowed); at != nil {
				return at
			}
		}
	}
	if b.any != nil && first != "" {
		*values = append((*values)[:n], first)
		if at := b.any.find(rest, method, values, allowed); at != nil {
			return at
		}
	}
	*values = (*values)[:n]
	return nil
}
