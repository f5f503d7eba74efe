package engine

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// release releases parts of the demo.
func (w *world) release(kind string, ids ...string) {
	w.t.Helper()
	for _, id := range ids {
		_, err := w.engine.CreateRelease(w.t.Context(), testkit.Skerry, project.ReleaseID(kind, id), "", "mo")
		require.NoError(w.t, err)
	}
}

// runsOf waits until a flow has so many runs that are over, and gives them, the oldest first.
func (w *world) runsOf(flow string, n int) []store.Run {
	w.t.Helper()
	return testkit.Until(w.t, fmt.Sprintf("%d runs of %s", n, flow), func() ([]store.Run, bool) {
		list, err := store.Runs(w.t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Flow: flow, Most: n + 10})
		require.NoError(w.t, err)
		slices.SortFunc(list, func(a, b store.Run) int { return strings.Compare(a.ID.String(), b.ID.String()) })
		return list, len(list) == n && !slices.ContainsFunc(list, func(r store.Run) bool { return !r.Ended() })
	})
}

// inChannel are the messages of a channel, the oldest first.
func (w *world) inChannel(name string) []store.ChannelMessage {
	w.t.Helper()
	id, err := store.ChannelID(w.t.Context(), w.db, testkit.Skerry, name)
	require.NoError(w.t, err)
	list, err := store.NextMessages(w.t.Context(), w.db, id, store.ChannelPlace{}, 10_000)
	require.NoError(w.t, err)
	return list
}

func scan(n int, gate string) NewMessage {
	return NewMessage{ID: fmt.Sprint("scan-", n), Headers: []running.Pair{{Name: "device", Value: "hand " + gate}}, Media: "application/json", Body: fmt.Appendf(nil,
		`{"scan": "%s-%06d", "gate": "%s", "plate": "SK %05d", "sailing": "LS204", "at": "2031-03-09T06:41:07Z"}`, gate, n, gate, n)}
}

// TestAQueueIsCopiedAndBridgedToATopic: its reader sees no difference, the copies have ids, keys and headers, and those that the flow
// publishes are there exactly once, in their order.
func TestAQueueIsCopiedAndBridgedToATopic(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.release(project.Channels, "gate-scans")
	w.release(project.Flows, "gate-scans-to-log")
	const total = 250
	for from := 0; from < total; from += 50 {
		var list []NewMessage
		for i := range 50 {
			list = append(list, scan(from+i, []string{"G1", "G2"}[i%2]))
		}
		done, err := e.PutMessages(t.Context(), testkit.Skerry, "gate-scans", list)
		require.NoError(t, err)
		for _, d := range done {
			require.Nil(t, d.Fault)
		}
	}
	done, err := e.PutMessages(t.Context(), testkit.Skerry, "gate-scans", []NewMessage{scan(7, "G1"), scan(total, "G1")})
	require.NoError(t, err)
	require.Equal(t, []bool{true, false}, []bool{done[0].Double, done[1].Double})
	runs := w.runsOf("gate-scans-to-log", total+1)
	for _, r := range runs {
		require.Equal(t, store.Done, r.State, r.Fault)
	}
	read, copied, logged := w.inChannel("gate-scans"), w.inChannel("gate-scans-copy"), w.inChannel("sailing-log")
	require.Len(t, read, total+1)
	require.Len(t, copied, total+1)
	require.Len(t, logged, total+1)
	seen := map[string]int{}
	for i := range read {
		require.Equal(t, read[i].MessageID, copied[i].MessageID)
		require.Equal(t, read[i].Body, copied[i].Body)
		require.Equal(t, read[i].Headers, copied[i].Headers)
		require.Equal(t, "LS204", logged[i].Key, "as the topic says")
		seen[string(logged[i].Body)]++
	}
	require.Len(t, seen, total+1)

	id, err := store.ChannelID(t.Context(), w.db, testkit.Skerry, "gate-scans")
	require.NoError(t, err)
	r, err := store.AddReader(t.Context(), w.db, id, "", store.FromNow)
	require.NoError(t, err)
	lag, err := store.LagOf(t.Context(), w.db, r.ID)
	require.NoError(t, err)
	require.Equal(t, total+1, lag.Messages, "the reader of the queue has all before it")
}

// TestSubscribersKnowNothingOfEachOther: each flow gets every message that it wants; one that is paused goes on where it was, and one that
// is released later begins then.
func TestSubscribersKnowNothingOfEachOther(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.release(project.Flows, "consignment-billing", "consignment-slots")
	put := func(number, metres string) {
		done, err := e.PutMessages(t.Context(), testkit.Skerry, "consignments", []NewMessage{{Media: "application/json", Body: []byte(
			`{"number": "` + number + `", "shipper": "Northsound", "sailing": "LS204", "goods": "fish", "lane_m": ` + metres + `, "weight_kg": 21400}`,
		)}})
		require.NoError(t, err)
		require.Nil(t, done[0].Fault)
	}
	reads := func(flow string) bool {
		id, err := store.ChannelID(t.Context(), w.db, testkit.Skerry, "consignments")
		require.NoError(t, err)
		list, err := store.Readers(t.Context(), w.db, id)
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(r store.ChannelReader) bool { return r.Name == flow })
	}
	for _, flow := range []string{"consignment-billing", "consignment-slots"} {
		testkit.Until(t, flow+" subscribes", func() (bool, bool) { return true, reads(flow) })
	}
	put("C-1", "13.6")
	put("C-2", "0")
	bills := w.runsOf("consignment-billing", 2)
	require.Equal(t, []string{"C-1", "C-2"}, []string{bills[0].Reference, bills[1].Reference})
	require.Equal(t, "C-1", w.runsOf("consignment-slots", 1)[0].Reference, "the other one it does not want")
	require.NoError(t, e.PauseTrigger(t.Context(), testkit.Skerry, "consignment-billing", "mo", "month end"))
	w.release(project.Flows, "consignment-stowage")
	testkit.Until(t, "stowage subscribes", func() (bool, bool) { return true, reads("consignment-stowage") })
	put("C-3", "7")
	require.Equal(t, "C-3", w.runsOf("consignment-stowage", 1)[0].Reference)
	require.Len(t, w.runsOf("consignment-billing", 2), 2)
	require.NoError(t, e.ResumeTrigger(t.Context(), testkit.Skerry, "consignment-billing"))
	require.Equal(t, "C-3", w.runsOf("consignment-billing", 3)[2].Reference)
}

// TestBadMessagesAreRefused: with a reason, and without keeping others waiting; what came by another way is set aside.
func TestBadMessagesAreRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.release(project.Flows, "gate-scans-to-log")
	w.release(project.Channels, "gate-scans")
	good := scan(1, "G1")
	bomb, nul := scan(3, "G1"), scan(4, "G1")
	for i := range 200 {
		bomb.Headers = append(bomb.Headers, running.Pair{Name: fmt.Sprint("h", i), Value: strings.Repeat("x", 100)})
	}
	nul.Headers = []running.Pair{{Name: "a", Value: "b\x00c"}}
	long := scan(5, "G1")
	long.Key = strings.Repeat("k", 300)
	list := []NewMessage{good, {Body: []byte(`{"scan": 7}`)}, {Body: []byte("\xff\xfe{}")}, {Body: []byte(`{"scan": "` + strings.Repeat("x", 2<<20) + `"}`)}, bomb, nul, long, {}, scan(2, "G2")}
	done, err := e.PutMessages(t.Context(), testkit.Skerry, "gate-scans", list)
	require.NoError(t, err)
	for i, d := range done {
		require.Equal(t, i > 0 && i < len(list)-1, d.Fault != nil, "%d: %v", i, d.Fault)
	}
	require.Len(t, w.runsOf("gate-scans-to-log", 2), 2)
	_, err = e.PutMessages(t.Context(), testkit.Skerry, "nowhere", list[:1])
	require.ErrorContains(t, err, "no channel")
	_, err = e.PutMessages(t.Context(), testkit.Skerry, "gate-scans", make([]NewMessage, 1001))
	require.ErrorContains(t, err, "at most 1000")

	id, err := store.ChannelID(t.Context(), w.db, testkit.Skerry, "gate-scans-copy")
	require.NoError(t, err)
	require.NoError(t, store.PutMessages(t.Context(), w.db, id, []store.ChannelMessage{{MessageID: "odd", Body: []byte("{")}}))
	done, err = e.PutMessages(t.Context(), testkit.Skerry, "gate-scans", []NewMessage{scan(9, "G1")})
	require.NoError(t, err)
	require.Nil(t, done[0].Fault)
	require.Len(t, w.runsOf("gate-scans-to-log", 3), 3, "those behind it go on")
	r, err := store.AddReader(t.Context(), w.db, id, "", store.FromNow)
	require.NoError(t, err)
	aside, err := store.AsideMessages(t.Context(), w.db, r, 10)
	require.NoError(t, err)
	require.Len(t, aside, 1)
	require.Contains(t, aside[0].Reason, "not one of the schema")
}

// TestARunStartsSoonAfterItsMessage, and with several workers each message starts one run.
func TestARunStartsSoonAfterItsMessage(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.release(project.Channels, "gate-scans")
	w.release(project.Flows, "gate-scans-to-log")
	for range 2 {
		other, err := New(w.db, e.outside, e.opt)
		require.NoError(t, err)
		require.NoError(t, other.Start(t.Context()))
		t.Cleanup(other.Stop)
	}
	const total = 60
	var all sync.WaitGroup
	for p := range 3 {
		all.Go(func() {
			for i := range total / 3 {
				if _, err := e.PutMessages(t.Context(), testkit.Skerry, "gate-scans", []NewMessage{scan(100*p+i, "G1")}); err != nil {
					t.Error(err)
				}
				time.Sleep(2 * time.Millisecond) // messages come one by one
			}
		})
	}
	all.Wait()
	runs := w.runsOf("gate-scans-to-log", total)
	require.Len(t, w.inChannel("sailing-log"), total)
	seen := map[string]bool{}
	for _, r := range runs {
		require.False(t, seen[r.Reference], r.Reference)
		seen[r.Reference] = true
	}
}
