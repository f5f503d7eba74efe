package fault

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFaultInWords(t *testing.T) {
	for _, c := range []struct {
		f    *Fault
		want string
	}{
		{New(Syntax, "no %s", "good"), "no good"},
		{Expect(Type, "a number", `"x"`), `expected a number, found "x"`},
		{Expect(Type, "a number", ""), "expected a number"},
		{Expect(Type, "a number", `"x"`).InField("qty"), `qty: expected a number, found "x"`},
		{Expect(Type, "a number", `"x"`).InField("qty").At(Place{Source: "a.csv", Line: 3, Column: 7}), `a.csv:3:7: qty: expected a number, found "x"`},
		{New(Type, "bad").At(Place{Source: "a.csv", Line: 3}), "a.csv:3: bad"},
		{New(Type, "bad").At(Place{Path: "/order/lines/3"}), "/order/lines/3: bad"},
		{New(Type, "bad").At(Place{Source: "a", Line: 1, Path: "/x"}), "a:1 /x: bad"},
		{New(InputGone, "it is gone").WithFix("Put %s back", "it"), "it is gone. Put it back"},
		{&Fault{Message: "refused", Found: "detail"}, "refused (found detail)"},
		{&Fault{Message: "refused", Expected: "a", Found: "b"}, "refused; expected a, found b"},
	} {
		require.Equal(t, c.want, c.f.Error())
	}
}

func TestForeignTextIsQuotedAndCut(t *testing.T) {
	require.Equal(t, `"a\"b\n\x00"`, Quote("a\"b\n\x00"))
	require.Equal(t, `"\xff"`, Quote("\xff"))
	long := Quote(strings.Repeat("æ", 1_000_000))
	require.Equal(t, `"`+strings.Repeat("æ", 40)+`"…`, long)
}

func TestFaultsTravelAsErrors(t *testing.T) {
	f := New(Limit, "too much")
	require.Same(t, f, From(f, Syntax))
	require.Equal(t, Syntax, From(errors.New("x"), Syntax).Code)
	var got *Fault
	require.ErrorAs(t, fmt.Errorf("inside: %w", f), &got)
	list := List{f, New(InputGone, "gone")}
	require.Equal(t, "too much\ngone", list.Error())
	var faults List
	require.ErrorAs(t, fmt.Errorf("inside: %w", list), &faults)
}

func TestAFaultIsWrittenAsItIsShown(t *testing.T) {
	f := Expect(Type, "a number", "x\x00").InField("q\x00").At(Place{Source: "a\x00.txt", Line: 2, Path: "/q\x00"})
	text, err := json.Marshal(List{f})
	require.NoError(t, err)
	require.NotContains(t, string(text), `\u0000`)
	var back List
	require.NoError(t, json.Unmarshal(text, &back))
	require.Equal(t, List{Expect(Type, "a number", "x␀").InField("q␀").At(Place{Source: "a␀.txt", Line: 2, Path: "/q␀"})}, back)
	require.Equal(t, "x\x00", f.Found, "the fault itself is as it was")
}

// TestTheFaultsOfAMessageAreBounded: what is not kept is counted, through lists that are joined, too.
func TestTheFaultsOfAMessageAreBounded(t *testing.T) {
	var one, all List
	for range MaxKept {
		one.Add(New(Type, "bad"))
	}
	require.Len(t, one, MaxKept)
	require.Zero(t, one[MaxKept-1].More)
	require.True(t, one.Full())
	for range 50 {
		one.Add(New(Type, "bad"))
	}
	require.Len(t, one, MaxKept+1)
	require.Equal(t, "50 more faults of this message are not kept", one[MaxKept].What())
	all.Add(New(Type, "first"), New(Type, "second"))
	all.Add(one...)
	require.Len(t, all, MaxKept+1)
	require.Equal(t, "52 more faults of this message are not kept", all[MaxKept].What())
}
