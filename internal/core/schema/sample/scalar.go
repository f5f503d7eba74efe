package sample

import (
	"regexp/syntax"
	"strconv"
	"strings"
	"unicode"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// text makes a text: one of the codes, one of the pattern, or one that the field's name suggests.
func (m *maker) text(f *schema.Field) string {
	if codes := f.Constraints.Codes; len(codes) > 0 {
		if m.kind == Minimal {
			return codes[0].Value
		}
		return codes[m.rand.IntN(len(codes))].Value
	}
	if form := formed[f.Constraints.Format]; form != nil {
		return form(m)
	}
	if f.Constraints.Pattern != nil {
		if re, err := syntax.Parse(f.Constraints.PatternText(), syntax.Perl); err == nil {
			var b strings.Builder
			m.pattern(re.Simplify(), &b)
			return b.String()
		}
	}
	return m.letters(f)
}

// letters makes a text of a fitting length out of made-up words.
func (m *maker) letters(f *schema.Field) string {
	least, most := f.Constraints.MinLength, longest(f)
	want := least
	switch m.kind {
	case Maximal:
		want = most
	case Typical:
		text := m.realistic(f)
		if n := len([]rune(text)); n >= least && n <= most {
			return text
		}
		want = max(least, min(most, 8))
	}
	if f.Kind == value.Text && want == 0 {
		want = 1
	}
	return m.filled(min(want, most))
}

// longest is the most characters that a text may have.
func longest(f *schema.Field) int {
	most := fullLength
	if f.Constraints.MaxLength > 0 {
		most = f.Constraints.MaxLength
	}
	if w := width(f); w > 0 {
		most = min(most, w)
	}
	return max(most, f.Constraints.MinLength)
}

// filled makes exactly n characters of words.
func (m *maker) filled(n int) string {
	var b strings.Builder
	for b.Len() < n {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(words[m.rand.IntN(len(words))])
	}
	text := []byte(b.String()[:n])
	if n > 0 && text[n-1] == ' ' {
		text[n-1] = 's'
	}
	return string(text)
}

var words = []string{"kelp", "bale", "salt", "rope", "net", "quay", "pier", "tide", "reed", "skiff", "cargo", "harbour", "lantern", "oar"}

func among(list ...string) func(*maker) string {
	return func(m *maker) string { return list[m.rand.IntN(len(list))] }
}

// formed make texts of a form.
var formed = map[string]func(*maker) string{
	"uuid": func(m *maker) string {
		h := func(n int) string { return m.chars("0123456789abcdef", n) }
		return h(8) + "-" + h(4) + "-4" + h(3) + "-a" + h(3) + "-" + h(12)
	},
	"uri":      func(m *maker) string { return "https://skerry.example/" + words[m.rand.IntN(len(words))] },
	"email":    func(m *maker) string { return words[m.rand.IntN(len(words))] + "@skerry.example" },
	"hostname": func(m *maker) string { return words[m.rand.IntN(len(words))] + ".skerry.example" },
	"ipv4":     func(m *maker) string { return "192.0.2." + value.Int(int64(1+m.rand.IntN(250))).String() },
	"ipv6":     func(m *maker) string { return "2001:db8::" + m.chars("123456789abcdef", 3) },
}

func (m *maker) digits(n int) string   { return m.chars("0123456789", n) }
func (m *maker) capitals(n int) string { return m.chars("ABCDEFGHKLMNPRSTUVX", n) }

func (m *maker) chars(of string, n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = of[m.rand.IntN(len(of))]
	}
	return string(b)
}

// pattern makes a text that a regular expression matches.
func (m *maker) pattern(re *syntax.Regexp, b *strings.Builder) {
	switch re.Op {
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			b.WriteRune(r)
		}
	case syntax.OpCharClass:
		b.WriteRune(m.ofClass(re.Rune))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte("abcdefghijklmnopqrstuvwxyz"[m.rand.IntN(26)])
	case syntax.OpConcat, syntax.OpCapture:
		for _, sub := range re.Sub {
			m.pattern(sub, b)
		}
	case syntax.OpAlternate:
		m.pattern(re.Sub[m.rand.IntN(len(re.Sub))], b)
	case syntax.OpStar, syntax.OpPlus, syntax.OpQuest, syntax.OpRepeat:
		m.repeat(re, b)
	}
}

func (m *maker) repeat(re *syntax.Regexp, b *strings.Builder) {
	least, most := map[syntax.Op]int{syntax.OpPlus: 1, syntax.OpRepeat: re.Min}[re.Op], 4
	switch {
	case re.Op == syntax.OpQuest:
		most = 1
	case re.Op == syntax.OpRepeat && re.Max >= 0:
		most = re.Max
	case re.Op == syntax.OpRepeat:
		most = re.Min + 4
	}
	n := least
	switch m.kind {
	case Maximal:
		n = most
	case Typical:
		n += m.rand.IntN(most - least + 1)
	}
	for range n {
		if b.Len() > maxText {
			return
		}
		m.pattern(re.Sub[0], b)
	}
}

// ofClass picks a character of a class, a plain one where it has any.
func (m *maker) ofClass(ranges []rune) rune {
	var plain []rune
	for i := 0; i < len(ranges); i += 2 {
		for r := ranges[i]; r <= ranges[i+1] && r < unicode.MaxASCII; r++ {
			if r > ' ' {
				plain = append(plain, r)
			}
		}
	}
	if len(plain) == 0 {
		return ranges[2*m.rand.IntN(len(ranges)/2)]
	}
	return plain[m.rand.IntN(len(plain))]
}

// number makes a number between the bounds, with no more digits than the field has room for.
func (m *maker) number(f *schema.Field) (value.Value, bool) {
	places := m.places(f)
	low, high := m.bounds(f, places)
	if low > high {
		return value.Value{}, false
	}
	step := int64(1)
	if by, ok := scaled(f.Constraints.MultipleOf, places, value.Rounding("down")); ok && by > 0 {
		step = by
	}
	low, high = ceilDiv(low, step), floorDiv(high, step)
	if low > high {
		return value.Value{}, false
	}
	n := low
	switch {
	case m.kind == Typical || f.Constraints.Unique: // the least and the greatest are there once
		n = m.likely(f, places, low, high, step)
	case m.kind == Maximal:
		n = high
	}
	n *= step
	if f.Kind == value.Integer {
		return value.Int(n), true
	}
	return value.NewDecimal(n, -int32(places)), true
}

// likely is a number between two bounds, in steps: that of a thing that is known, else in the range that the field's name suggests,
// as far as it lies between the bounds.
func (m *maker) likely(f *schema.Field, places int, low, high, step int64) int64 {
	if id, err := strconv.ParseInt(m.known(wordsOf(f.Name)), 10, 64); err == nil && places == 0 && step == 1 && id >= low && id <= high {
		return id
	}
	least, most := usual(f, places)
	if least, most = max(low, ceilDiv(least, step)), min(high, floorDiv(most, step)); least <= most {
		low, high = least, most
	}
	return low + m.rand.Int64N(min(high-low, 1<<40)+1)
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b != 0 && a < 0 {
		q--
	}
	return q
}

func ceilDiv(a, b int64) int64 { return -floorDiv(-a, b) }

// places is how many decimal places a number is made with: as many as it may have, or as its bounds need.
func (m *maker) places(f *schema.Field) int {
	least := 0
	for _, b := range []value.Value{f.Constraints.MultipleOf, f.Constraints.Above, f.Constraints.Below} {
		if b.Kind() == value.Decimal {
			least = max(least, min(value.Scale(b), 8))
		}
	}
	switch {
	case f.Kind == value.Integer:
		return 0
	case f.WireFormat.ImpliedDecimals > 0:
		return f.WireFormat.ImpliedDecimals
	case f.Constraints.FractionDigits >= 0:
		return min(f.Constraints.FractionDigits, 6)
	}
	return max(2, least)
}

// bounds are the least and the greatest number in units of the last decimal place.
func (m *maker) bounds(f *schema.Field, places int) (low, high int64) {
	digits := 6 + places
	if f.Constraints.TotalDigits > 0 {
		digits = min(digits, f.Constraints.TotalDigits)
	}
	if w := width(f); w > 0 {
		if places > 0 && f.WireFormat.ImpliedDecimals == 0 {
			w-- // the point
		}
		digits = min(digits, w)
	}
	high = pow10(digits) - 1
	if b, ok := scaled(f.Constraints.Minimum, places, value.Rounding("ceiling")); ok {
		low = b
		if f.Constraints.Maximum.Kind() == value.Absent {
			high = max(high, low)
		}
	}
	if b, ok := scaled(f.Constraints.Maximum, places, value.Rounding("floor")); ok {
		high = min(high, b)
		if b < 0 && f.Constraints.Minimum.Kind() == value.Absent {
			high, low = b, b-1000
		}
	}
	if b, ok := scaled(f.Constraints.Above, places, value.Rounding("floor")); ok && b >= low {
		low = b + 1
		high = max(high, low)
	}
	if b, ok := scaled(f.Constraints.Below, places, value.Rounding("ceiling")); ok && b <= high {
		if high = b - 1; high < low && f.Constraints.Minimum.Kind() == value.Absent && f.Constraints.Above.Kind() == value.Absent {
			low = high - 1000
		}
	}
	return low, high
}

func pow10(n int) int64 {
	p := int64(1)
	for range min(max(n, 1), 18) {
		p *= 10
	}
	return p
}

func scaled(v value.Value, places int, mode value.Rounding) (int64, bool) {
	if v.Kind() == value.Absent {
		return 0, false
	}
	v, err := value.Mul(v, value.NewDecimal(1, int32(places)))
	if err != nil {
		return 0, false
	}
	v, err = value.Round(v, 0, mode)
	if err != nil {
		return 0, false
	}
	return v.Int64()
}

// temporal makes a date, time or timestamp between the bounds; without them, in the year 2031.
func (m *maker) temporal(f *schema.Field) (value.Value, bool) {
	if m.kind == Minimal && f.Constraints.Minimum.Kind() != value.Absent {
		return f.Constraints.Minimum, true
	}
	if m.kind == Maximal && f.Constraints.Maximum.Kind() != value.Absent {
		return f.Constraints.Maximum, true
	}
	date, clock := m.moment(f)
	made := map[value.Kind]value.Value{value.Date: date, value.Time: clock, value.Timestamp: value.At(date, clock), value.LocalTimestamp: value.Local(date, clock)}[f.Kind]
	switch f.Kind {
	case value.ZonedTime:
		made, _ = value.ParseZonedTime(clock.String() + "Z")
	case value.YearMonth:
		made, _ = value.ParseYearMonth(date.String()[:7])
	case value.Duration:
		made, _ = value.ParseDuration("PT" + value.Int(int64(5+5*m.rand.IntN(20))).String() + "M")
	}
	if within(made, f.Constraints) {
		return made, true
	}
	if f.Constraints.Minimum.Kind() != value.Absent {
		return f.Constraints.Minimum, true
	}
	return f.Constraints.Maximum, true
}

func within(v value.Value, m schema.Constraints) bool {
	if m.Minimum.Kind() != value.Absent {
		if c, err := value.Compare(v, m.Minimum); err != nil || c < 0 {
			return false
		}
	}
	if m.Maximum.Kind() != value.Absent {
		if c, err := value.Compare(v, m.Maximum); err != nil || c > 0 {
			return false
		}
	}
	return true
}
