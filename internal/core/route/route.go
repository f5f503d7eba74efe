// Package route finds what is meant by the method and the path of a request. Paths have parameters in braces; fixed texts go before
// parameters, as the OpenAPI standard says (3.1, section 4.8.8.1).
package route

import (
	"net/url"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
)

// Table finds things of a type by method and path. The zero value is empty; it is not changed while it is used.
type Table[T any] struct{ root branch[T] }

type branch[T any] struct {
	fixed   map[string]*branch[T]
	partly  []partly[T] // segments that are a parameter in part, as {name}.json
	any     *branch[T]  // a segment that is one parameter
	methods map[string]*entry[T]
}

type partly[T any] struct {
	form *regexp.Regexp
	text string // as the path has it
	next *branch[T]
}

type entry[T any] struct {
	target T
	names  []string // of its parameters, in the order of the path
}

// Value is a parameter as it came, without its escapes.
type Value struct{ Name, Text string }

// Add puts a thing at a method and a path. Of two at the same place the first one stays; added says whether this is it.
func (t *Table[T]) Add(method, path string, target T) (added bool) {
	at := &t.root
	for segment := range strings.SplitSeq(strings.TrimPrefix(path, "/"), "/") {
		at = at.down(segment)
	}
	if at.methods == nil {
		at.methods = map[string]*entry[T]{}
	}
	if at.methods[method] != nil {
		return false
	}
	at.methods[method] = &entry[T]{target, Parameters(path)}
	return true
}

var placeholder = regexp.MustCompile(`\{([^{}]+)\}`)

// Parameters are the names in braces of a path, in their order.
func Parameters(path string) (names []string) {
	for {
		open := strings.IndexByte(path, '{')
		if open < 0 {
			return names
		}
		end := strings.IndexAny(path[open+1:], "{}")
		if end < 0 {
			return names
		}
		end += open + 1
		if path[end] == '}' && end > open+1 {
			names = append(names, path[open+1:end])
		}
		if path[end] == '{' {
			end-- // it may begin a name
		}
		path = path[end+1:]
	}
}

// Shape is a path without the names of its parameters: paths of one shape are for the same requests.
func Shape(path string) string { return placeholder.ReplaceAllString(path, "{}") }

// down is the branch behind a segment of a path.
func (b *branch[T]) down(segment string) *branch[T] {
	names := Parameters(segment)
	switch {
	case len(names) == 0:
		if b.fixed == nil {
			b.fixed = map[string]*branch[T]{}
		}
		if b.fixed[segment] == nil {
			b.fixed[segment] = &branch[T]{}
		}
		return b.fixed[segment]
	case len(names) == 1 && segment == "{"+names[0]+"}":
		if b.any == nil {
			b.any = &branch[T]{}
		}
		return b.any
	}
	text := Shape(segment)
	for _, p := range b.partly {
		if p.text == text {
			return p.next
		}
	}
	parts := strings.Split(text, "{}")
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	p := partly[T]{regexp.MustCompile("^" + strings.Join(parts, "(.+?)") + "$"), text, &branch[T]{}}
	b.partly = append(b.partly, p)
	return p.next
}

// maxSegments bounds the segments of a path that is looked for.
const maxSegments = 64

// Find finds what is at a method and a path, which is escaped as it came. Where there is the path and no such method, the methods that
// there are are told; where there is nothing, nothing is. The fault is one of the path.
func (t *Table[T]) Find(method, path string) (target T, values []Value, allowed []string, ft *fault.Fault) {
	segments := strings.Split(strings.TrimPrefix(path, "/"), "/")
	if len(segments) > maxSegments {
		return target, nil, nil, fault.New(fault.Limit, "the path has more than %d segments", maxSegments)
	}
	for i, s := range segments {
		plain, err := url.PathUnescape(s)
		if err != nil {
			return target, nil, nil, fault.New(fault.Syntax, "the path is not well escaped: %s", fault.Quote(s))
		}
		if plain == "." || plain == ".." { // RFC 3986, section 5.2.4: who comes behind might take them away
			return target, nil, nil, fault.New(fault.Syntax, "the path has a segment %s", fault.Quote(plain))
		}
		segments[i] = plain
	}
	var texts []string
	at := t.root.find(segments, method, &texts, &allowed)
	if at == nil {
		slices.Sort(allowed)
		return target, nil, slices.Compact(allowed), nil
	}
	for i, name := range at.names {
		values = append(values, Value{name, texts[i]})
	}
	return at.target, values, nil, nil
}

// find follows the segments; of a path that has not the method the others are noted.
func (b *branch[T]) find(segments []string, method string, values, allowed *[]string) *entry[T] {
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
