package mapping

import (
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/script"
	"hollowreed/internal/core/value"
)

// scriptScope are the names that the script of a field can read; of an empty field those of the script in place of rules.
func (p *Plan) scriptScope(field string) (scope *formula.Scope, names []string, target *schema.Field) {
	scope = p.Scope(field)
	if field == "" {
		for _, s := range p.Mapping.From {
			names = append(names, s.Name.Value)
		}
		return scope, append(names, "run"), p.Target.Root
	}
	for _, f := range p.Fields {
		if f.Name() == field {
			target = f.Field
		}
	}
	return scope, parametersOf(scope), target
}

// ScriptWrong are the pieces of a script that are at fault, as the rule of a field or in place of all rules.
func (p *Plan) ScriptWrong(field, source string) []formula.Span {
	_, names, target := p.scriptScope(field)
	if strings.TrimSpace(source) == "" {
		return nil
	}
	fn, ft := script.New(source, names, target)
	if ft != nil {
		return []formula.Span{spanAt(source, ft)}
	}
	var list []formula.Span
	for _, path := range fn.Reads {
		read, unknown := p.read(path)
		if unknown == "" {
			continue
		}
		if at := regexp.MustCompile(`\b` + regexp.QuoteMeta(unknown) + `\b`).FindStringIndex(source); at != nil {
			from := utf8.RuneCountInString(source[:at[0]])
			list = append(list, formula.Span{From: from, To: from + utf8.RuneCountInString(unknown), Text: noField(read, unknown).What()})
		}
	}
	return list
}

// spanAt is where a fault stands in a script: from its column to the end of the word there.
func spanAt(source string, ft *fault.Fault) formula.Span {
	lines := strings.SplitAfter(source, "\n")
	line := max(0, min(ft.Place.Line-1, len(lines)-1))
	from := 0
	for _, l := range lines[:line] {
		from += utf8.RuneCountInString(l)
	}
	text := []rune(lines[line])
	at := max(0, min(ft.Place.Column-1, len(text)-1))
	to := at + 1
	for to < len(text) && wordRune(text[to]) && wordRune(text[at]) {
		to++
	}
	return formula.Span{From: from + at, To: from + to, Text: ft.What()}
}

func wordRune(r rune) bool {
	return r == '_' || r == '$' || unicode.IsLetter(r) || unicode.IsDigit(r)
}

// pathBefore is a path that ends a text, with the point behind it: order.item[0]?.
var pathBefore = regexp.MustCompile(`([A-Za-z_$][\w$]*(?:\??\.[\w$]+|\[[^\[\]]*\]|\??\.(?:filter|slice|sort|find|at|concat)\([^()]*\))*)\??\.$`)

// ScriptHelp is what could stand at the caret of a script, counted in characters: the names in scope, the fields of what stands before
// a point by its schema, and what lists and texts can do.
func (p *Plan) ScriptHelp(field, source string, caret int) formula.Help {
	scope, names, _ := p.scriptScope(field)
	text := []rune(source)
	caret = max(0, min(caret, len(text)))
	h := formula.Help{From: caret, To: caret}
	for h.From > 0 && wordRune(text[h.From-1]) {
		h.From--
	}
	for h.To < len(text) && wordRune(text[h.To]) {
		h.To++
	}
	before, word := string(text[:h.From]), string(text[h.From:caret])
	known := typesIn(source, scope, names)
	var list []formula.Suggestion
	if m := pathBefore.FindStringSubmatch(before); m != nil {
		t, there := typeOfPath(m[1], known)
		if !there {
			return h
		}
		list = partsOf(t)
	} else {
		if word == "" || strings.HasSuffix(before, ".") || unicode.IsDigit([]rune(word)[0]) {
			return h
		}
		for name, t := range known {
			list = append(list, formula.Suggestion{Insert: name, Label: name, Detail: t.String()})
		}
		slices.SortFunc(list, func(a, b formula.Suggestion) int { return strings.Compare(a.Label, b.Label) })
	}
	for _, g := range list {
		if strings.HasPrefix(strings.ToLower(g.Insert), strings.ToLower(word)) && g.Insert != word && len(h.Suggestions) < 12 {
			h.Suggestions = append(h.Suggestions, g)
		}
	}
	h.Typed = word != "" && h.To == caret && len(h.Suggestions) > 0
	return h
}

// What a script says of its own names: that one is a path, or an item of a list.
var (
	declared = regexp.MustCompile(`\b(?:const|let|var)\s+([\w$]+)\s*=\s*\(?([A-Za-z_$][\w$.?\[\]]*)`)
	forOf    = regexp.MustCompile(`\bfor\s*\(\s*(?:const|let|var)\s+([\w$]+)\s+of\s+\(?([A-Za-z_$][\w$.?\[\]]*)`)
	lambda   = regexp.MustCompile(`([A-Za-z_$][\w$.?\[\]]*)(?:\s*\|\|\s*\[\]\)|\s*\?\?\s*\[\]\))?(?:\??\.(?:filter|slice|sort|concat)\([^()]*\))*\s*\??\.(?:map|filter|forEach|some|every|find|findIndex|flatMap|sort)\(\s*\(?\s*([\w$]+)`)
)

// typesIn are the types of the names that a script can read at all, as far as its text says so.
func typesIn(source string, scope *formula.Scope, names []string) map[string]formula.Type {
	known := map[string]formula.Type{}
	for _, name := range names {
		if _, t, there := scope.Slot(name); there {
			known[name] = t
		}
	}
	for range 3 { // names that stand for what other names stand for
		for _, m := range declared.FindAllStringSubmatch(source, -1) {
			if t, there := typeOfPath(m[2], known); there {
				known[m[1]] = t
			}
		}
		for _, m := range forOf.FindAllStringSubmatch(source, -1) {
			if t, there := typeOfPath(m[2], known); there && t.Item != nil {
				known[m[1]] = *t.Item
			}
		}
		for _, m := range lambda.FindAllStringSubmatch(source, -1) {
			if t, there := typeOfPath(m[1], known); there && t.Item != nil {
				known[m[2]] = *t.Item
			}
		}
	}
	return known
}

var (
	inBrackets = regexp.MustCompile(`\[[^\[\]]*\]`)
	calls      = regexp.MustCompile(`\.(filter|slice|sort|concat|find|at)\([^()]*\)`)
)

// typeOfPath is the type of a path as scripts write it.
func typeOfPath(path string, known map[string]formula.Type) (formula.Type, bool) {
	path = inBrackets.ReplaceAllString(strings.ReplaceAll(path, "?", ""), ".\x00")
	path = calls.ReplaceAllStringFunc(path, func(call string) string {
		if strings.HasPrefix(call, ".find") || strings.HasPrefix(call, ".at") {
			return ".\x00"
		}
		return ""
	})
	steps := strings.Split(path, ".")
	t, there := known[steps[0]]
	for _, name := range steps[1:] {
		switch {
		case !there:
			return t, false
		case name == "\x00" && t.Item != nil:
			t = *t.Item
		case t.Fields == nil || t.Item != nil || t.Kind == value.ListKind:
			return t, false
		default:
			f := t.Fields.Field(name)
			if f == nil {
				return t, false
			}
			t = formula.Of(f)
		}
	}
	return t, there
}

// partsOf is what can stand behind the point of a value.
func partsOf(t formula.Type) (list []formula.Suggestion) {
	switch {
	case t.Kind == value.ListKind:
		return methods("map(i => )", "filter(i => )", "find(i => )", "length", "some(i => )", "every(i => )", "reduce((sum, i) => )", "join()", "slice()", "at()")
	case t.Kind == value.Text:
		return methods("length", "trim()", "toUpperCase()", "toLowerCase()", "slice()", "split()", "replace()", "includes()", "startsWith()", "endsWith()", "padStart()", "indexOf()")
	case t.Kind == value.Integer || t.Kind == value.Decimal:
		return methods("toFixed()", "toString()")
	case t.Kind == value.Date || t.Kind == value.Timestamp:
		return methods("getUTCFullYear()", "getUTCMonth()", "getUTCDate()", "getUTCHours()", "getUTCMinutes()", "toISOString()", "getTime()")
	case t.Fields == nil:
		return nil
	}
	for _, f := range t.Fields.Fields {
		if parameterOK.MatchString(f.Name) {
			list = append(list, formula.Suggestion{Insert: f.Name, Label: f.Name, Detail: formula.Of(f).String()})
		}
	}
	return list
}

func methods(names ...string) (list []formula.Suggestion) {
	for _, name := range names {
		label, _, call := strings.Cut(name, "(")
		list = append(list, formula.Suggestion{Insert: name, Label: label, Detail: map[bool]string{true: "method", false: "property"}[call], Call: call})
	}
	return list
}
