package formula

import (
	"regexp"
	resyntax "regexp/syntax"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/language"
	"golang.org/x/text/unicode/norm"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

var oneText = []Param{p("text", textKind)}

// textFunctions are those on texts.
var textFunctions = []Function{
	text1("upper", "The text in capital letters.", strings.ToUpper, `upper("kelp")`, "KELP"),
	text1("lower", "The text in small letters.", strings.ToLower, `lower("KELP")`, "kelp"),
	text1("trim", "The text without white space at its ends.", strings.TrimSpace, `trim("  kelp ")`, "kelp"),
	{
		Name: "length", Family: "text", About: "How many characters a text has, or items a list.",
		Params: []Param{p("of", []value.Kind{value.Text, value.ListKind})}, Result: known(value.Integer),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			if a[0].Kind() == value.ListKind {
				return value.Int(int64(len(a[0].Items()))), nil
			}
			return value.Int(int64(utf8.RuneCountInString(a[0].Text()))), nil
		},
		Examples: []Example{{`length("Ænø")`, "3"}, {`length([1, 2])`, "2"}},
	},
	{
		Name: "substring", Family: "text", About: "A part of a text: from a character counted from 1, of a length or to the end.",
		Params: []Param{p("text", textKind), p("from", whole), opt("length", whole)}, Result: known(value.Text), Call: substring,
		Examples: []Example{{`substring("SK04", 1, 2)`, "SK"}, {`substring("SK04", 3)`, "04"}, {`substring("SK", 5)`, ""}},
	},
	{
		Name: "replace", Family: "text", About: "The text with every occurrence of one text replaced by another.",
		Params: []Param{p("text", textKind), p("old", textKind), p("new", textKind)}, Result: known(value.Text), Call: replace,
		Examples: []Example{{`replace("a-b-c", "-", "")`, "abc"}},
	},
	{
		Name: "repeat", Family: "text", About: "The text a number of times.",
		Params: []Param{p("text", textKind), p("times", whole)}, Result: known(value.Text), Call: repeat,
		Examples: []Example{{`repeat("ab", 2)`, "abab"}},
	},
	{
		Name: "padLeft", Family: "text", About: "The text made as long as stated by filling on its left.",
		Params: []Param{p("text", textKind), p("length", whole), p("fill", textKind)}, Result: known(value.Text), Call: pad(true),
		Examples: []Example{{`padLeft("7", 3, "0")`, "007"}},
	},
	{
		Name: "padRight", Family: "text", About: "The text made as long as stated by filling on its right.",
		Params: []Param{p("text", textKind), p("length", whole), p("fill", textKind)}, Result: known(value.Text), Call: pad(false),
		Examples: []Example{{`padRight("7", 3, ".")`, "7.."}},
	},
	{
		Name: "split", Family: "text", About: "The parts of a text between separators, as a list.",
		Params: []Param{p("text", textKind), p("separator", textKind)},
		Result: func([]Type) Type { return Type{Kind: value.ListKind, Item: &Type{Kind: value.Text}} }, Call: split,
		Examples: []Example{{`split("a;b", ";")[1]`, "b"}},
	},
	{
		Name: "join", Family: "text", About: "The texts of a list as one, with a separator between them.",
		Params: []Param{p("list", listKind), p("separator", textKind)}, Result: known(value.Text), Call: join,
		Examples: []Example{{`join(["a", "b"], ", ")`, "a, b"}},
	},
	{
		Name: "concat", Family: "text", About: "Several values as one text; absent and null ones count as empty.",
		Params: []Param{p("value", scalar)}, Variadic: true, Lenient: true, Result: known(value.Text), Call: concatAll,
		Examples: []Example{{`concat("SK", 4, nil)`, "SK4"}},
	},
	text1("trimStart", "The text without white space at its beginning.", func(s string) string { return strings.TrimLeftFunc(s, unicode.IsSpace) }, `trimStart("  a ")`, "a "),
	text1("trimEnd", "The text without white space at its end.", func(s string) string { return strings.TrimRightFunc(s, unicode.IsSpace) }, `trimEnd(" a  ")`, " a"),
	text1("normalizeSpace", "The text with every run of white space as one space, and none at its ends.", func(s string) string { return strings.Join(strings.Fields(s), " ") }, `normalizeSpace("  a   b ")`, "a b"),
	text1("capitalize", "The text with its first letter as a capital.", capitalize, `capitalize("ling castle")`, "Ling castle"),
	text1("titleCase", "The text with the first letter of every word as a capital and the others small.", func(s string) string { return cases.Title(language.Und).String(s) }, `titleCase("LING castle")`, "Ling Castle"),
	text1("removeAccents", "The text with letters in place of accented ones, as far as they can be taken apart.", removeAccents, `removeAccents("Ålesund é")`, "Alesund e"),
	text1("normalize", "The text in Unicode normal form C: characters that look alike are written alike.", norm.NFC.String, `length(normalize("é"))`, "1"),
	text1("digits", "Only the digits of a text.", keep(unicode.IsDigit), `digits("+47 22-33")`, "472233"),
	text1("letters", "Only the letters of a text.", keep(unicode.IsLetter), `letters("SK 40117")`, "SK"),
	pure("isBlank", "text", "Whether a text is empty or white space only.", oneText, value.Boolean, func(a []value.Value) (value.Value, error) {
		return value.Bool(strings.TrimSpace(a[0].Text()) == ""), nil
	}, ex(`isBlank("  ")`, "true")),
	pure("indexOf", "text", "Where a text first stands in another, in characters from 1; 0 where it does not.", []Param{p("text", textKind), p("part", textKind)}, value.Integer, func(a []value.Value) (value.Value, error) {
		return position(a[0].Text(), strings.Index(a[0].Text(), a[1].Text())), nil
	}, ex(`indexOf("Ænø", "ø")`, "3"), ex(`indexOf("a", "b")`, "0")),
	pure("lastIndexOf", "text", "Where a text last stands in another, in characters from 1; 0 where it does not.", []Param{p("text", textKind), p("part", textKind)}, value.Integer, func(a []value.Value) (value.Value, error) {
		return position(a[0].Text(), strings.LastIndex(a[0].Text(), a[1].Text())), nil
	}, ex(`lastIndexOf("a-b-c", "-")`, "4")),
	pure("countMatches", "text", "How often a text stands in another, without overlapping.", []Param{p("text", textKind), p("part", textKind)}, value.Integer, func(a []value.Value) (value.Value, error) {
		if a[1].Text() == "" {
			return value.Value{}, fault.Expect(fault.Range, "a text to count", "an empty one")
		}
		return value.Int(int64(strings.Count(a[0].Text(), a[1].Text()))), nil
	}, ex(`countMatches("a-b-c", "-")`, "2")),
	pure("left", "text", "The first characters of a text.", []Param{p("text", textKind), p("count", whole)}, value.Text, func(a []value.Value) (value.Value, error) {
		r := []rune(a[0].Text())
		n, err := size(a[1], len(r))
		return value.NewText(string(r[:n])), err
	}, ex(`left("SK04", 2)`, "SK")),
	pure("right", "text", "The last characters of a text.", []Param{p("text", textKind), p("count", whole)}, value.Text, func(a []value.Value) (value.Value, error) {
		r := []rune(a[0].Text())
		n, err := size(a[1], len(r))
		return value.NewText(string(r[len(r)-n:])), err
	}, ex(`right("SK04", 2)`, "04")),
	pure("before", "text", "What stands before a separator; the whole text where it does not stand there.", []Param{p("text", textKind), p("separator", textKind)}, value.Text, func(a []value.Value) (value.Value, error) {
		s, _, _ := strings.Cut(a[0].Text(), a[1].Text())
		return str(s)
	}, ex(`before("LS204/7", "/")`, "LS204")),
	pure("after", "text", "What stands behind a separator; empty where it does not stand there.", []Param{p("text", textKind), p("separator", textKind)}, value.Text, func(a []value.Value) (value.Value, error) {
		_, s, _ := strings.Cut(a[0].Text(), a[1].Text())
		return str(s)
	}, ex(`after("LS204/7", "/")`, "7")),
	pure("insert", "text", "The text with another put in before a character, counted from 1.", []Param{p("text", textKind), p("before", whole), p("part", textKind)}, value.Text, func(a []value.Value) (value.Value, error) {
		r := []rune(a[0].Text())
		at, ok := a[1].Int64()
		if !ok || at < 1 || at > int64(len(r))+1 {
			return value.Value{}, fault.Expect(fault.Range, "a character from 1 to the end of the text", a[1].String())
		}
		return str(string(r[:at-1]) + a[2].Text() + string(r[at-1:]))
	}, ex(`insert("SK40117", 3, " ")`, "SK 40117")),
	pure("truncate", "text", "The text cut to a length, with a sign at its end where it was cut (… unless stated).", []Param{p("text", textKind), p("length", whole), opt("sign", textKind)}, value.Text, truncate, ex(`truncate("dried kelp", 6)`, "dried…"), ex(`truncate("kelp", 6)`, "kelp")),
	pure("words", "text", "The words of a text, as a list.", oneText, value.ListKind, func(a []value.Value) (value.Value, error) { return texts(strings.Fields(a[0].Text())), nil }, ex(`words(" a  b ")[1]`, "b")).listOf(value.Text),
	pure("lines", "text", "The lines of a text, as a list.", oneText, value.ListKind, func(a []value.Value) (value.Value, error) {
		return texts(strings.Split(strings.ReplaceAll(a[0].Text(), "\r\n", "\n"), "\n")), nil
	}, ex(`length(lines("a\nb"))`, "2")).listOf(value.Text),
	pure("codePoint", "text", "The number of a text's first character in Unicode.", oneText, value.Integer, func(a []value.Value) (value.Value, error) {
		if a[0].Text() == "" {
			return value.Value{}, nil
		}
		r, _ := utf8.DecodeRuneInString(a[0].Text())
		return value.Int(int64(r)), nil
	}, ex(`codePoint("A")`, "65")),
	pure("fromCodePoint", "text", "The character of a number in Unicode.", []Param{p("number", whole)}, value.Text, func(a []value.Value) (value.Value, error) {
		n, ok := a[0].Int64()
		if !ok || n < 0 || n > unicode.MaxRune || !utf8.ValidRune(rune(n)) {
			return value.Value{}, fault.Expect(fault.Range, "the number of a character", a[0].String())
		}
		return str(string(rune(n)))
	}, ex(`fromCodePoint(65)`, "A")),
	matching("extract", "The first part of a text that matches a pattern, or its first group; absent where none does.", []Param{p("text", textKind), p("pattern", textKind)}, value.Text, func(re *regexp.Regexp, a []value.Value) (value.Value, error) {
		m := re.FindStringSubmatch(a[0].Text())
		if m == nil {
			return value.Value{}, nil
		}
		return str(m[min(1, len(m)-1)])
	}, ex(`extract("order 417 of 9", "[0-9]+")`, "417"), ex(`extract("no=5", "no=(.)")`, "5")),
	matching("extractAll", "All parts of a text that match a pattern, as a list.", []Param{p("text", textKind), p("pattern", textKind)}, value.ListKind, func(re *regexp.Regexp, a []value.Value) (value.Value, error) {
		return texts(re.FindAllString(a[0].Text(), -1)), nil
	}, ex(`join(extractAll("a1b22", "[0-9]+"), "+")`, "1+22")).listOf(value.Text),
	matching("replacePattern", "The text with every part that matches a pattern replaced; $1 stands for its first group.", []Param{p("text", textKind), p("pattern", textKind), p("new", textKind)}, value.Text, func(re *regexp.Regexp, a []value.Value) (value.Value, error) {
		s, err := replaceAll(re, a[0].Text(), a[2].Text())
		return value.NewText(s), err
	}, ex(`replacePattern("SK-40-117", "-([0-9])", "$1")`, "SK40117")),
	matching("splitPattern", "The parts of a text between those that match a pattern, as a list.", []Param{p("text", textKind), p("pattern", textKind)}, value.ListKind, func(re *regexp.Regexp, a []value.Value) (value.Value, error) {
		return texts(re.Split(a[0].Text(), -1)), nil
	}, ex(`splitPattern("a, b;c", "[,;] *")[1]`, "b")).listOf(value.Text),
}

func texts(parts []string) value.Value {
	items := make([]value.Value, len(parts))
	for i, s := range parts {
		items[i] = value.NewText(s)
	}
	return value.ListOf(items...)
}

func capitalize(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	if n == 0 {
		return s
	}
	return string(unicode.ToTitle(r)) + s[n:]
}

func removeAccents(s string) string {
	return norm.NFC.String(strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(s)))
}

func keep(is func(rune) bool) func(string) string {
	return func(s string) string {
		return strings.Map(func(r rune) rune {
			if is(r) {
				return r
			}
			return -1
		}, s)
	}
}

// position is a byte offset as a character from 1; 0 for none.
func position(s string, at int) value.Value {
	if at < 0 {
		return value.Int(0)
	}
	return value.Int(int64(utf8.RuneCountInString(s[:at]) + 1))
}

// size reads how many of n there are to be.
func size(v value.Value, n int) (int, error) {
	want, ok := v.Int64()
	if !ok || want < 0 {
		return 0, fault.Expect(fault.Range, "a count of at least 0", v.String())
	}
	return int(min(want, int64(n))), nil
}

func truncate(a []value.Value) (value.Value, error) {
	sign := "…"
	if len(a) > 2 {
		sign = a[2].Text()
	}
	r, cut := []rune(a[0].Text()), []rune(sign)
	n, err := size(a[1], len(r))
	if err != nil || n == len(r) {
		return a[0], err
	}
	if len(cut) >= n {
		return str(string(r[:n]))
	}
	return str(string(r[:n-len(cut)]) + sign)
}

// pattern is one that was compiled; matching a text takes time that grows with its length times size.
type pattern struct {
	*regexp.Regexp
	size int // instructions
}

// patterns that were compiled; a formula mostly uses the same again.
var patterns sync.Map

// maxPattern bounds the text of a pattern; patterns match in linear time.
const maxPattern = 1000

var patternCount struct {
	sync.Mutex
	n int
}

func compiled(text string) (pattern, error) {
	if p, ok := patterns.Load(text); ok {
		return p.(pattern), nil
	}
	if len(text) > maxPattern {
		return pattern{}, fault.New(fault.Limit, "the pattern is longer than %d bytes", maxPattern)
	}
	re, err := regexp.Compile(text)
	if err != nil {
		return pattern{}, fault.New(fault.Syntax, "the pattern cannot be read: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	p := pattern{re, instructions(text)}
	patternCount.Lock()
	defer patternCount.Unlock()
	if patternCount.n++; patternCount.n > 1000 { // as when patterns come out of the data
		patterns.Clear()
		patternCount.n = 0
	}
	patterns.Store(text, p)
	return p, nil
}

// instructions counts what a pattern that compiles is made of.
func instructions(text string) int {
	tree, err := resyntax.Parse(text, resyntax.Perl)
	if err != nil {
		return maxPattern
	}
	prog, err := resyntax.Compile(tree.Simplify())
	if err != nil {
		return maxPattern
	}
	return len(prog.Inst)
}

// matching makes a function of a text and a pattern. How long it may take is settled before it begins.
func matching(name, about string, params []Param, result value.Kind, call func(re *regexp.Regexp, a []value.Value) (value.Value, error), examples ...Example) Function {
	fn := pure(name, "text", about, params, result, nil, examples...)
	fn.Call = func(fr *Frame, a []value.Value) (value.Value, error) {
		re, err := compiled(a[1].Text())
		if err == nil {
			err = fr.match(len(a[0].Text()), re.size)
		}
		if err != nil {
			return value.Value{}, err
		}
		v, err := call(re.Regexp, a)
		if err == nil {
			err = fr.grow(len(v.Text()) + 16*len(v.Items()))
		}
		return v, err
	}
	return fn
}

// replaceAll replaces what matches as ReplaceAllString does, within the bound on texts.
func replaceAll(re *regexp.Regexp, text, with string) (string, error) {
	var out []byte
	last, groups := 0, strings.Count(with, "$")
	for _, m := range re.FindAllStringSubmatchIndex(text, -1) {
		if len(out)+len(with)+groups*(m[1]-m[0]) > 2*MaxBytes { // no group is longer than the whole
			return "", errBytes
		}
		out = append(out, text[last:m[0]]...)
		out = re.ExpandString(out, with, text, m)
		last = m[1]
	}
	if len(out)+len(text)-last > MaxBytes {
		return "", errBytes
	}
	return string(append(out, text[last:]...)), nil
}

func text1(name, about string, fn func(string) string, ex, result string) Function {
	return Function{
		Name: name, Family: "text", About: about, Params: []Param{p("text", textKind)}, Result: known(value.Text), text: fn,
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			s := fn(a[0].Text())
			return value.NewText(s), fr.grow(len(s))
		},
		Examples: []Example{{ex, result}},
	}
}

func substring(_ *Frame, a []value.Value) (value.Value, error) {
	from, ok := a[1].Int64()
	if !ok || from < 1 {
		return value.Value{}, fault.Expect(fault.Range, "a first character of at least 1", a[1].String())
	}
	r := []rune(a[0].Text())
	start := min(from-1, int64(len(r)))
	end := int64(len(r))
	if len(a) > 2 {
		n, ok := a[2].Int64()
		if !ok || n < 0 {
			return value.Value{}, fault.Expect(fault.Range, "a length of at least 0", a[2].String())
		}
		end = min(end, start+min(n, end))
	}
	return value.NewText(string(r[start:end])), nil
}

func replace(fr *Frame, a []value.Value) (value.Value, error) {
	text, old, with := a[0].Text(), a[1].Text(), a[2].Text()
	if old == "" {
		return a[0], nil
	}
	if err := fr.grow(len(text) + strings.Count(text, old)*len(with)); err != nil {
		return value.Value{}, err
	}
	return value.NewText(strings.ReplaceAll(text, old, with)), nil
}

func repeat(fr *Frame, a []value.Value) (value.Value, error) {
	n, ok := a[1].Int64()
	if !ok || n < 0 {
		return value.Value{}, fault.Expect(fault.Range, "a count of at least 0", a[1].String())
	}
	if size := len(a[0].Text()); size > 0 && n > MaxBytes/int64(size) {
		return value.Value{}, errBytes
	}
	if err := fr.grow(int(n) * len(a[0].Text())); err != nil {
		return value.Value{}, err
	}
	return value.NewText(strings.Repeat(a[0].Text(), int(n))), nil
}

func pad(left bool) func(*Frame, []value.Value) (value.Value, error) {
	return func(fr *Frame, a []value.Value) (value.Value, error) {
		if utf8.RuneCountInString(a[2].Text()) != 1 {
			return value.Value{}, fault.Expect(fault.Range, "one character to fill with", fault.Quote(a[2].Text()))
		}
		want, _ := a[1].Int64()
		missing := want - int64(utf8.RuneCountInString(a[0].Text()))
		if missing <= 0 {
			return a[0], nil
		}
		fill, err := repeat(fr, []value.Value{a[2], value.Int(missing)})
		if left {
			return value.NewText(fill.Text() + a[0].Text()), err
		}
		return value.NewText(a[0].Text() + fill.Text()), err
	}
}

func split(fr *Frame, a []value.Value) (value.Value, error) {
	if a[1].Text() == "" {
		return value.Value{}, fault.Expect(fault.Range, "a separator", "an empty text")
	}
	parts := strings.Split(a[0].Text(), a[1].Text())
	items := make([]value.Value, len(parts))
	for i, s := range parts {
		items[i] = value.NewText(s)
	}
	return value.ListOf(items...), fr.grow(len(parts) * 16)
}

func join(fr *Frame, a []value.Value) (value.Value, error) {
	var b []byte
	for i, v := range a[0].Items() {
		if v.Kind() >= value.RecordKind {
			return value.Value{}, fault.Expect(fault.Type, "a list of texts", "a "+v.Kind().String())
		}
		if i > 0 {
			b = append(b, a[1].Text()...)
		}
		b = v.AppendText(b)
		if len(b) > MaxBytes {
			return value.Value{}, errBytes
		}
	}
	return value.NewText(string(b)), fr.grow(len(b))
}

func concatAll(fr *Frame, a []value.Value) (value.Value, error) {
	var b []byte
	for _, v := range a {
		b = v.AppendText(b)
	}
	return value.NewText(string(b)), fr.grow(len(b))
}
