package formula

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"hollowreed/internal/core/match"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Suggestion is what could stand at the caret of a formula.
type Suggestion struct {
	Insert string // the text that takes the place of the word at the caret
	Label  string
	Detail string // the type of a field, or what a function does
	Call   bool   // a function: the caret goes between its parentheses
}

// Help is what is known of a formula at its caret.
type Help struct {
	From, To    int // the word that a suggestion takes the place of, in characters from 0
	Suggestions []Suggestion
	Typed       bool      // a part of the first suggestion stands before the caret: it may be taken without being chosen
	Function    *Function // around the caret; nil when there is none
	Sign        *Sign     // the operator right before the caret, or at it; nil when there is none
	Argument    int       // which of its arguments the caret is in, from 0
}

// mostSuggested bounds how many suggestions are given.
const mostSuggested = 12

// Complete helps at a caret in a formula, counted in characters from 0: with the fields and functions
// whose names go with the word there, those that begin with it first, and with the function whose
// arguments the caret is in. There are no suggestions inside of quotes, behind a word that is complete, and where no
// name can stand.
func Complete(source string, caret int, scope *Scope) Help {
	text := []rune(source)
	caret = max(0, min(caret, len(text)))
	h := Help{From: caret, To: caret}
	quoted := h.around(text[:caret], scope)
	if quoted {
		return h
	}
	for h.From > 0 && wordRune(text[h.From-1]) {
		h.From--
	}
	for h.To < len(text) && wordRune(text[h.To]) {
		h.To++
	}
	word := string(text[h.From:caret])
	path, ok := chain(text[:h.From])
	h.Sign = signBefore(text[:h.From], string(text[h.From:h.To]))
	switch {
	case ok && path == nil && word != "" && !unicode.IsDigit([]rune(word)[0]) && !nameCanStand(text[:h.From], ""):
		h.Suggestions = operators
	case !ok, path == nil && !nameCanStand(text[:h.From], word):
		return h
	case path == nil:
		h.Suggestions = scope.suggested()
	case len(path) == 1 && scope.env.Libraries[path[0]] != nil:
		h.Suggestions = scope.env.Libraries[path[0]].suggested()
	default:
		t, found := scope.typeOf(path)
		if !found || t.Fields == nil || t.is(value.MapKind) {
			return h
		}
		h.Suggestions = fieldsOf(t.Fields)
	}
	ends := h.To == caret
	if ends && slices.ContainsFunc(h.Suggestions, func(g Suggestion) bool { return g.Insert == word }) {
		h.Suggestions = nil
		return h
	}
	h.Suggestions = fitting(h.Suggestions, word)
	h.Typed = ends && word != "" && len(h.Suggestions) > 0 && strings.HasPrefix(strings.ToLower(h.Suggestions[0].Insert), strings.ToLower(word))
	return h
}

// operators are the words that can follow what is complete.
var operators = func() (list []Suggestion) {
	for _, word := range []string{"and", "or", "in", "not in", "contains", "startsWith", "endsWith", "matches"} {
		sign := signs[strings.TrimPrefix(word, "not ")]
		list = append(list, Suggestion{Insert: word + " ", Label: word, Detail: sign.About})
	}
	return list
}()

// beginnings are the words that are no names and can begin a value.
var beginnings = []Suggestion{
	{Insert: "not ", Label: "not", Detail: "The opposite of a truth value", Call: true},
	{Insert: "true", Label: "true", Detail: "a truth value", Call: true},
	{Insert: "false", Label: "false", Detail: "a truth value", Call: true},
	{Insert: "nil", Label: "nil", Detail: "null: no value", Call: true},
	{Insert: "let ", Label: "let", Detail: "Names a value that is used in what follows: let name = a; b", Call: true},
}

// signs are those of the language by their operators and words.
var signs = func() map[string]*Sign {
	byWord := map[string]*Sign{}
	for i := range Signs {
		for _, word := range strings.FieldsFunc(Signs[i].Form, func(r rune) bool { return r == ' ' || r == ',' }) {
			if _, there := byWord[word]; !there && !slices.Contains([]string{"a", "b", "list", "pattern", "condition", "name", "="}, word) {
				byWord[word] = &Signs[i]
			}
		}
	}
	byWord["&&"], byWord["||"], byWord["!"] = byWord["and"], byWord["and"], byWord["not"]
	return byWord
}()

// signBefore is the operator that a word is, or that ends a text before it.
func signBefore(before []rune, word string) *Sign {
	if sign := signs[word]; sign != nil && word != "true" && word != "false" {
		return sign
	}
	end := len(before)
	for end > 0 && unicode.IsSpace(before[end-1]) {
		end--
	}
	from := end
	for from > 0 && (wordRune(before[from-1]) == wordRune(before[end-1])) && !unicode.IsSpace(before[from-1]) {
		from--
	}
	if from == end {
		return nil
	}
	return signs[string(before[from:end])]
}

// nameCanStand says whether a word behind a text can be a name: not a number, and not behind what is complete already,
// where an operator must follow.
func nameCanStand(before []rune, word string) bool {
	if word != "" {
		return !unicode.IsDigit([]rune(word)[0])
	}
	end := len(before)
	for end > 0 && unicode.IsSpace(before[end-1]) {
		end--
	}
	if end == 0 {
		return true
	}
	from := end
	for from > 0 && wordRune(before[from-1]) {
		from--
	}
	if last := string(before[from:end]); last != "" {
		return signs[last] != nil && last != "true" && last != "false" && last != "nil" // behind an operator that is a word
	}
	return !strings.ContainsRune(")]}\"'`", before[end-1])
}

func wordRune(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

// around finds the function whose arguments the end of a text is in. It is true inside of quotes.
func (h *Help) around(text []rune, scope *Scope) (quoted bool) {
	type open struct {
		name string
		args int
	}
	var stack []open
	var quote rune
	for i := 0; i < len(text); i++ {
		r := text[i]
		switch {
		case quote != 0 && r == '\\':
			i++
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '"' || r == '\'' || r == '`':
			quote = r
		case r == '(' || r == '[' || r == '{':
			from := i
			for from > 0 && (wordRune(text[from-1]) || text[from-1] == '.') {
				from--
			}
			stack = append(stack, open{name: string(text[from:i])})
		case (r == ')' || r == ']' || r == '}') && len(stack) > 0:
			stack = stack[:len(stack)-1]
		case r == ',' && len(stack) > 0:
			stack[len(stack)-1].args++
		}
	}
	for i := len(stack) - 1; i >= 0 && h.Function == nil; i-- {
		if h.Function = scope.function(stack[i].name); h.Function != nil {
			h.Argument = stack[i].args
		}
	}
	return quote != 0
}

// chain is the path of names before a word: for customer.na the path customer. It is nil where the word
// stands by itself; ok is false where what stands before it is no path.
func chain(text []rune) (path []string, ok bool) {
	i := len(text)
	for i > 0 && text[i-1] == '.' {
		i--
		if i > 0 && text[i-1] == '?' {
			i--
		}
		end := i
		for i > 0 && wordRune(text[i-1]) {
			i--
		}
		if i == end {
			return nil, false // as behind a list's item, or a call
		}
		path = append([]string{string(text[i:end])}, path...)
	}
	return path, true
}

// typeOf is the type of a path of names.
func (s *Scope) typeOf(path []string) (Type, bool) {
	b, field, ok := s.find(path[0])
	if !ok {
		return Type{}, false
	}
	t := b.typ
	if field != nil {
		t = Of(field)
	}
	for _, name := range path[1:] {
		if t.Fields == nil {
			return Type{}, false
		}
		if t.is(value.MapKind) {
			t = *t.Item
			continue
		}
		f := t.Fields.Field(name)
		if f == nil {
			return Type{}, false
		}
		t = Of(f)
	}
	return t, true
}

func fieldsOf(record *schema.Field) []Suggestion {
	var out []Suggestion
	for _, f := range record.Fields {
		if Name(f.Name) {
			out = append(out, Suggestion{Insert: f.Name, Label: f.Name, Detail: Of(f).String()})
		}
	}
	return out
}

// suggested are all names that can begin a path, and all functions.
func (s *Scope) suggested() []Suggestion {
	seen := map[string]bool{}
	var out []Suggestion
	add := func(list ...Suggestion) {
		for _, g := range list {
			if !seen[g.Label] {
				seen[g.Label] = true
				out = append(out, g)
			}
		}
	}
	for _, b := range s.opened {
		add(fieldsOf(b.typ.Fields)...)
	}
	for i := len(s.order) - 1; i >= 0; i-- {
		add(Suggestion{Insert: s.order[i], Label: s.order[i], Detail: s.names[s.order[i]].typ.String()})
	}
	add(s.env.suggested()...)
	add(beginnings...)
	for i := range Catalogue {
		fn := &Catalogue[i]
		add(Suggestion{Insert: fn.Name + "()", Label: fn.Signature(), Detail: fn.About, Call: true})
	}
	return out
}

// suggested are the tables and the libraries.
func (e *Env) suggested() []Suggestion {
	var out []Suggestion
	for _, id := range slices.Sorted(maps.Keys(e.Tables)) {
		out = append(out, Suggestion{Insert: "lookup(" + strconv.Quote(id) + ", )", Label: "lookup(" + strconv.Quote(id) + ")", Detail: e.Tables[id].Title, Call: true})
	}
	for _, id := range slices.Sorted(maps.Keys(e.Libraries)) {
		out = append(out, Suggestion{Insert: id + ".", Label: id + ".", Detail: "library", Call: true})
	}
	return out
}

func (l *Library) suggested() []Suggestion {
	var out []Suggestion
	for _, f := range l.Functions {
		out = append(out, Suggestion{Insert: f.Name + "()", Label: f.Signature(), Detail: f.About})
	}
	return out
}

// function finds a function of the catalogue, or of a library as library.name.
func (s *Scope) function(name string) *Function {
	id, of, inLibrary := strings.Cut(name, ".")
	if !inLibrary {
		return functions[name]
	}
	lib := s.env.Libraries[id]
	if lib == nil {
		return nil
	}
	if f := lib.Function(of); f != nil {
		return &Function{Name: name, About: f.About, Params: f.Params}
	}
	return nil
}

// fitting keeps the suggestions that go with a word, in any case: the name itself first, then names that begin with it, those
// of which a word does, those that hold it, and those whose description has such a word; fields before functions.
func fitting(list []Suggestion, word string) []Suggestion {
	type ranked struct {
		Suggestion
		rank int
	}
	var out []ranked
	for _, g := range list {
		if word == "" && g.Call {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimSuffix(g.Insert, "."), "(")
		if r, ok := match.Rank(word, name, g.Detail); ok {
			r *= 2
			if g.Call {
				r++
			}
			out = append(out, ranked{g, r})
		}
	}
	slices.SortStableFunc(out, func(a, b ranked) int { return cmp.Compare(a.rank, b.rank) })
	fit := make([]Suggestion, 0, mostSuggested)
	for _, r := range out[:min(len(out), mostSuggested)] {
		fit = append(fit, r.Suggestion)
	}
	return fit
}
