package page

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

func TestNumbersAndTimesForAPerson(t *testing.T) {
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1234: "-1,234", -123: "-123"} {
		require.Equal(t, want, Number(n))
	}
	for d, want := range map[time.Duration]string{12 * time.Millisecond: "12 ms", 1500 * time.Millisecond: "1.5 s", 90 * time.Second: "1m30s"} {
		require.Equal(t, want, Took(d))
	}
}

func TestAMessageIsShownAsRows(t *testing.T) {
	inner := value.NewRecord(value.NewLayout("x", "y"), []value.Value{value.NewText(`a"b`), {}})
	v := value.NewRecord(value.NewLayout("n", "list", "inner", "none"), []value.Value{value.Int(1), value.ListOf(value.Bool(true)), inner, value.NullValue})
	rows := Tree("row", v)
	var told []string
	for _, r := range rows {
		told = append(told, r.Name+"="+r.Text)
	}
	require.Equal(t, []string{"row=", "n=1", "list=1 item", "0=true", "inner=", `x="a\"b"`, "y=absent", "none=null"}, told)
	require.Equal(t, 2, rows[5].Depth)

	items := make([]value.Value, 10_000)
	require.Len(t, Tree("many", value.ListOf(items...)), maxRows+1, "a large message is cut")
}

func TestDifferencesAreMarked(t *testing.T) {
	in := []Row{{Name: "in", Group: true}, {Name: "a", Text: "1", Depth: 1}, {Name: "b", Text: "2", Depth: 1}}
	out := []Row{{Name: "out", Group: true}, {Name: "a", Text: "1", Depth: 1}, {Name: "b", Text: "3", Depth: 1}, {Name: "c", Text: "4", Depth: 1}}
	changed, fresh := Mark(in, out)
	require.Equal(t, [2]int{1, 1}, [2]int{changed, fresh})
	require.Equal(t, []string{"", "", "changed", "new"}, []string{out[0].Class, out[1].Class, out[2].Class, out[3].Class})
}

// TestARecordIsComparedWithTheOneLikeIt: of several messages that came in, names that they share are not mixed up.
func TestARecordIsComparedWithTheOneLikeIt(t *testing.T) {
	record := func(names []string, fields ...value.Value) value.Value {
		return value.NewRecord(value.NewLayout(names...), fields)
	}
	who := func(name string) value.Value { return record([]string{"name"}, value.NewText(name)) }
	booking := []string{"number", "customer", "invoice", "note"}
	in := append(Tree("booking", record(booking, value.NewText("B-1"), who("Tove"), value.Value{}, value.Value{})),
		Tree("posted", record([]string{"number"}, value.Int(7001)))...)
	out := Tree("noted", record(booking, value.NewText("B-1"), who("Tove"), value.Int(7001), value.Value{}))
	changed, fresh := Mark(in, out)
	require.Equal(t, [2]int{1, 0}, [2]int{changed, fresh})
	require.Equal(t, "changed", out[4].Class, out[4].Name)

	out = Tree("letter", record([]string{"to", "number"}, value.NewText("Tove"), value.NewText("B-1")))
	changed, fresh = Mark(in, out)
	require.Equal(t, [2]int{0, 1}, [2]int{changed, fresh}, "the number was carried over, the name of its place is another")
}

// TestAMessageIsDrawnInBounds: long values and many of them are cut, and said to be; values that differ behind the cut are
// told apart.
func TestAMessageIsDrawnInBounds(t *testing.T) {
	long := strings.Repeat("é", 5_000_000)
	rows := Tree("in", value.NewRecord(value.NewLayout("text", "bytes", "list"), []value.Value{
		value.NewText(long), value.Bytes(long), value.ListOf(make([]value.Value, 100_000)...),
	}))
	require.Len(t, rows, maxRows+1)
	require.Equal(t, "there is more than is shown", rows[maxRows].Text)
	require.Less(t, len(rows[1].Text), 2*maxLine)
	require.Contains(t, rows[1].Text, "(4,000 of 10,000,000 bytes are shown)")
	require.Less(t, len(rows[2].Text), 2*maxLine)
	record := func(text string) []Row {
		return Tree("m", value.NewRecord(value.NewLayout("a"), []value.Value{value.NewText(text)}))
	}
	changed, _ := Mark(record(long+"a"), record(long+"b"))
	require.Equal(t, 1, changed)
	changed, _ = Mark(record(long+"a"), record(long+"a"))
	require.Zero(t, changed)
	require.Equal(t, "short", Cut("short"))
	require.Less(t, len(Cut(long)), maxText+100)
}

func TestWhatARunDidInALine(t *testing.T) {
	require.Equal(t, "3 inserted, 1,000 skipped, 2 set aside", What(store.Run{Counts: map[string]*running.Counts{
		"keep": {In: 1005, Skipped: 1000}, "read": {SetAside: 2}, "upsert": {Inserted: 3},
	}}))
	require.Equal(t, "7 records", What(store.Run{RecordsRead: 7}))
	f := fault.New(fault.Outside, "no answer")
	require.Equal(t, "no answer", What(store.Run{Fault: f, State: store.SetAside}))
	require.Equal(t, "tried 2 times: no answer", What(store.Run{Fault: f, State: store.Retrying, Attempt: 2}))
	for _, s := range store.States {
		if s != store.Waiting {
			require.NotEmpty(t, StateTags[s], s)
		}
	}
}
