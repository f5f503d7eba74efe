package store

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
)

// whole is a run that is over.
func whole(reference string) WholeRun {
	began := time.Date(2031, 3, 9, 6, 0, 0, 0, time.UTC)
	ended := began.Add(time.Millisecond)
	r := Run{ID: uuid.Must(uuid.NewV7()), Scope: scope, Flow: "f", Release: 1, Reference: reference, File: "call", StartedBy: "request", StartedAt: &began, EndedAt: &ended}
	return WholeRun{Run: r, State: Done, Entries: []byte(`{"record":-1}`)}
}

// TestWholeRunsAreRecordedTogether: each with what it has come to, and with nothing of the others; alone, too.
func TestWholeRunsAreRecordedTogether(t *testing.T) {
	for name, lists := range map[string]func(plain, rich WholeRun) [][]WholeRun{
		"together":   func(plain, rich WholeRun) [][]WholeRun { return [][]WholeRun{{plain, rich}} },
		"each alone": func(plain, rich WholeRun) [][]WholeRun { return [][]WholeRun{{plain}, {rich}} },
		"with many references": func(plain, rich WholeRun) [][]WholeRun {
			for range maxPlain {
				rich.References = append(rich.References, rich.References[0])
			}
			return [][]WholeRun{{plain}, {rich}}
		},
	} {
		t.Run(name, func(t *testing.T) { wholeRuns(t, lists) })
	}
}

func wholeRuns(t *testing.T, lists func(plain, rich WholeRun) [][]WholeRun) {
	db := open(t)
	release(t, db, "one")
	plain, rich := whole("plain"), whole("rich")
	rich.State, rich.Fault = Stopped, fault.New(fault.Stopped, "no \x00 of that")
	rich.Run.Input, rich.Run.Request, rich.Run.Answer = []byte(`{"a":1}`), []byte(`{"path":"x"}`), []byte(`"yes"`)
	rich.Run.Counts, rich.Run.Reply = map[string]*running.Counts{"s": {In: 2}}, &running.Reply{Status: 422}
	rich.References = []running.Reference{{Record: -1, Text: "B-1"}, {Record: -1, Text: "B-2"}, {Record: -1, Text: "B-1"}}
	rich.Events = []running.Event{{Step: "n", Record: -1, Text: "one"}, {Step: "n", Record: -1, Text: "two", Fault: fault.New(fault.Type, "odd")}}
	for _, list := range lists(plain, rich) {
		fresh, err := AddWhole(t.Context(), db, list)
		require.NoError(t, err)
		require.Equal(t, []bool{true, true}[:len(list)], fresh)
	}

	got := byID(t, db, rich.Run.ID)
	require.Equal(t, Stopped, got.State)
	require.Contains(t, got.Fault.Message, "of that")
	require.Equal(t, [][]byte{rich.Run.Input, rich.Run.Request, rich.Run.Answer}, [][]byte{got.Input, got.Request, got.Answer})
	require.Equal(t, rich.Run.Counts, got.Counts)
	require.Equal(t, 422, got.Reply.Status)
	require.True(t, got.EndedAt.Equal(*rich.Run.EndedAt))
	require.EqualValues(t, 1, got.ClaimVersion)
	refs, err := References(t.Context(), db, got.ID, 9)
	require.NoError(t, err)
	require.Len(t, refs, 2, "each once")
	events, err := Events(t.Context(), db, scope, 9)
	require.NoError(t, err)
	require.Len(t, events, 2)
	_, entries, err := JournalBatch(t.Context(), db, got.ID, -1)
	require.NoError(t, err)
	require.Equal(t, rich.Entries, entries)

	other := byID(t, db, plain.Run.ID)
	require.Equal(t, Done, other.State)
	require.Nil(t, other.Fault)
	require.Nil(t, other.Reply)
	require.Nil(t, other.Input)
}

// TestAKeyIsOneWholeRun: of two that are recorded in one go, and of one that comes later.
func TestAKeyIsOneWholeRun(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	first, second, third := whole("first"), whole("second"), whole("third")
	for _, w := range []*WholeRun{&first, &second, &third} {
		w.Key, w.Digest, w.Events = "k", "d", []running.Event{{Step: "n", Text: "told"}}
	}
	fresh, err := AddWhole(t.Context(), db, []WholeRun{first, second})
	require.NoError(t, err)
	require.Equal(t, []bool{true, false}, fresh)
	fresh, err = AddWhole(t.Context(), db, []WholeRun{third})
	require.NoError(t, err)
	require.Equal(t, []bool{false}, fresh)
	_, run, err := CalledWith(t.Context(), db, scope, "f", "k")
	require.NoError(t, err)
	require.Equal(t, first.Run.ID, *run)
	events, err := Events(t.Context(), db, scope, 9)
	require.NoError(t, err)
	require.Len(t, events, 1, "those that came before tell nothing again")
}

// TestWholeRunsAreRecordedAllOrNone: one tells what the database does not take; by itself it leaves nothing, either.
func TestWholeRunsAreRecordedAllOrNone(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	good, bad := whole("good"), whole("bad")
	bad.Events = []running.Event{{Step: "n", Text: "x\x00"}}
	_, err := AddWhole(t.Context(), db, []WholeRun{good, bad})
	require.Error(t, err)
	_, err = RunByID(t.Context(), db, good.Run.ID)
	require.ErrorIs(t, err, ErrNotFound)
	_, err = AddWhole(t.Context(), db, []WholeRun{bad})
	require.Error(t, err)
	_, err = RunByID(t.Context(), db, bad.Run.ID)
	require.ErrorIs(t, err, ErrNotFound)
}

// TestWhatTheServerRefusesIsToldFromWhatItNeverSaw: what is refused would be again, what was not reached is worth another try; and a
// run that is there already is recorded.
func TestWhatTheServerRefusesIsToldFromWhatItNeverSaw(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	w := whole("twice")
	_, err := AddWhole(t.Context(), db, []WholeRun{w, whole("beside")})
	require.NoError(t, err)
	_, err = AddWhole(t.Context(), db, []WholeRun{w})
	require.True(t, IsRefused(err))
	require.True(t, IsRecorded(err), "%v", err)
	other := whole("other")
	other.State = "nowhere"
	_, err = AddWhole(t.Context(), db, []WholeRun{other})
	require.True(t, IsRefused(err))
	require.False(t, IsRecorded(err))
	_, err = db.Exec(t.Context(), "do $$ begin raise exception 'starting up' using errcode = '57P03'; end $$")
	require.Error(t, err)
	require.False(t, IsRefused(err), "the server is not ready")
	db.Close()
	_, err = AddWhole(t.Context(), db, []WholeRun{other})
	require.Error(t, err)
	require.False(t, IsRefused(err), "nobody is there")
}
