package main

import (
	"regexp"
	"slices"
	"strings"
)

// kind is what a token is.
type kind int

const (
	text    kind = iota // with white space at either end
	value               // an action that gives a value, or a comment
	open                // a tag that opens an element
	shut                // a tag that closes one
	control             // {{if}}, {{range}}, {{with}}, {{define}}, {{block}}
	middle              // {{else}}
	end                 // {{end}}
	whole               // an element whose white space is shown: pre, textarea; or a script
)

type token struct {
	kind kind
	text string
	name string // of the element
}

// blocks are the elements around and at the edges of which white space is not shown.
var blocks = set(`html head body title meta link script main header footer nav section article aside div form fieldset legend table thead
	tbody tr td th colgroup col caption p ul ol li dl dt dd h1 h2 h3 h4 details summary hr option optgroup datalist template
`)

// voids are the elements that are not closed.
var voids = set("meta link br hr input img col")

// verbatim are the elements whose content stays as it is.
var verbatim = set("pre textarea script style text")

func set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

var tagName = regexp.MustCompile(`^</?([a-zA-Z][a-zA-Z0-9-]*)`)

var controlled = regexp.MustCompile(`^\{\{-?\s*(if|range|with|define|block|else|end)\b`)

// tokens cuts a template into its tags, actions and texts.
func tokens(in string) []token {
	var list []token
	for in != "" {
		t := next(in)
		list, in = append(list, t), in[len(t.text):]
	}
	return untrimmed(list)
}

// untrimmed takes out the white space that actions trim away, and their marks for it: what is left means the same.
func untrimmed(list []token) []token {
	for i := range list {
		t := &list[i]
		if !strings.HasPrefix(t.text, "{{") || strings.Contains(t.text, "/*") {
			continue
		}
		if inner, ok := strings.CutPrefix(t.text, "{{- "); ok {
			t.text = "{{" + strings.TrimLeft(inner, " ")
			if i > 0 && list[i-1].kind == text {
				list[i-1].text = strings.TrimRight(list[i-1].text, white)
			}
		}
		if inner, ok := strings.CutSuffix(t.text, " -}}"); ok {
			t.text = strings.TrimRight(inner, " ") + "}}"
			if i+1 < len(list) && list[i+1].kind == text {
				list[i+1].text = strings.TrimLeft(list[i+1].text, white)
			}
		}
	}
	return slices.DeleteFunc(list, func(t token) bool { return t.text == "" })
}

const white = " \t\r\n"

func next(in string) token {
	if strings.HasPrefix(in, "{{") {
		t := token{text: in[:action(in)]}
		t.kind = kindOf(t.text)
		return t
	}
	if strings.HasPrefix(in, "<!--") {
		n := strings.Index(in, "-->")
		return token{kind: value, text: in[:n+3]}
	}
	if m := tagName.FindStringSubmatch(in); m != nil {
		t := token{kind: open, text: in[:tag(in)], name: m[1]}
		if in[1] == '/' {
			t.kind = shut
		}
		if t.kind == open && verbatim[t.name] && !strings.HasSuffix(t.text, "/>") {
			closing := "</" + t.name + ">"
			t.kind, t.text = whole, in[:strings.Index(in, closing)+len(closing)]
		}
		return t
	}
	n := 1
	for n < len(in) && !strings.HasPrefix(in[n:], "{{") && !(in[n] == '<' && (tagName.MatchString(in[n:]) || strings.HasPrefix(in[n:], "<!--"))) {
		n++
	}
	return token{kind: text, text: in[:n]}
}

func kindOf(a string) kind {
	m := controlled.FindStringSubmatch(a)
	switch {
	case m == nil:
		return value
	case m[1] == "else":
		return middle
	case m[1] == "end":
		return end
	}
	return control
}

// action is the length of the action with which a text begins.
func action(in string) int {
	if strings.HasPrefix(in, "{{/*") || strings.HasPrefix(in, "{{- /*") {
		return strings.Index(in, "}}") + 2
	}
	var quote byte
	for i := 2; i < len(in); i++ {
		switch c := in[i]; {
		case quote == 0 && strings.HasPrefix(in[i:], "}}"):
			return i + 2
		case quote == 0 && (c == '"' || c == '`' || c == '\''):
			quote = c
		case quote == c:
			quote = 0
		case quote == '"' && c == '\\':
			i++
		}
	}
	panic("an action is not closed: " + in[:min(len(in), 60)])
}

// tag is the length of the tag with which a text begins.
func tag(in string) int {
	var quote byte
	for i := 1; i < len(in); i++ {
		switch c := in[i]; {
		case strings.HasPrefix(in[i:], "{{"):
			i += action(in[i:]) - 1
		case quote == 0 && c == '>':
			return i + 1
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote == c:
			quote = 0
		}
	}
	panic("a tag is not closed: " + in[:min(len(in), 60)])
}

// node is a token, or an element or a control with what is inside.
type node struct {
	token
	closing  token  // of an element or a control; empty for others
	children []node // of an element; of the first branch of a control
	rest     []branch
}

// branch is one {{else}} with what is under it.
type branch struct {
	begin    token
	children []node
}

// tree puts tokens inside of what they stand in. An element whose ends are not in one branch stays two tokens, and so does one
// that is no block and has blocks inside.
func tree(list []token) []node {
	nodes, rest := within(list, "", false)
	if len(rest) > 0 {
		panic("there is more than the template: " + rest[0].text)
	}
	return nodes
}

// within gives the nodes up to the end of an element or a control, and the tokens from that end on.
func within(list []token, element string, controlled bool) (nodes []node, rest []token) {
	for len(list) > 0 {
		t := list[0]
		switch {
		case t.kind == shut && t.name == element:
			return nodes, list
		case (t.kind == end || t.kind == middle) && (controlled || element != ""):
			return nodes, list
		case t.kind == control:
			var n node
			n, list = controlNode(list)
			nodes = append(nodes, n)
			continue
		case t.kind == open && !voids[t.name] && !strings.HasSuffix(t.text, "/>"):
			inner, after := within(list[1:], t.name, false)
			if len(after) == 0 || after[0].kind != shut || after[0].name != t.name {
				break
			}
			n := node{token: t, children: inner, closing: after[0]}
			if list = after[1:]; blocks[t.name] || !hasBlock(&n) {
				nodes = append(nodes, n)
				continue
			}
			nodes = append(append(append(nodes, node{token: t}), inner...), node{token: n.closing}) // blocks have lines of their own
			continue
		}
		nodes, list = append(nodes, node{token: t}), list[1:]
	}
	return nodes, nil
}

func controlNode(list []token) (node, []token) {
	n := node{token: list[0]}
	n.children, list = within(list[1:], "", true)
	for len(list) > 0 && list[0].kind == middle {
		b := branch{begin: list[0]}
		b.children, list = within(list[1:], "", true)
		n.rest = append(n.rest, b)
	}
	if len(list) == 0 {
		panic("a control has no end: " + n.text)
	}
	n.closing = list[0]
	return n, list[1:]
}
