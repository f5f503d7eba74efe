package engine

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/engine/triggers"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// called sends a card to a flow that waits for it below ask.
func (w *world) called(e *Engine, body []byte, key string) *Accepted {
	w.t.Helper()
	c, err := e.Called(w.t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask", Client: "a", Key: key})
	require.NoError(w.t, err)
	defer c.Leave()
	t, err := e.Request(w.t.Context(), c, body)
	require.NoError(w.t, err)
	return t
}

// kept counts rows of the product's own database.
func (w *world) kept(sql string, args ...any) (n int) {
	w.t.Helper()
	require.NoError(w.t, w.db.QueryRow(w.t.Context(), sql, args...).Scan(&n))
	return n
}

// jobs are how many jobs the queue has, or had, for a run.
func (w *world) jobs(run uuid.UUID) int {
	w.t.Helper()
	return w.kept("select count(*) from river_job where args->>'run' = $1", run.String())
}

const direct = `flow: Asking
trigger: {kind: request, path: ask, input: sign-up, as: card, output: sign-up, wait: 30}
steps:
  - {step: reference, id: known, is: card.card}
  - step: choose
    id: c
    when:
      - if: card.name == "Nobody"
        steps: [{step: stop, id: no, text: '"nobody is not taken"'}]
  - {step: note, id: n, text: '"hail " + card.name', where: the event log}
  - {step: set, id: broken, values: {n: 'integer(card.card)'}, as: number}
  - {step: answer, id: a, with: {card: card.card, name: upper(card.name), mail: card.mail, kiosk: card.kiosk, at: card.at}, status: "201"}
`

// TestACallIsDoneWhereItComesIn: its run is over before the call returns, without a job of the queue, and there is of it what
// there is of every other run.
func TestACallIsDoneWhereItComesIn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("asking", map[string]string{"flows/asking.yaml": direct})

	taken := w.called(e, card("17", "Ada"), "")
	require.NotNil(t, taken.Finished)
	require.Zero(t, w.jobs(taken.Run))
	r, err := store.RunByID(t.Context(), w.db, taken.Run)
	require.NoError(t, err)
	require.Equal(t, store.Done, r.State)
	require.Equal(t, 201, r.Reply.Status)
	require.JSONEq(t, string(taken.Finished.Answer), string(r.Answer))
	require.Contains(t, string(r.Answer), `"ADA"`)
	require.False(t, r.StartedAt.Before(r.CreatedAt))
	require.False(t, r.EndedAt.Before(*r.StartedAt))
	require.Equal(t, r.StartedAt.UTC(), taken.Finished.StartedAt.UTC(), "by which formulas told the time")
	require.Equal(t, 1, r.Counts["a"].Out)
	refs, err := store.References(t.Context(), w.db, r.ID, 5)
	require.NoError(t, err)
	require.Equal(t, []running.Reference{{Record: running.WholeRun, Text: "17"}}, refs)
	require.Equal(t, "hail Ada", w.noted(r))
	entry, err := journal.Of(t.Context(), e.db, r.ID, running.WholeRun)
	require.NoError(t, err)
	require.JSONEq(t, `{"n": 17}`, string(entry.Values["number"]))

	stopped := w.called(e, card("18", "Nobody"), "")
	require.NotNil(t, stopped.Finished)
	require.Equal(t, store.SetAside, stopped.Finished.State)
	r, err = store.RunByID(t.Context(), w.db, stopped.Run)
	require.NoError(t, err)
	require.Equal(t, store.SetAside, r.State)
	require.Equal(t, fault.Stopped, r.Fault.Code)
	require.Contains(t, r.Fault.What(), "nobody is not taken")
}

// TestACallThatIsSetAsideIsMendedAsAnyRun: it waits for somebody, who lets it go on from where it came to.
func TestACallThatIsSetAsideIsMendedAsAnyRun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("asking", map[string]string{"flows/asking.yaml": direct})
	taken := w.called(e, card("A1", "Ada"), "")
	require.NotNil(t, taken.Finished)
	r := w.over(taken.Run)
	require.Equal(t, store.SetAside, r.State)
	require.Contains(t, r.Fault.Error(), "A1")
	require.NoError(t, e.Resume(t.Context(), r.ID))
	r = testkit.Until(t, "the run to be taken on", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, taken.Run)
		require.NoError(t, err)
		return r, r.ClaimVersion == 2 && r.Ended()
	})
	require.Equal(t, store.SetAside, r.State)
	require.Equal(t, 1, w.kept("select count(*) from event where run = $1", r.ID), "it was told once")
	require.Equal(t, 1, w.kept("select count(*) from run where flow = 'asking'"))
}

const onceFlow = `flow: Asking
trigger: {kind: request, path: ask, input: sign-up, as: card, wait: 30}
steps:
  - {step: once, id: o, key: card.card}
  - {step: note, id: n, text: card.name, where: the event log}
`

// TestWhatOutlivesItsRunIsRecordedFirst: a flow that keeps keys for later runs is done where the call came in, too.
func TestWhatOutlivesItsRunIsRecordedFirst(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("asking", map[string]string{"flows/asking.yaml": onceFlow})
	for _, name := range []string{"Ada", "Jon"} {
		taken := w.called(e, card("1", name), "")
		require.Nil(t, taken.Finished)
		r, err := e.Ended(t.Context(), taken)
		require.NoError(t, err)
		require.Equal(t, store.Done, r.State)
		require.Zero(t, w.jobs(taken.Run))
	}
	require.Equal(t, 1, w.kept("select count(*) from event where flow = 'asking'"))
	require.Empty(t, e.callers.runs(), "nobody waits any more")
}

// TestACallThatFindsNoPlaceIsDoneByTheQueue: so many are done here as the process has hands for.
func TestACallThatFindsNoPlaceIsDoneByTheQueue(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Hands: 1})
	w.add("asking", map[string]string{"flows/asking.yaml": onceFlow})
	e.hands <- struct{}{}
	taken := w.called(e, card("1", "Ada"), "k")
	<-e.hands
	r, err := e.Ended(t.Context(), taken)
	require.NoError(t, err)
	require.Equal(t, store.Done, r.State)
	require.Equal(t, 1, w.jobs(taken.Run))
	again := w.called(e, card("1", "Ada"), "k")
	require.Equal(t, taken.Run, again.Run, "whichever way it went")
	require.Equal(t, 1, w.kept("select count(*) from run where flow = 'asking'"))
}

// TestACallsRunThatFailsGoesIntoTheQueue: it waits there until its system is back, and what was done is not done again.
func TestACallsRunThatFailsGoesIntoTheQueue(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Backoff: func(int) time.Duration { return 100 * time.Millisecond }, Attempts: 100})
	w.add("asking", map[string]string{"flows/asking.yaml": `flow: Asking
trigger: {kind: request, path: ask, input: sign-up, as: card, wait: 30}
steps:
  - {step: call, id: put, connection: harbour-ledger, operation: put-member, with: {card: card.card, name: card.name, mail: card.mail, kiosk: card.kiosk, at: card.at}, as: first}
`, "connections/harbour-ledger.yaml": w.part("connections/harbour-ledger.yaml") + "  - operation: put-member\n    name: Put a member\n    kind: insert\n    request: sign-up\n    table: kiosk_member\n"})
	w.setLedger(false)
	taken := w.called(e, card("C1", "Ada"), "")
	r := testkit.Until(t, "the run to be tried again", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, taken.Run)
		require.NoError(t, err)
		return r, r.State == store.Retrying || r.ClaimVersion > 2
	})
	require.Equal(t, fault.Outside, r.Fault.Code)
	w.setLedger(true)
	r = w.over(taken.Run)
	require.Equal(t, store.Done, r.State, r.Fault)
	require.Equal(t, 1, w.jobs(taken.Run), "one job, that was made when it failed")
	require.Equal(t, 1, w.count("select count(*) from kiosk_member where card = 'C1'"))
}

// TestTheRunOfACallOutlivesItsProcess: another one takes it up, and so does its own when its end could not be recorded.
func TestTheRunOfACallOutlivesItsProcess(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Silence: 300 * time.Millisecond})
	w.add("asking", map[string]string{"flows/asking.yaml": onceFlow})
	for _, worker := range []string{"one that died", e.ID} {
		c, err := e.Called(t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask", Client: "a"})
		require.NoError(t, err)
		r := c.run(triggers.Start{By: "request", Input: card(worker, "Ada")})
		r.Reference = "x"
		r, err = store.AddClaimed(t.Context(), w.db, r, worker) // and there the process ends
		require.NoError(t, err)
		c.Leave()
		r = w.over(r.ID)
		require.Equal(t, store.Done, r.State)
		require.EqualValues(t, 2, r.ClaimVersion)
		require.Equal(t, 1, r.Attempt, "what a process did not end is no try")
		require.Equal(t, worker != e.ID, r.Deaths == 1)
	}
}

// TestCallsWithOneKeyAreOneRun: however many come at once.
func TestCallsWithOneKeyAreOneRun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("asking", map[string]string{"flows/asking.yaml": direct})
	runs := make([]uuid.UUID, 30)
	var wg sync.WaitGroup
	for i := range runs {
		wg.Go(func() {
			c, err := e.Called(t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask", Client: "a", Key: "k"})
			if err != nil {
				t.Error(err)
				return
			}
			defer c.Leave()
			taken, err := e.Request(t.Context(), c, card("17", "Ada"))
			if err != nil {
				t.Error(err)
				return
			}
			runs[i] = taken.Run
		})
	}
	wg.Wait()
	for _, id := range runs {
		require.Equal(t, runs[0], id)
	}
	require.Equal(t, 1, w.kept("select count(*) from run where flow = 'asking'"))
	require.Equal(t, 1, w.kept("select count(*) from event where flow = 'asking'"))

	c, err := e.Called(t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask", Client: "a", Key: "k"})
	require.NoError(t, err)
	defer c.Leave()
	_, err = e.Request(t.Context(), c, card("18", "Ada"))
	var no *Rejected
	require.ErrorAs(t, err, &no)
	require.Equal(t, 422, no.Status)
}

// TestACallTakesTheReleaseThatWasJustMade: what is remembered of routes is never older than what this process has done.
func TestACallTakesTheReleaseThatWasJustMade(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	for _, word := range []string{"one", "two", "three"} {
		w.add("asking", map[string]string{"flows/asking.yaml": "flow: Asking\ntrigger: {kind: request, path: ask, input: sign-up, wait: 30}\nsteps:\n  - {step: note, id: n, text: '\"" + word + "\"'}\n"})
		taken := w.called(e, card("1", "Ada"), "")
		require.NotNil(t, taken.Finished)
		require.Equal(t, word, w.noted(*taken.Finished))
	}
	require.NoError(t, e.PauseTrigger(t.Context(), testkit.Skerry, "asking", "mo", "the desk is closed"))
	_, err := e.Called(t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask"})
	require.ErrorContains(t, err, "the desk is closed")
	require.NoError(t, e.ResumeTrigger(t.Context(), testkit.Skerry, "asking"))
	require.NotNil(t, w.called(e, card("1", "Ada"), "").Finished)
}

// failing is a log that panics once at a message, as a step may that has a fault of its own.
type failing struct {
	slog.Handler
	at   string
	once *sync.Once
}

func (f failing) Handle(_ context.Context, r slog.Record) error {
	if r.Message == f.at {
		f.once.Do(func() { panic("beyond all expectation") })
	}
	return nil
}

func (f failing) Enabled(context.Context, slog.Level) bool { return true }

// TestAPanicInTheRunOfACallEndsNothingElse: the process lives, the place is free again, and the next call is done.
func TestAPanicInTheRunOfACallEndsNothingElse(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	pool := connector.Same[store.Scope](w.settings, connector.Rules{})
	t.Cleanup(pool.Close)
	e, err := New(w.db, pool, Options{Hands: 1, Log: slog.New(failing{slog.DiscardHandler, "run ended", &sync.Once{}})})
	require.NoError(t, err)
	w.engine = e
	require.NoError(t, e.Start(context.WithoutCancel(t.Context())))
	t.Cleanup(e.Stop)
	w.add("asking", map[string]string{"flows/asking.yaml": onceFlow})
	first := w.called(e, card("1", "Ada"), "")
	require.Equal(t, store.Done, w.over(first.Run).State, "what was recorded stands")
	testkit.Until(t, "the place to be free", func() (int, bool) { return len(e.hands), len(e.hands) == 0 })
	second := w.called(e, card("2", "Jon"), "")
	r, err := e.Ended(t.Context(), second)
	require.NoError(t, err)
	require.Equal(t, store.Done, r.State)
	require.Zero(t, w.jobs(second.Run))
}

// TestAPanicInACallThatIsDoneInMemoryIsDoneAnotherWay: nothing is recorded of the first attempt, and the caller has the answer.
func TestAPanicInACallThatIsDoneInMemoryIsDoneAnotherWay(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("asking", map[string]string{"flows/asking.yaml": direct})
	c, err := e.Called(t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask", Client: "a"})
	require.NoError(t, err)
	defer c.Leave()
	broken := *c.Plan
	broken.Head = []*running.PlannedStep{nil}
	c.Plan = &broken
	first, err := e.Request(t.Context(), c, card("1", "Ada"))
	require.NoError(t, err)
	require.Nil(t, first.Finished, "it is not over where it came in")
	r, err := e.Ended(t.Context(), first)
	require.NoError(t, err)
	require.Equal(t, store.Done, r.State)
	require.Contains(t, string(r.Answer), `"ADA"`)
	require.Empty(t, e.places, "the place is free again")
	require.NotNil(t, w.called(e, card("2", "Jon"), "").Finished, "the next call is done as ever")
	require.Equal(t, 2, w.kept("select count(*) from run where flow = 'asking'"))
}

// TestWhatWasAnsweredToQuestionsIsRecordedWhenTheEngineStops: each has its run, with its journal and its
// reference.
func TestWhatWasAnsweredToQuestionsIsRecordedWhenTheEngineStops(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("asked", map[string]string{"flows/asked.yaml": `flow: Asked
trigger: {kind: request, method: GET, path: "cards/{no}", output: sign-up, timeout: 30}
steps:
  - {step: reference, id: known, is: request.parameters.no}
  - {step: respond, id: a, with: {card: request.parameters.no, name: '"Ada"', mail: '"ada@skerry.example"', kiosk: '"K1"', at: run.started_at}}
`})
	var wg sync.WaitGroup
	for caller := range 4 {
		wg.Go(func() {
			for i := range 25 {
				c, err := e.Called(t.Context(), testkit.Skerry, InboundRequest{Method: "GET", Path: fmt.Sprintf("cards/%d-%d", caller, i), Client: "a"})
				if !assert.NoError(t, err) {
					return
				}
				taken, err := e.Request(t.Context(), c, nil)
				c.Leave()
				assert.NoError(t, err)
				assert.NotNil(t, taken.Finished)
			}
		})
	}
	wg.Wait()
	e.Stop()
	require.Equal(t, 100, w.kept("select count(*) from run where flow = 'asked'"))
	require.Equal(t, 100, w.kept("select count(*) from journal join run on run.id = journal.run where flow = 'asked'"))
	require.Equal(t, 100, w.kept("select count(distinct r.text) from reference r join run on run.id = r.run where flow = 'asked'"))
}
