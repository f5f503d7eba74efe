package store

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
)

// TestCausesAreGrouped: what differs between faults of one cause, numbers and quoted texts, is left out; what somebody has
// dealt with is not among them, and the runs of a cause are found by it.
func TestCausesAreGrouped(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	record := 0
	aside := func(run Run, step, text string) int64 {
		record++
		require.NoError(t, AddAside(t.Context(), db, []Aside{{Run: run.ID, Record: record, Line: record, Step: step, Raw: []byte("r"), Faults: fault.List{fault.New(fault.Outside, "%s", text)}}}))
		list, err := Asides(t.Context(), db, run.ID, 10)
		require.NoError(t, err)
		return list[len(list)-1].ID
	}
	one, two := over(t, db, "a", SetAside, nil), over(t, db, "b", SetAside, nil)
	aside(one, "post", `the account of "Norholm" is closed since 2031`)
	aside(one, "post", `the account of "Lind" is closed since 2029`)
	aside(two, "post", `the account of "Haar" is closed since 2030`)
	dealt := aside(two, "map", "no such class")
	require.NoError(t, CloseAside(t.Context(), db, dealt, AsideDiscarded, nil, "mo"))
	stopped := over(t, db, "c", Stopped, fault.New(fault.Limit, "longer than 60 s").At(fault.Place{Step: "wait"}))
	over(t, db, "d", Done, nil)
	past := time.Now().Add(-time.Hour)
	causes, err := Causes(t.Context(), db, scope, past, 10)
	require.NoError(t, err)
	require.Len(t, causes, 2)
	require.Equal(t, 3, causes[0].Records)
	require.Zero(t, causes[0].Runs)
	require.Equal(t, "post", causes[0].Step)
	require.NotContains(t, causes[0].Text, "Norholm")
	require.NotContains(t, causes[0].Text, "2031")
	require.Contains(t, causes[0].Text, "the account of")
	require.Equal(t, 1, causes[1].Runs)
	require.Equal(t, "wait", causes[1].Step)
	require.NotEqual(t, causes[0].Key(), causes[1].Key())
	runs, err := RunsOfCause(t.Context(), db, scope, causes[0], past, 10)
	require.NoError(t, err)
	require.Equal(t, []uuid.UUID{two.ID, one.ID}, runs)
	runs, err = RunsOfCause(t.Context(), db, scope, causes[1], past, 10)
	require.NoError(t, err)
	require.Equal(t, []uuid.UUID{stopped.ID}, runs)
	causes, err = Causes(t.Context(), db, scope, time.Now().Add(time.Hour), 10)
	require.NoError(t, err)
	require.Empty(t, causes)
}

// TestWorkIsTakenNotedAndDone: records and runs that wait for somebody, narrowed by whose they are and what they say.
func TestWorkIsTakenNotedAndDone(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	r := over(t, db, "a", SetAside, nil)
	require.NoError(t, AddAside(t.Context(), db, []Aside{{Run: r.ID, Record: 4, Line: 5, Path: "line/1", Step: "post", Raw: []byte("r"), Faults: fault.List{fault.New(fault.Outside, "closed 100%%")}}}))
	failed := over(t, db, "b", Stopped, fault.New(fault.Limit, "too long").At(fault.Place{Step: "wait"}))
	over(t, db, "c", Done, nil)
	works := func(f WorkFilter) []WorkItem {
		f.Scope, f.Most = scope, 10
		list, err := WorkItems(t.Context(), db, f)
		require.NoError(t, err)
		return list
	}
	list := works(WorkFilter{})
	require.Len(t, list, 2)
	require.Equal(t, failed.ID, list[0].Run)
	require.Zero(t, list[0].Aside)
	require.Equal(t, "wait", list[0].Step)
	require.Equal(t, 4, list[1].Record)
	require.Equal(t, "line/1", list[1].Path)
	require.Equal(t, "closed 100%", list[1].Fault.Message)
	require.Len(t, works(WorkFilter{Text: "LONG"}), 1)
	require.Empty(t, works(WorkFilter{Text: "%0"}), "a sign of patterns stands for itself")
	require.Empty(t, works(WorkFilter{Flow: "g"}))
	require.Len(t, works(WorkFilter{Owner: "-"}), 2)

	n, err := Assign(t.Context(), db, scope, []int64{list[1].Aside}, []uuid.UUID{failed.ID}, "mo")
	require.NoError(t, err)
	require.Equal(t, int64(2), n)
	require.Empty(t, works(WorkFilter{Owner: "-"}))
	require.Len(t, works(WorkFilter{Owner: "mo"}), 2)
	n, err = Assign(t.Context(), db, Scope{"another", scope.Environment}, []int64{list[1].Aside}, []uuid.UUID{failed.ID}, "mo")
	require.NoError(t, err)
	require.Zero(t, n, "of another project")
	_, err = Assign(t.Context(), db, scope, nil, []uuid.UUID{failed.ID}, "")
	require.NoError(t, err)
	require.Len(t, works(WorkFilter{Owner: "-"}), 1)

	require.NoError(t, SetWorkNote(t.Context(), db, scope, list[1].Aside, "asked Norholm"))
	require.NoError(t, NoteRun(t.Context(), db, scope, failed.ID, "see the ledger"))
	require.ErrorIs(t, SetWorkNote(t.Context(), db, Scope{"another", scope.Environment}, list[1].Aside, "x"), ErrNotFound)
	require.ErrorIs(t, NoteRun(t.Context(), db, scope, uuid.Must(uuid.NewV7()), "x"), ErrNotFound)
	require.Equal(t, "see the ledger", works(WorkFilter{})[0].Note)
	require.Equal(t, "asked Norholm", works(WorkFilter{})[1].Note)
	open1, err := OpenWork(t.Context(), db, scope)
	require.NoError(t, err)
	require.Equal(t, 2, open1)
	require.NoError(t, ResolveRun(t.Context(), db, failed.ID, AsideDiscarded))
	require.NoError(t, CloseAsides(t.Context(), db, r.ID, []string{"other", "post"}, failed.ID, "mo"))
	require.Empty(t, works(WorkFilter{}))
	open1, err = OpenWork(t.Context(), db, scope)
	require.NoError(t, err)
	require.Zero(t, open1)
}

// TestDeedsAndSearchesAreKept: what people did, of a run or at all; each person's searches by name.
func TestDeedsAndSearchesAreKept(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	id := addRun(t, db, "a")
	require.NoError(t, AddAuditEntry(t.Context(), db, scope, "mo", "cancelled", &id, "a"))
	require.NoError(t, AddAuditEntry(t.Context(), db, scope, "mo", "paused", nil, "f"))
	deeds, err := AuditEntries(t.Context(), db, scope, nil, 10)
	require.NoError(t, err)
	require.Len(t, deeds, 2)
	require.Equal(t, "paused", deeds[0].Action)
	deeds, err = AuditEntries(t.Context(), db, scope, &id, 10)
	require.NoError(t, err)
	require.Len(t, deeds, 1)

	require.NoError(t, SaveSearch(t.Context(), db, projectID, "mo", Search{"late", "state=retrying"}))
	require.NoError(t, SaveSearch(t.Context(), db, projectID, "mo", Search{"late", "state=stopped"}))
	require.NoError(t, SaveSearch(t.Context(), db, projectID, "mo", Search{"all", "flow=f"}))
	list, err := Searches(t.Context(), db, projectID, "mo")
	require.NoError(t, err)
	require.Equal(t, []Search{{"all", "flow=f"}, {"late", "state=stopped"}}, list)
	require.Equal(t, "/traffic?flow=f", list[0].Href())
	require.NoError(t, SaveSearch(t.Context(), db, projectID, "mo", Search{Name: "late"}))
	list, err = Searches(t.Context(), db, projectID, "mo")
	require.NoError(t, err)
	require.Len(t, list, 1)
}

// TestMattersAreFound: each kind of thing that alerts look for, and nothing that is as it should be.
func TestMattersAreFound(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	past := time.Now().Add(-time.Hour)
	for _, ref := range []string{"a", "b", "c"} {
		over(t, db, ref, Stopped, fault.New(fault.Outside, `"%s" is away`, ref))
	}
	over(t, db, "d", Stopped, fault.New(fault.Cancelled, "somebody stopped it"))
	causes := func(list []Incident, err error) (out []string) {
		require.NoError(t, err)
		for _, m := range list {
			out = append(out, m.Cause)
		}
		return out
	}
	failing := func(flow, except string, times int) []string {
		return causes(FailedFlows(t.Context(), db, scope, flow, except, past, times))
	}
	require.Len(t, failing("", "", 3), 1)
	require.Len(t, failing("f", "", 1), 1, "what somebody stopped has not failed")
	require.Empty(t, failing("", "", 4))
	require.Empty(t, failing("g", "", 1))
	require.Empty(t, failing("", "f", 1), "nobody is told of the flow that tells")
	found, err := FailedFlows(t.Context(), db, scope, "f", "", past, 1)
	require.NoError(t, err)
	require.NotNil(t, found[0].Run)
	require.NotNil(t, found[0].Fault)
	still, err := StillFailed(t.Context(), db, scope, found[0].Cause, "f")
	require.NoError(t, err)
	require.Equal(t, found[0].Count, still.Count)
	none, err := StillFailed(t.Context(), db, scope, "f: something else", "f")
	require.NoError(t, err)
	require.Nil(t, none)

	require.Empty(t, causes(FlowsWithoutRuns(t.Context(), db, scope, "f", past)), "some have arrived")
	missing, err := FlowsWithoutRuns(t.Context(), db, scope, "f", time.Now().Add(time.Hour))
	require.NoError(t, err)
	require.Contains(t, missing[0].Text, "nothing has arrived since")

	waiting := addRun(t, db, "w")
	require.Equal(t, []string{"f"}, causes(Backlogs(t.Context(), db, scope, "", "", 0)))
	require.Empty(t, causes(Backlogs(t.Context(), db, scope, "", "", 1)))
	backlog, err := Backlog(t.Context(), db, scope)
	require.NoError(t, err)
	require.Equal(t, map[string]int{"f": 1}, backlog)
	_, err = Claim(t.Context(), db, waiting, "w")
	require.NoError(t, err)
	require.Empty(t, causes(LongRuns(t.Context(), db, scope, "", "", past)))
	require.Equal(t, []string{waiting.String()}, causes(LongRuns(t.Context(), db, scope, "", "", time.Now().Add(time.Minute))))

	for _, well := range []bool{true, false} {
		changed, err := SaveHealth(t.Context(), db, scope.In("Live"), Health{Connection: "desk", Healthy: well, Fault: "refused"})
		require.NoError(t, err)
		require.Equal(t, []string{"desk"}, changed)
	}
	changed, err := SaveHealth(t.Context(), db, scope.In("Live"), Health{Connection: "desk", Fault: "refused"})
	require.NoError(t, err)
	require.Empty(t, changed)
	require.Empty(t, causes(DownConnections(t.Context(), db, scope.In("Live"), "", past)), "not yet that long")
	down, err := DownConnections(t.Context(), db, scope.In("Live"), "desk", time.Now().Add(time.Minute))
	require.NoError(t, err)
	require.Equal(t, "desk cannot be used: refused", down[0].Text)
	require.Empty(t, causes(DownConnections(t.Context(), db, scope.In("Trial"), "", time.Now().Add(time.Minute))))
	healths, err := Healths(t.Context(), db, scope.In("Live"))
	require.NoError(t, err)
	require.False(t, healths["desk"].Healthy)
	require.NotNil(t, healths["desk"].LastOKAt, "when it was well last is remembered")
}

// TestAnAlarmIsToldRemindedAndCleared.
func TestAnAlarmIsToldRemindedAndCleared(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	first, second := addRun(t, db, "a"), addRun(t, db, "b")
	require.NoError(t, RecordFirst(t.Context(), db, scope, "away", Incident{Cause: "desk", Text: "desk is away", Since: time.Now()}, first))
	require.NoError(t, RecordFirst(t.Context(), db, scope, "other", Incident{Cause: "x", Text: "x", Since: time.Now()}, first))
	list, err := OpenAlertStates(t.Context(), db, scope, "away")
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, 1, list[0].NotifiedCount)
	require.NoError(t, Recount(t.Context(), db, list[0].ID, Incident{Text: "away twice", Count: 2}))
	require.NoError(t, RecordRepeat(t.Context(), db, list[0].ID, Incident{Text: "still away", Count: 3}, second))
	require.NoError(t, Resolve(t.Context(), db, list[0].ID, nil))
	list, err = OpenAlertStates(t.Context(), db, scope, "away")
	require.NoError(t, err)
	require.Empty(t, list)
	all, err := AlertStates(t.Context(), db, scope, 10)
	require.NoError(t, err)
	require.Len(t, all, 2)
	require.Equal(t, "other", all[0].Alert, "what is not over stands first")
	require.Equal(t, 2, all[1].NotifiedCount)
	require.Equal(t, 3, all[1].Count)
	require.Equal(t, second, *all[1].Run)
	require.NotNil(t, all[1].ResolvedAt)
}

// TestFiguresAddUp: counts of a minute are one row whoever counts; they are summed in steps, and spans of duration add up.
func TestFiguresAddUp(t *testing.T) {
	db := open(t)
	count := func(name string, failed bool, took ...time.Duration) Metric {
		f := Metric{Kind: "flow", Name: name}
		for _, d := range took {
			f.Add(d, failed)
		}
		return f
	}
	require.NoError(t, AddMetrics(t.Context(), db, scope, []Metric{count("f", false, time.Millisecond, 3*time.Millisecond), count("g", true, time.Hour)}))
	require.NoError(t, AddMetrics(t.Context(), db, scope, []Metric{count("f", true, 3*time.Millisecond)}))
	list, err := Metrics(t.Context(), db, scope, time.Now().Add(-time.Hour), 60*24)
	require.NoError(t, err)
	sums := map[string]Metric{}
	for _, f := range list {
		s := sums[f.Name]
		s.Count, s.Failed, s.Durations = s.Count+f.Count, s.Failed+f.Failed, f.Durations
		sums[f.Name] = s
	}
	require.Equal(t, 3, sums["f"].Count)
	require.Equal(t, 1, sums["f"].Failed)
	require.Equal(t, 1, sums["g"].Failed)
	n, err := SweepMetrics(t.Context(), db, scope.Environment, time.Now().Add(-time.Hour), 10)
	require.NoError(t, err)
	require.Zero(t, n)
	n, err = SweepMetrics(t.Context(), db, scope.Environment, time.Now().Add(time.Hour), 10)
	require.NoError(t, err)
	require.Equal(t, int64(len(list)), n)

	all := count("h", false, 0, time.Millisecond, 2*time.Millisecond, 100*time.Millisecond, 1000*time.Hour)
	require.Equal(t, 2*time.Millisecond, all.Quantile(0.5))
	require.Equal(t, 128*time.Millisecond, all.Quantile(0.8))
	require.Equal(t, time.Millisecond<<(Spans-1), all.Quantile(1))
	require.Zero(t, (&Metric{}).Quantile(0.5))
	for d, want := range map[time.Duration]int{0: 0, time.Millisecond: 0, 1500 * time.Microsecond: 0, 2 * time.Millisecond: 1, 3 * time.Millisecond: 2, 4 * time.Millisecond: 2, 5 * time.Millisecond: 3} {
		require.Equal(t, want, DurationBucket(d), d)
	}
}

// TestTriggersAreLookedAtByOne: while one worker looks another does not; what is noted with a look is rolled back with it.
func TestTriggersAreLookedAtByOne(t *testing.T) {
	db := open(t)
	none, err := TriggerOf(t.Context(), db, scope, "f")
	require.NoError(t, err)
	require.Equal(t, Trigger{}, none)
	in(t, db, func(tx pgx.Tx) error {
		_, ok, err := LockTrigger(t.Context(), tx, scope, "f")
		require.NoError(t, err)
		require.True(t, ok)
		require.NoError(t, SetWatermark(t.Context(), tx, scope, "f", "17"))
		return SetNext(t.Context(), tx, scope, "f", "daily", time.Now().Add(-time.Second))
	})
	in(t, db, func(tx pgx.Tx) error {
		held, ok, err := LockTrigger(t.Context(), tx, scope, "f")
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, "17", held.Rising)
		in(t, db, func(other pgx.Tx) error {
			_, ok, err := LockTrigger(t.Context(), other, scope, "f")
			require.NoError(t, err)
			require.False(t, ok, "somebody looks at it now")
			return nil
		})
		return nil
	})
	require.NoError(t, AskNext(t.Context(), db, scope, "f", time.Hour))
	next, err := TriggerOf(t.Context(), db, scope, "f")
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(time.Hour), next.NextAt, time.Minute)
	require.Equal(t, "17", next.Rising)
	require.NoError(t, Pause(t.Context(), db, scope, "f", "mo", "stocktaking"))
	in(t, db, func(tx pgx.Tx) error {
		_, ok, err := LockTrigger(t.Context(), tx, scope, "f")
		require.NoError(t, err)
		require.False(t, ok, "it is paused, whatever a look knew that had begun before")
		return nil
	})
	require.NoError(t, RecordPoll(t.Context(), db, scope, "f", "the folder is away"))
	require.NoError(t, Pause(t.Context(), db, scope, "f", "mo", "cleaning"))
	kept, err := TriggerOf(t.Context(), db, scope, "f")
	require.NoError(t, err)
	require.Equal(t, "the folder is away", kept.Fault)
	require.Equal(t, "daily", kept.Spec)
	require.Equal(t, "mo", *kept.PausedBy)
	require.Equal(t, "cleaning", kept.PausedFor)
	require.NotNil(t, kept.LookedAt)
	paused, err := Paused(t.Context(), db, scope.Environment)
	require.NoError(t, err)
	require.Equal(t, map[[2]string]bool{{projectID, "f"}: true}, paused)
	require.NoError(t, Unpause(t.Context(), db, scope, "f"))
	paused, err = Paused(t.Context(), db, scope.Environment)
	require.NoError(t, err)
	require.Empty(t, paused)
}

// TestSecretsAreKeptSealed: replaced by name with a new version, sealed anew without one, told of with the connections that
// name them, and never given with the list.
func TestSecretsAreKeptSealed(t *testing.T) {
	db := open(t)
	save := func(env, name, content, about string) {
		require.NoError(t, SaveSecret(t.Context(), db, Sealed{Scope: scope.In(env), Name: name, KeyID: "k1", Content: []byte(content)}, Secret{Type: "password", About: about, ChangedBy: "mo"}))
	}
	save("Live", "desk", "x1", "of the desk")
	save("Live", "desk", "x2", "")
	save("Trial", "desk", "y", "")
	list, err := Secrets(t.Context(), db, scope.In("Live"))
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "of the desk", list[0].About, "what is told of it stays")
	require.Equal(t, int64(2), list[0].Version)
	sealed, err := SealedSecret(t.Context(), db, scope.In("Live"), "desk")
	require.NoError(t, err)
	require.Equal(t, "x2", string(sealed.Content))
	_, err = SealedSecret(t.Context(), db, scope.In("Live"), "none")
	require.ErrorIs(t, err, ErrNotFound)
	in(t, db, func(tx pgx.Tx) error {
		all, err := AllSealed(t.Context(), tx)
		require.NoError(t, err)
		require.Len(t, all, 2)
		all[0].KeyID, all[0].Content = "k2", []byte("z")
		return Reencrypt(t.Context(), tx, all[0])
	})
	sealed, err = SealedSecret(t.Context(), db, scope.In("Live"), "desk")
	require.NoError(t, err)
	require.Equal(t, "k2", sealed.KeyID)
	require.Equal(t, int64(2), sealed.Version, "it is the same secret")

	require.NoError(t, SaveSetting(t.Context(), db, scope.In("Live"), Setting{Connection: "quay", Kind: "http", Chosen: map[string]string{"token": "desk", "address": "x"}}, 0, "mo"))
	require.ErrorIs(t, SaveSetting(t.Context(), db, scope.In("Live"), Setting{Connection: "quay", Kind: "http", Chosen: map[string]string{}}, 77, "mo"), ErrChanged)
	users, err := SecretUsers(t.Context(), db, scope.In("Live"))
	require.NoError(t, err)
	require.Equal(t, map[string][]string{"desk": {"quay"}}, users)
	there, err := Configured(t.Context(), db, "Live")
	require.NoError(t, err)
	require.Equal(t, map[string][]string{projectID: {"quay"}}, there)
	require.NoError(t, DeleteSecret(t.Context(), db, scope.In("Live"), "desk"))
	require.ErrorIs(t, DeleteSecret(t.Context(), db, scope.In("Live"), "desk"), ErrNotFound)
}
