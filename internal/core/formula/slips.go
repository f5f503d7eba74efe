package formula

import (
	"regexp"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
)

// otherNames are functions as other languages call them, in lower case, and as they are called here.
var otherNames = map[string]string{
	"len": "length", "strlen": "length", "size": "length", "substr": "substring", "mid": "substring",
	"touppercase": "upper", "toupper": "upper", "uppercase": "upper", "ucase": "upper",
	"tolowercase": "lower", "tolower": "lower", "lowercase": "lower", "lcase": "lower",
	"concatenate": "concat", "strip": "trim", "ltrim": "trimStart", "rtrim": "trimEnd", "lpad": "padLeft", "rpad": "padRight",
	"padstart": "padLeft", "padend": "padRight", "substitute": "replace", "instr": "indexOf", "charindex": "indexOf",
	"tostring": "text", "str": "text", "string": "text", "int": "integer", "toint": "integer", "parseint": "integer",
	"todecimal": "decimal", "float": "decimal", "double": "decimal", "tonumber": "decimal", "number": "decimal",
	"todate": "date", "bool": "boolean", "avg": "average", "mean": "average", "ceil": "ceiling", "pow": "power",
	"isnullorempty": "isEmpty", "ifnull": "coalesce", "nvl": "coalesce", "adddate": "addDays", "dateadd": "addDays",
	"datediff": "daysBetween", "unique": "distinct", "vlookup": "lookup", "tojsonstring": "toJSON", "stringify": "toJSON",
}

// otherForms are functions of other languages that are no functions here, by their name in lower case and the number of
// their arguments; $1 is the first of them.
var otherForms = map[string]string{
	"if/3": "($1 ? $2 : $3)", "iif/3": "($1 ? $2 : $3)", "ifelse/3": "($1 ? $2 : $3)", "if/2": "($1 ? $2 : nil)",
	"today/0": "date(run.started)", "now/0": "run.started", "currentdate/0": "date(run.started)", "sysdate/0": "run.started",
	"and/2": "($1 and $2)", "or/2": "($1 or $2)", "contains/2": "($1 contains $2)",
	"startswith/2": "($1 startsWith $2)", "endswith/2": "($1 endsWith $2)", "matches/2": "($1 matches $2)",
	"in/2": "($1 in $2)", "equals/2": "($1 == $2)", "eq/2": "($1 == $2)", "exists/1": "not isMissing($1)",
}

// otherSigns are operators and words of other languages outside texts, and what stands for them here.
var otherSigns = []struct {
	of  *regexp.Regexp
	now string
}{
	{regexp.MustCompile(`<>`), "!="},
	{regexp.MustCompile(`===`), "=="},
	{regexp.MustCompile(`!==`), "!="},
	{regexp.MustCompile(`(^|[^=!<>])=([^=]|$)`), "$1==$2"},
	{regexp.MustCompile(`(^|[^&])&([^&]|$)`), "$1+$2"},
	{regexp.MustCompile(`(?i)\b(null|none|undefined)\b($|[^(])`), "nil$2"},
	{regexp.MustCompile(`\bAND\b`), "and"},
	{regexp.MustCompile(`\bOR\b`), "or"},
	{regexp.MustCompile(`\bNOT\b`), "not"},
	{regexp.MustCompile(`\bTRUE\b|\bTrue\b`), "true"},
	{regexp.MustCompile(`\bFALSE\b|\bFalse\b`), "false"},
	{regexp.MustCompile(`\b(\w+)\.\.(\w+)\b`), "range($1, $2)"},
}

var (
	thenElse  = regexp.MustCompile(`(?is)^\s*(?:case\s+when|if)\s+(.+?)\s+then\s+(.+?)\s+else\s+(.+?)(?:\s+end)?\s*$`)
	calling   = regexp.MustCompile(`([A-Za-z_][A-Za-z0-9_]*)\s*\(`)
	textParts = regexp.MustCompile("\"(?:[^\"\\\\]|\\\\.)*\"|'(?:[^'\\\\]|\\\\.)*'|`[^`]*`")
)

// hinted adds to the first fault of a formula how it is written here, where it is one of another language. What the hint
// says compiles.
func hinted(source string, scope *Scope, faults fault.List) fault.List {
	now := respelt(source)
	if now == source {
		return faults
	}
	if p, wrong := compilePlain(now, scope); len(wrong) > 0 || p == nil {
		return faults
	}
	f := *faults[0]
	f.Fix = ""
	f.WithFix("Write %s", now)
	return append(fault.List{&f}, faults[1:]...)
}

// respelt is a formula of another language as it is written here, as far as that is known.
func respelt(source string) string {
	if m := thenElse.FindStringSubmatch(source); m != nil {
		source = m[1] + " ? " + m[2] + " : " + m[3]
	}
	source = OutsideTexts(source, func(code string) string {
		for _, s := range otherSigns {
			code = s.of.ReplaceAllString(code, s.now)
		}
		return code
	})
	for from, most := 0, 50; most > 0; most-- {
		next, at, changed := respeltCall(source, from)
		if at < 0 {
			break
		}
		if source = next; !changed {
			from = at
		}
	}
	return source
}

// respeltCall respells the first call behind a place; at is behind its opening parenthesis, -1 where there is none.
func respeltCall(source string, from int) (now string, at int, changed bool) {
	m := calling.FindStringSubmatchIndex(blanked(source)[from:])
	if m == nil {
		return source, -1, false
	}
	start, nameEnd, open := from+m[2], from+m[3], from+m[1]
	args, end := arguments(source, open)
	if end < 0 {
		return source, open, false
	}
	name, lower := source[start:nameEnd], strings.ToLower(source[start:nameEnd])
	if start > 0 && source[start-1] == '.' { // a method of what stands before it
		of := receiver(source, start-1)
		if known := spelling(lower); known != "" && of < start-1 {
			return source[:of] + known + "(" + strings.Join(append([]string{source[of : start-1]}, args...), ", ") + ")" + source[end:], of, true
		}
		return source, open, false
	}
	if form, ok := otherForms[lower+"/"+strconv.Itoa(len(args))]; ok && functions[name] == nil {
		for i, a := range args {
			form = strings.ReplaceAll(form, "$"+strconv.Itoa(i+1), a)
		}
		return source[:start] + form + source[end:], start, true
	}
	if known := spelling(lower); functions[name] == nil && known != "" {
		return source[:start] + known + source[nameEnd:], start, true
	}
	return source, open, false
}

// spelling is how a function is written here; empty where there is none.
func spelling(lower string) string {
	for name, fn := range functions {
		if strings.ToLower(name) == lower {
			return fn.Name
		}
	}
	return otherNames[lower]
}

// blanked is a formula with its texts blanked out, so that nothing is found in them.
func blanked(source string) string {
	return textParts.ReplaceAllStringFunc(source, func(s string) string { return strings.Repeat(" ", len(s)) })
}

// OutsideTexts changes what of a formula does not stand in quotes.
func OutsideTexts(source string, change func(string) string) string {
	var b strings.Builder
	from := 0
	for _, at := range textParts.FindAllStringIndex(source, -1) {
		b.WriteString(change(source[from:at[0]]))
		b.WriteString(source[at[0]:at[1]])
		from = at[1]
	}
	return b.String() + change(source[from:])
}

// arguments are those of a call, from behind its opening parenthesis; end is behind the closing one, -1 where it is missing.
func arguments(source string, open int) (args []string, end int) {
	depth, from, plain := 0, open, blanked(source)
	for i := open; i < len(plain); i++ {
		switch c := plain[i]; {
		case c == '(' || c == '[' || c == '{':
			depth++
		case depth > 0 && (c == ')' || c == ']' || c == '}'):
			depth--
		case c == ')':
			if last := strings.TrimSpace(source[from:i]); last != "" || len(args) > 0 {
				args = append(args, last)
			}
			return args, i + 1
		case c == ',' && depth == 0:
			args = append(args, strings.TrimSpace(source[from:i]))
			from = i + 1
		}
	}
	return nil, -1
}

// receiver is where the path or text begins that ends before a point.
func receiver(source string, point int) int {
	if point > 0 && (source[point-1] == '"' || source[point-1] == '\'') {
		for _, at := range textParts.FindAllStringIndex(source[:point], -1) {
			if at[1] == point {
				return at[0]
			}
		}
	}
	i := point
	if i > 0 && (source[i-1] == ')' || source[i-1] == ']') { // a call, or an item of a list: with its name before it
		plain, depth := blanked(source), 0
		for i--; i >= 0; i-- {
			if c := plain[i]; c == ')' || c == ']' {
				depth++
			} else if c == '(' || c == '[' {
				if depth--; depth == 0 {
					break
				}
			}
		}
		if i < 0 {
			return point
		}
	}
	for i > 0 && (source[i-1] == '.' || source[i-1] == '_' || source[i-1] >= '0' && source[i-1] <= '9' || source[i-1] >= 'A' && source[i-1] <= 'Z' || source[i-1] >= 'a' && source[i-1] <= 'z') {
		i--
	}
	return i
}
