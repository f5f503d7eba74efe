package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// TestARunThatIsStoppedTakesBackWhatItBegan: though it rests for ten minutes; it can be resumed, and then does it anew.
func TestARunThatIsStoppedTakesBackWhatItBegan(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("careful", map[string]string{"flows/careful.yaml": `
flow: Careful
trigger: {kind: person, input: sign-up}
steps:
  - {step: call, id: before, connection: harbour-ledger, operation: put-member, with: {card: '"before"', name: input.name, mail: input.mail, kiosk: input.kiosk, at: input.at}, as: first}
  - step: attempt
    id: try
    steps:
      - step: call
        id: post
        connection: harbour-ledger
        operation: put-member
        from: input
        as: put
        undo: [{step: call, id: back, connection: harbour-ledger, operation: drop-member, with: {card: input.card}, as: gone}]
      - {step: wait, id: rest, seconds: "600"}
    finally: [{step: note, id: end, text: '"in any case"'}]
`, "connections/harbour-ledger.yaml": w.part("connections/harbour-ledger.yaml") + `  - operation: put-member
    name: Put a member
    kind: insert
    request: sign-up
    table: kiosk_member
  - operation: drop-member
    name: Take a member away
    kind: delete
    request: card-only
    table: kiosk_member
    key: card
`, "schemas/card-only.yaml": "schema: Card\nnotation: json\nfields:\n  - {name: card, type: text}\n"})
	id := w.begin("careful", card("U1", "Una"))
	w.resting(id)
	members := func(card string) int { return w.count("select count(*) from kiosk_member where card = '" + card + "'") }
	require.Equal(t, 1, members("U1"))
	asked := time.Now()
	require.NoError(t, e.Cancel(t.Context(), id, "mo"))
	r := w.over(id)
	t.Logf("over %s after somebody asked", time.Since(asked).Round(time.Millisecond))
	require.Equal(t, store.Stopped, r.State)
	require.Zero(t, members("U1"), "taken back")
	require.Equal(t, 1, members("before"), "what stands in no attempt stays")

	require.NoError(t, e.Resume(t.Context(), id))
	w.resting(id)
	require.Equal(t, 1, members("U1"), "done anew")
	require.NoError(t, e.Cancel(t.Context(), id, "mo"))
	w.over(id)
	require.Zero(t, members("U1"))
}
