package formula

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/value"
)

// law is a formula that must be true for whatever its names hold.
type law struct {
	about string
	holds *Program
}

// laws compiles formulas over texts s and t, whole numbers n and m, decimals x and y, dates d and e, and a list.
func laws(t *testing.T, list map[string]string) (out []law) {
	t.Helper()
	sc := NewScope()
	for _, name := range []string{"s", "t"} {
		sc.Define(name, Type{Kind: value.Text})
	}
	for _, name := range []string{"n", "m"} {
		sc.Define(name, Type{Kind: value.Integer})
	}
	for _, name := range []string{"x", "y"} {
		sc.Define(name, Type{Kind: value.Decimal})
	}
	for _, name := range []string{"d", "e"} {
		sc.Define(name, Type{Kind: value.Date})
	}
	item := Type{Kind: value.Integer}
	sc.Define("list", Type{Kind: value.ListKind, Item: &item})
	for about, source := range list {
		prog, faults := Compile(source, sc)
		require.Empty(t, faults, source)
		out = append(out, law{about + ": " + source, prog})
	}
	return out
}

// anyText is made of letters of several scripts, signs and spaces, some of them often.
func anyText(r *rand.Rand) string {
	const letters = "aabbA ,,-ßæø世🜁\n.\"\\"
	runes := []rune(letters)
	var b strings.Builder
	for range r.IntN(12) {
		b.WriteRune(runes[r.IntN(len(runes))])
	}
	return b.String()
}

func anyDate(r *rand.Rand) value.Value {
	at := time.Date(1600+r.IntN(900), time.Month(1+r.IntN(12)), 1+r.IntN(31), 0, 0, 0, 0, time.UTC)
	return value.DateOf(at.Year(), int(at.Month()), at.Day())
}

// hold tries laws with values that differ each time.
func hold(t *testing.T, list []law, rounds int) {
	t.Helper()
	r := rand.New(rand.NewPCG(11, 12))
	for range rounds {
		var items []value.Value
		for range r.IntN(8) {
			items = append(items, value.Int(int64(r.IntN(6))))
		}
		slots := []value.Value{
			value.NewText(anyText(r)), value.NewText(anyText(r)), value.Int(int64(r.IntN(14))), value.Int(int64(r.IntN(2001) - 1000)),
			value.NewDecimal(r.Int64N(200_000)-100_000, -3), value.NewDecimal(1+r.Int64N(9999), -2), anyDate(r), anyDate(r), value.ListOf(items...),
		}
		for _, l := range list {
			fr := &Frame{Slots: append([]value.Value{}, slots...)}
			v, f := l.holds.Eval(fr)
			if f != nil || !v.IsTrue() {
				t.Fatalf("%s does not hold for s %q, t %q, n %s, m %s, x %s, y %s, d %s, e %s, list %v: %v", l.about, slots[0], slots[1], slots[2], slots[3], slots[4], slots[5], slots[6], slots[7], items, f)
			}
		}
	}
}

// TestTextsObeyTheirLaws: functions of texts undo each other and count characters, whatever the script.
func TestTextsObeyTheirLaws(t *testing.T) {
	hold(t, laws(t, map[string]string{
		"two parts":                 `left(s, n) + substring(s, n + 1) == s`,
		"the end":                   `s endsWith right(s, n) and length(right(s, n)) == min(n, length(s))`,
		"joined again":              `join(split(s, ","), ",") == s`,
		"as many parts as cuts":     `count(split(s, "a")) == countOf(s, "a") + 1`,
		"before and behind":         `s contains "-" ? before(s, "-") + "-" + after(s, "-") == s : true`,
		"where it is found":         `indexOf(s, "b") == 0 ? not (s contains "b") : substring(s, indexOf(s, "b"), 1) == "b"`,
		"the last is not before":    `lastIndexOf(s, "b") >= indexOf(s, "b")`,
		"padded":                    `length(padLeft(s, n, "x")) == max(n, length(s)) and padLeft(s, n, "x") endsWith s`,
		"padded behind":             `length(padRight(s, n, "x")) == max(n, length(s)) and padRight(s, n, "x") startsWith s`,
		"replaced":                  `not (replace(s, "a", "") contains "a")`,
		"replaced by itself":        `replace(s, "a", "a") == s`,
		"trimmed once":              `trim(trim(s)) == trim(s)`,
		"repeated":                  `length(repeat(s, n)) == n * length(s)`,
		"upper of lower":            `lower(upper(lower(s))) == lower(upper(s))`,
		"no longer than is said":    `length(truncate(s, n + 1)) <= n + 1`,
		"short enough already":      `length(s) <= n ? truncate(s, n + 1) == s : true`,
		"added up":                  `length(s + t) == length(s) + length(t)`,
		"base64 and back":           `fromBase64(base64(s)) == s`,
		"put in and found":          `insert(s, 1, t) == t + s`,
		"blank is nothing but room": `isBlank(s) == (trim(s) == "")`,
	}), 3000)
}

// TestNumbersObeyTheirLaws: of division, of bounds, of rounding and of bases.
func TestNumbersObeyTheirLaws(t *testing.T) {
	hold(t, laws(t, map[string]string{
		"what is divided":       `quotient(x, y) * y + remainder(x, y) == x`,
		"the rest is smaller":   `abs(remainder(x, y)) < abs(y)`,
		"within its bounds":     `clamp(x, -5, 5) >= -5 and clamp(x, -5, 5) <= 5`,
		"clamped once":          `clamp(clamp(x, -5, 5), -5, 5) == clamp(x, -5, 5)`,
		"rounded once":          `round(round(x, 1), 1) == round(x, 1)`,
		"rounded nearby":        `abs(round(x, 1) - x) <= 0.05`,
		"up and down":           `floor(x) <= x and ceiling(x) >= x and ceiling(x) - floor(x) <= 1`,
		"another base":          `fromBase(toBase(abs(m), 16), 16) == abs(m)`,
		"the other base":        `fromBase(toBase(abs(m), 2), 2) == abs(m)`,
		"even or odd":           `isEven(m) != isOdd(m)`,
		"divides both":          `m == 0 ? true : remainder(m, greatestDivisor(m, 12)) == 0 and remainder(12, greatestDivisor(m, 12)) == 0`,
		"sign and size":         `sign(x) * abs(x) == x`,
		"added and taken":       `x + y - y == x`,
		"times and divided":     `round(x * y / y, 3) == x`,
		"larger and smaller":    `max(x, y) + min(x, y) == x + y`,
		"percent of a hundred":  `x / 100 * 100 == x`,
		"spread over a product": `(x + y) * m == x * m + y * m`,
	}), 3000)
}

// TestDatesObeyTheirLaws: days added are days between, months keep the day or come to the last, business days pass over
// weekends.
func TestDatesObeyTheirLaws(t *testing.T) {
	hold(t, laws(t, map[string]string{
		"days added are between":   `daysBetween(d, addDays(d, m)) == m`,
		"there and back":           `addDays(addDays(d, m), -m) == d`,
		"between, the other way":   `daysBetween(d, e) == -daysBetween(e, d)`,
		"months added":             `monthsBetween(addMonths(d, 0), addMonths(d, n)) >= n - 1 and monthsBetween(d, addMonths(d, n)) <= n`,
		"the first keeps its day":  `day(addMonths(addDays(d, 1 - day(d)), m)) == 1`,
		"twelve months are a year": `addMonths(d, 12) == addYears(d, 1)`,
		"never on a weekend":       `not isWeekend(addBusinessDays(d, n + 1))`,
		"business days are fewer":  `businessDaysBetween(d, addDays(d, n)) <= n`,
		"five in a week":           `businessDaysBetween(d, addDays(d, 7)) == 5`,
		"as text and back":         `date(text(d)) == d`,
		"as an instant and back":   `date(fromEpoch(epochSeconds(timestamp(text(d) + "T12:00:00Z")))) == d`,
		"a leap year has its day":  `isLeapYear(year(d)) == (day(addDays(date(padLeft(text(year(d)), 4, "0") + "-03-01"), -1)) == 29)`,
		"weeks have seven days":    `weekday(addDays(d, 7)) == weekday(d)`,
	}), 2000)
	r := rand.New(rand.NewPCG(13, 14))
	prog := laws(t, map[string]string{"months": `addMonths(d, m) == e`})[0].holds
	for range 3000 {
		d, m := anyDate(r), r.IntN(200)-100
		at := d.GoTime()
		first := time.Date(at.Year(), at.Month()+time.Month(m), 1, 0, 0, 0, 0, time.UTC)
		day := min(at.Day(), first.AddDate(0, 1, -1).Day())
		want := value.DateOf(first.Year(), int(first.Month()), day)
		v, f := prog.Eval(&Frame{Slots: []value.Value{{}, {}, {}, value.Int(int64(m)), {}, {}, d, want, {}}})
		require.Nil(t, f)
		require.True(t, v.IsTrue(), "%s and %d months is %s", d, m, want)
	}
}

// TestListsObeyTheirLaws: sorted, grouped, cut into chunks and turned round nothing is lost.
func TestListsObeyTheirLaws(t *testing.T) {
	hold(t, laws(t, map[string]string{
		"turned twice":            `join(reverse(reverse(list)), ",") == join(list, ",")`,
		"none is lost by order":   `sum(sortBy(list, #)) == sum(list) and count(sortBy(list, #)) == count(list)`,
		"in order":                `count(list) == 0 ? true : all(list, # >= first(sortBy(list, #)))`,
		"groups hold all":         `sum(map(groupBy(list, # % 2), count(.items))) == count(list)`,
		"chunks hold all":         `join(flatten(chunk(list, n + 1)), ",") == join(list, ",")`,
		"each only once":          `count(distinct(list)) <= count(list) and sum(list) >= sum(distinct(list))`,
		"distinct once":           `join(distinct(distinct(list)), ",") == join(distinct(list), ",")`,
		"those and the others":    `count(filter(list, # > 2)) + count(filter(list, # <= 2)) == count(list)`,
		"as many as before":       `count(map(list, # + 1)) == count(list) and sum(map(list, # + 1)) == sum(list) + count(list)`,
		"found or not there":      `isAbsent(find(list, # == 3)) == not has(list, 3)`,
		"all or any":              `all(list, # > 2) == not any(list, # <= 2)`,
		"the first of the turned": `count(list) == 0 ? true : first(reverse(list)) == last(list)`,
	}), 2000)
}
