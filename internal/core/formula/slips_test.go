package formula

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestSlipsAreAnsweredWithWhatToWrite: what people write who know other languages; what is said compiles.
func TestSlipsAreAnsweredWithWhatToWrite(t *testing.T) {
	sc, _ := scope(t)
	for source, want := range map[string]string{
		`if(open, 1, 2)`:                           `(open ? 1 : 2)`,
		`IIF(open, 1, if(open, 2, 3))`:             `(open ? 1 : (open ? 2 : 3))`,
		`if open then 1 else 2`:                    `open ? 1 : 2`,
		`CASE WHEN open THEN "x, y" ELSE name END`: `open ? "x, y" : name`,
		`no = 7`:                     `no == 7`,
		`no <> 7`:                    `no != 7`,
		`no >= 7 AND no <= 8`:        `no >= 7 and no <= 8`,
		`name & " = " & name`:        `name + " = " + name`,
		`mail ?? null`:               `mail ?? nil`,
		`len(name) + no`:             `length(name) + no`,
		`SUBSTR(name, 1, 2)`:         `substring(name, 1, 2)`,
		`nvl(mail, "len(")`:          `coalesce(mail, "len(")`,
		`name.toUpperCase()`:         `upper(name)`,
		`order.name.substring(1, 2)`: `substring(order.name, 1, 2)`,
		`"kelp".upper()`:             `upper("kelp")`,
		`name.trim().toUpperCase()`:  `upper(trim(name))`,
		`name.substring(1, 2).trim().lower() + "x"`: `lower(trim(substring(name, 1, 2))) + "x"`,
		`contains(name, "a, b")`:                    `(name contains "a, b")`,
		`sum(1..3)`:                                 `sum(range(1, 3))`,
		`isnull(mail)`:                              `isNull(mail)`,
	} {
		_, faults := Compile(source, sc)
		require.NotEmpty(t, faults, source)
		require.Equal(t, "Write "+want, faults[0].Fix, source)
		_, faults = Compile(want, sc)
		require.Empty(t, faults, want)
	}
	for _, source := range []string{`if(open, 1, "x")`, `today()`, `len(no`, `iif()`, `a = b`, `.x(`, `("`, `x.y.z(`} {
		_, faults := Compile(source, sc)
		require.NotEmpty(t, faults, source)
		require.NotContains(t, faults[0].Fix, "Write", source)
	}
	for _, name := range slices.Sorted(maps.Values(otherNames)) {
		require.NotNil(t, functions[name], name)
	}
	for wrong, right := range map[string]string{"pric": "price", "qyt": "qty", "len": "length", "upprr": "upper", "nvl": "", "now": "", "iif": ""} {
		require.Equal(t, right, nearest(wrong, []string{"price", "qty", "length", "upper", "all", "none", "min", "map"}), wrong)
	}
}

// FuzzRespelt: whatever is written, looking for what was meant ends, and changes no formula that compiles.
func FuzzRespelt(f *testing.F) {
	for _, s := range []string{`if(a,b,c)`, `"x".upper(`, `a..b`, `iif((((`, `1 = "=`} {
		f.Add(s)
	}
	sc := NewScope()
	f.Fuzz(func(t *testing.T, source string) {
		if len(source) > 1000 {
			return
		}
		respelt(source)
		if p, faults := Compile(source, sc); p == nil {
			require.NotEmpty(t, faults)
		}
	})
}
