package main

import (
	"regexp"
	"strings"
	"unicode/utf8"
)

// format gives a template one block element a line. White space goes, comes or becomes a line end only where a browser shows
// none, where there is some already, or where an action beside it trims it away.
func format(in string) string {
	p := &printer{}
	nodes := tree(tokens(in))
	p.body(nodes, 0, true, true, false)
	return strings.TrimLeft(strings.Join(p.lines, "\n"), "\n") + "\n"
}

type printer struct{ lines []string }

// gap is what may stand between two words.
type gap int

const (
	glued   gap = iota // nothing
	trimmed            // a line end, which an action beside it trims away
	spaced             // white space of any kind
)

// word is what is not broken, and what stands before it.
type word struct {
	before gap
	text   string
	inTag  bool // it goes on with the tag of the word before
}

const step = "  "

// body prints nodes, each block on lines of its own. free says of either edge that white space is not shown there; items that
// they stand in a flex or grid container, where it is not shown around any element. It tells whether an edge must be trimmed
// by what stands outside of it.
func (p *printer) body(nodes []node, depth int, freeLeft, freeRight, items bool) (trimLeft, trimRight bool) {
	var run []word
	after := ""                  // how the lines before the run end: "" at the left edge, block, control
	pending := false             // the run begins with white space
	first := len(p.lines)        // of this body
	flush := func(next string) { // next is what comes behind the run: "" at the right edge
		if len(run) == 0 {
			return
		}
		trailing := run[len(run)-1].text == ""
		if trailing {
			run = run[:len(run)-1]
		}
		if len(run) > 0 {
			switch {
			case after == "control" && !pending:
				p.trimEnd()
			case after == "" && !freeLeft && !pending && len(p.lines) == first:
				trimLeft = true
			}
			p.fill(run, depth)
			if !trailing && next == "" && !freeRight {
				trimRight = true
			}
			after = "run"
			if trailing {
				after = "spaced run"
			}
		} else if trailing || pending {
			switch after {
			case "control", "":
				after = "spaced " + after
			case "run":
				after = "spaced run"
			}
		}
		run, pending = nil, false
	}
	for i := range nodes {
		n := &nodes[i]
		switch {
		case n.kind == text && strings.TrimSpace(n.text) == "":
			if depth == 0 && strings.Count(n.text, "\n") > 1 {
				flush("block")
				p.lines = append(p.lines, "")
				continue
			}
			if len(run) == 0 {
				pending = true
			}
			run = append(run, word{before: spaced})
		case p.structural(n) || isTemplate(n) && alone(nodes, i):
			next := "block"
			if n.kind == control || n.kind == value {
				next = "control"
			}
			flush(next)
			if next == "block" {
				p.block(n, depth)
				after = "block"
				continue
			}
			if strings.HasPrefix(n.text, "{{define") || strings.HasPrefix(n.text, "{{- define") { // what is around it is not shown
				after = "block"
			}
			openTrim := false
			switch after {
			case "run", "control":
				openTrim = true
			case "":
				if !freeLeft && !pending && len(p.lines) == first {
					trimLeft = true
				}
			}
			if n.kind == value {
				begin := n.text
				if openTrim {
					begin = trimmedLeft(begin)
				}
				p.fill([]word{{text: begin}}, depth)
			} else {
				p.control(n, depth, openTrim, items)
			}
			pending = false
			if after != "block" || depth > 0 || !strings.Contains(n.text, "define") {
				after = "control"
			}
		case items && (n.kind == open || n.kind == shut || n.kind == whole):
			flush("block")
			p.fill(words(n), depth)
			after = "block"
		default:
			if len(run) == 0 && n.kind == text {
				pending = n.text != strings.TrimLeft(n.text, white)
			}
			run = appendWords(run, words(n))
		}
	}
	flush("")
	if after == "control" && !freeRight && len(p.lines) > first {
		trimRight = true
	}
	return trimLeft, trimRight
}

// structural says whether a node stands on lines of its own: a block, and a control that has blocks or is long.
func (p *printer) structural(n *node) bool {
	switch {
	case n.kind == control:
		return hasBlock(n) || strings.HasPrefix(n.text, "{{define") || strings.HasPrefix(n.text, "{{block") || utf8.RuneCountInString(flat(n)) > wanted
	case n.kind == open || n.kind == shut:
		return blocks[n.name]
	}
	return false
}

// isTemplate says whether a node draws another template.
func isTemplate(n *node) bool { return n.kind == value && strings.HasPrefix(n.text, "{{template ") }

// alone says whether a template that is drawn stands between blocks, controls and others like it.
func alone(nodes []node, at int) bool {
	for _, way := range []int{-1, 1} {
		for i := at + way; i >= 0 && i < len(nodes); i += way {
			n := &nodes[i]
			if n.kind == text && strings.TrimSpace(n.text) == "" {
				continue
			}
			if isTemplate(n) {
				continue
			}
			if !(n.kind == control && hasBlock(n)) && !((n.kind == open || n.kind == shut) && blocks[n.name]) {
				return false
			}
			break
		}
	}
	return true
}

func hasBlock(n *node) bool {
	found := (n.kind == open || n.kind == shut) && blocks[n.name]
	each(n, func(c *node) { found = found || hasBlock(c) })
	return found
}

func each(n *node, use func(*node)) {
	for i := range n.children {
		use(&n.children[i])
	}
	for i := range n.rest {
		for j := range n.rest[i].children {
			use(&n.rest[i].children[j])
		}
	}
}

// flat is a node on one line.
func flat(n *node) string {
	var b strings.Builder
	for _, w := range words(n) {
		if w.before == spaced && b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(w.text)
	}
	return b.String()
}

// block prints a block element.
func (p *printer) block(n *node, depth int) {
	if n.closing.text == "" {
		p.fill(tagWords(n.text), depth)
		return
	}
	inner := false
	each(n, func(c *node) { inner = inner || hasBlock(c) })
	if line := oneLine(n); !inner && utf8.RuneCountInString(line)+depth*len(step) <= wanted {
		p.line(line, depth)
		return
	}
	p.fill(tagWords(n.text), depth)
	p.body(n.children, depth+1, true, true, container(n.text))
	p.line(n.closing.text, depth)
}

// oneLine is an element on one line, without white space at its edges.
func oneLine(n *node) string {
	var inside []word
	for i := range n.children {
		inside = appendWords(inside, words(&n.children[i]))
	}
	for len(inside) > 0 && inside[len(inside)-1].text == "" {
		inside = inside[:len(inside)-1]
	}
	var b strings.Builder
	for _, w := range tagWords(n.text) {
		if w.before == spaced && b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(w.text)
	}
	for i, w := range inside {
		if w.before == spaced && i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(w.text)
	}
	return b.String() + n.closing.text
}

// flexed are the classes whose elements lay their children out as items.
var flexed = regexp.MustCompile(`class="(?:[^"]*[\s}])?(flex|grid|where|ph|seg|field|setting|kindrow|fault|doing|offers|kindpick|board|maprow|mapwork|maptrees)(["\s{]|$)`)

// container says whether a tag opens a flex or grid container.
func container(tag string) bool { return flexed.MatchString(tag) }

// control prints an {{if}}, a {{range}} or their like with each branch indented.
func (p *printer) control(n *node, depth int, trimLeft, items bool) {
	begin := n.text
	if trimLeft {
		begin = trimmedLeft(begin)
	}
	p.line(begin, depth)
	p.branch(n.children, depth, items)
	for _, b := range n.rest {
		p.closeBranch(b.begin.text, depth)
		p.branch(b.children, depth, items)
	}
	p.closeBranch(n.closing.text, depth)
}

// branch prints what is between two actions, and trims their inner sides where white space would be shown.
func (p *printer) branch(nodes []node, depth int, items bool) {
	at := len(p.lines) - 1
	trimLeft, trimRight := p.body(nodes, depth+1, false, false, items)
	if trimLeft {
		p.lines[at] = trimmedRight(p.lines[at])
	}
	if trimRight {
		p.lines = append(p.lines, trimNext)
	}
}

// trimNext stands for the line before an action that trims its left side.
const trimNext = "\x00"

func (p *printer) closeBranch(action string, depth int) {
	if last := len(p.lines) - 1; p.lines[last] == trimNext {
		p.lines = p.lines[:last]
		action = trimmedLeft(action)
	}
	p.line(action, depth)
}

// trimEnd lets the action with which the last line ends trim what follows.
func (p *printer) trimEnd() {
	last := len(p.lines) - 1
	p.lines[last] = trimmedRight(p.lines[last])
}

func trimmedLeft(action string) string {
	if strings.HasPrefix(action, "{{- ") {
		return action
	}
	return "{{- " + strings.TrimLeft(strings.TrimPrefix(action, "{{"), " ")
}

func trimmedRight(line string) string {
	if strings.HasSuffix(line, " -}}") {
		return line
	}
	return strings.TrimRight(strings.TrimSuffix(line, "}}"), " ") + " -}}"
}

func (p *printer) line(text string, depth int) {
	if text != "" {
		text = strings.Repeat(step, depth) + text
	}
	p.lines = append(p.lines, text)
}

// fill prints words on as few lines as there need be; those that go on stand deeper.
func (p *printer) fill(run []word, depth int) {
	indent := strings.Repeat(step, depth)
	line := indent
	for i, w := range run {
		if i == 0 {
			line += w.text
			continue
		}
		sep := ""
		if w.before == spaced {
			sep = " "
		}
		if w.before == glued || fits(line+sep, run[i:]) {
			line += sep + w.text
			continue
		}
		if w.before == trimmed {
			line, w.text = trimSides(line, w.text)
		}
		p.lines = append(p.lines, line)
		line = indent
		if w.inTag {
			line += step
		}
		line += w.text
	}
	p.lines = append(p.lines, line)
}

// trimSides lets one of two actions, or the only one, trim the line end between them.
func trimSides(line, next string) (string, string) {
	if strings.HasPrefix(next, "{{") {
		return line, trimmedLeft(next)
	}
	return trimmedRight(line), next
}

// fits says whether a line has room for what comes up to the next place where it can end.
func fits(line string, run []word) bool {
	n := utf8.RuneCountInString(line)
	for i, w := range run {
		if i > 0 && w.before != glued {
			break
		}
		n += utf8.RuneCountInString(w.text)
	}
	return n <= wanted
}

// appendWords joins words; an empty one at the end of what is there is white space before the next.
func appendWords(run, more []word) []word {
	for _, w := range more {
		if n := len(run); n > 0 && run[n-1].text == "" {
			if w.text == "" {
				continue
			}
			run, w.before = run[:n-1], spaced
		}
		if n := len(run); w.before == glued && n > 0 && !w.inTag && (isAction(run[n-1].text) || isAction(w.text)) {
			w.before = trimmed
		}
		run = append(run, w)
	}
	return run
}

func isAction(s string) bool { return strings.HasPrefix(s, "{{") && !strings.Contains(s, "/*") }

var gaps = regexp.MustCompile(`[ \t\r\n]+`)

// words are those of a node: tags are broken between their attributes, texts at white space. White space at the end is an
// empty word.
func words(n *node) []word {
	switch n.kind {
	case text:
		var out []word
		for i, part := range gaps.Split(n.text, -1) {
			w := word{text: part}
			if i > 0 {
				w.before = spaced
			}
			if part == "" && i == 0 {
				continue
			}
			out = append(out, w)
		}
		return out
	case open:
		out := tagWords(n.text)
		for i := range n.children {
			out = appendWords(out, words(&n.children[i]))
		}
		if n.closing.text != "" {
			out = appendWords(out, []word{{text: n.closing.text}})
		}
		return out
	case control:
		out := []word{{text: n.text}}
		for i := range n.children {
			out = appendWords(out, words(&n.children[i]))
		}
		for _, b := range n.rest {
			out = appendWords(out, []word{{text: b.begin.text}})
			for i := range b.children {
				out = appendWords(out, words(&b.children[i]))
			}
		}
		return appendWords(out, []word{{text: n.closing.text}})
	case whole:
		cut := tag(n.text)
		out := tagWords(n.text[:cut])
		out[len(out)-1].text += n.text[cut:]
		return out
	}
	return []word{{text: n.text}}
}

// tagWords breaks a tag at the white space between its attributes.
func tagWords(tag string) []word {
	var out []word
	var quote byte
	from := 0
	add := func(to int) {
		if part := tag[from:to]; part != "" {
			w := word{text: part}
			if len(out) > 0 {
				w.before, w.inTag = spaced, true
			}
			out = append(out, w)
		}
	}
	for i := 0; i < len(tag); i++ {
		switch c := tag[i]; {
		case strings.HasPrefix(tag[i:], "{{"):
			i += action(tag[i:]) - 1
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote == c:
			quote = 0
		case quote == 0 && (c == ' ' || c == '\n' || c == '\t' || c == '\r'):
			add(i)
			from = i + 1
		}
	}
	add(len(tag))
	return out
}
