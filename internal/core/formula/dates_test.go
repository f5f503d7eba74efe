package formula

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPatternsAreCheckedWhereTheyAreWritten: a pattern that is a constant is refused when the formula is compiled, one that
// comes with the values when it comes.
func TestPatternsAreCheckedWhereTheyAreWritten(t *testing.T) {
	for source, want := range map[string]string{
		`date("02.2031", "dd.yyyy")`:                    "date: the pattern dd.yyyy leaves the month open",
		`date("02.03.2031", "dd.mm.yyyy")`:              "Did you mean dd.MM.yyyy?",
		`time("12.30", "mm.ss")`:                        "leaves the hour open",
		`timestamp("02.03.2031", "dd.MM.yyyy")`:         "leaves the hour open",
		`format(date("2031-03-02"), "dd.mm.yyyy")`:      "names the minute, which a date does not have",
		`date("02.2031", "dd." + "yyyy")`:               "leaves the month open",
		`format(date("2031-03-02"), "dd." + "mm.yyyy")`: "names the minute",
	} {
		p, faults := Compile(source, NewScope())
		if len(faults) == 0 {
			_, f := p.Eval(&Frame{})
			require.NotNil(t, f, source)
			faults = append(faults, f)
		}
		require.Contains(t, faults[0].What(), want, source)
	}
}
