package edit

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
)

// bench is the demo project with one flow at hand.
type bench struct {
	t     *testing.T
	texts map[string]string
	id    string
	p     *project.Project
}

func open(t *testing.T, id string) *bench {
	t.Helper()
	texts, err := project.Read(demo.Files)
	require.NoError(t, err)
	b := &bench{t: t, texts: texts, id: id}
	return b.load()
}

func (b *bench) load() *bench {
	b.p = project.Load("skerry", b.texts)
	return b
}

func (b *bench) plan() *running.Plan { return b.p.Flow(b.id) }
func (b *bench) f() *flow.Flow       { return b.plan().Flow }
func (b *bench) path() string        { return project.Path(project.Flows, b.id) }
func (b *bench) text() []byte        { return []byte(b.texts[b.path()]) }

// keep takes a change over.
func (b *bench) keep(r Result, err error) string {
	b.t.Helper()
	require.NoError(b.t, err)
	b.texts[b.path()] = string(r.Text)
	b.load()
	return r.Selected
}

// outline writes the tree of steps by their ids.
func (b *bench) outline() string { return outline(b.f().Steps) }

func outline(steps []*flow.Step) string {
	var out []string
	for _, s := range steps {
		text := s.ID
		if s.Disabled {
			text = "(" + text + ")"
		}
		for _, t := range s.Branches {
			if len(t.Steps) > 0 {
				text += "[" + outline(t.Steps) + "]"
			}
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}

func TestStepsAreMovedCopiedAndTakenAway(t *testing.T) {
	b := open(t, "booking-to-invoice")
	require.Equal(t, "read each[keep map posting post note]", b.outline())
	require.Equal(t, "post", b.keep(Move(b.f(), b.text(), Range{"post", 2}, flow.Gap{Path: []any{"steps", 1, "steps"}, At: 1})))
	require.Equal(t, "read each[keep post note map posting]", b.outline())
	_, err := Move(b.f(), b.text(), Range{"each", 1}, flow.Gap{Path: []any{"steps", 1, "steps"}, At: 1})
	require.ErrorContains(t, err, "into themselves")
	b.keep(Nudge(b.f(), b.text(), Range{"posting", 1}, 1))
	require.Equal(t, "read each[keep post note map] posting", b.outline())
	b.keep(Nudge(b.f(), b.text(), Range{"posting", 1}, -1))
	b.keep(Nudge(b.f(), b.text(), Range{"posting", 1}, -1))
	require.Equal(t, "read each[keep post note posting map]", b.outline())
	require.Equal(t, "keep2", b.keep(Duplicate(b.f(), b.text(), Range{"keep", 1})))
	require.Equal(t, "read each[keep keep2 post note posting map]", b.outline())
	b.keep(Switch(b.f(), b.text(), Range{"keep2", 2}))
	require.Equal(t, "read each[keep (keep2) (post) note posting map]", b.outline())
	b.keep(Switch(b.f(), b.text(), Range{"keep2", 2}))
	require.NotContains(t, string(b.text()), "off:")
	require.Equal(t, "keep", b.keep(Remove(b.f(), b.text(), Range{"keep2", 1})))
	items, err := Copy(b.f(), b.text(), Range{"each", 1})
	require.NoError(t, err)
	require.Equal(t, "each2", b.keep(Paste(b.f(), b.text(), flow.Gap{Path: []any{"steps"}, At: 2}, items)))
	require.Equal(t, "read each[keep post note posting map] each2[keep2 post2 note2 posting2 map2]", b.outline())
	_, err = Paste(b.f(), b.text(), flow.Gap{Path: []any{"steps"}, At: 0}, []byte("- {a: 1}"))
	require.ErrorContains(t, err, "no steps")
	_, err = Paste(b.f(), b.text(), flow.Gap{Path: []any{"elsewhere"}, At: 0}, items)
	require.ErrorContains(t, err, "no place")
	require.Equal(t, "each", b.keep(Remove(b.f(), b.text(), Range{"keep", 9})))
	require.Equal(t, "read each each2[keep2 post2 note2 posting2 map2]", b.outline())
}

func TestStepsAreWrappedAndBranchesAdded(t *testing.T) {
	b := open(t, "booking-to-invoice")
	before := string(b.text())
	require.Equal(t, "try", b.keep(Wrap(b.f(), b.text(), Range{"post", 2}, "try", "")))
	require.Equal(t, "read each[keep map posting try[post note]]", b.outline())
	require.Equal(t, "choose", b.keep(Wrap(b.f(), b.text(), Range{"note", 1}, "choose", "")))
	b.keep(AddTrack(b.f(), b.text(), "choose"))
	require.Len(t, b.f().Step("choose").Branches, 3)
	b.keep(RemoveTrack(b.f(), b.text(), "choose", 1))
	_, err := RemoveTrack(b.f(), b.text(), "choose", 0)
	require.ErrorContains(t, err, "the last branch")
	require.Equal(t, "note", b.keep(Unwrap(b.f(), b.text(), "choose")))
	require.Equal(t, "post", b.keep(Unwrap(b.f(), b.text(), "try")))
	require.Equal(t, before, string(b.text()), "nothing else has changed")
	require.Equal(t, "each2", b.keep(Wrap(b.f(), b.text(), Range{"post", 1}, "each", "booking.lines")))
	require.Equal(t, "booking.lines", b.f().Step("each2").Setting("of"))
	_, err = Unwrap(b.f(), b.text(), "keep")
	require.ErrorContains(t, err, "holds no steps")
}

// TestWhatIsOfferedFits: every offer can be put where it is offered, and asks for no name that is not there.
func TestWhatIsOfferedFits(t *testing.T) {
	b := open(t, "booking-to-invoice")
	gap := flow.Gap{Path: []any{"steps", 1, "steps"}, At: 3}
	offers := Offers(b.p, b.plan(), gap)
	keys := map[string]bool{}
	for _, o := range offers {
		keys[o.Key] = true
	}
	for key, want := range map[string]bool{
		"operation/harbour-ledger/post-invoice": true, "mapping/booking-to-invoice": true, "mapping/invoice-to-posting": true, "kind/choose": true,
		"mapping/reading-to-tide-level": false, "kind/read": false, "kind/answer": false, "operation/quayside/list-bookings": true,
	} {
		require.Equal(t, want, keys[key], key)
	}
	before := b.text()
	for _, o := range offers {
		id := b.keep(Insert(b.f(), b.text(), gap, o))
		require.NotNil(t, b.f().Step(id), o.Key)
		for _, f := range b.plan().Faults {
			require.NotContains(t, f.What(), "is taken already", o.Key)
			require.NotContains(t, f.What(), "unknown setting", o.Key)
		}
		b.texts[b.path()] = string(before)
		b.load()
	}
	o, ok := Find(offers, "operation/harbour-ledger/post-invoice")
	require.True(t, ok)
	b.keep(Insert(b.f(), b.text(), gap, o))
	require.Equal(t, "posting", b.f().Step("post-invoice").Setting("from"), "the record that is the request is found")
	require.Equal(t, "invoice.party", ListAt(b.p, b.plan(), gap))
}

// TestStepsBecomeAFlowOfTheirOwn: what they read becomes its input, what is read behind them its answer, and
// nothing has a fault.
func TestStepsBecomeAFlowOfTheirOwn(t *testing.T) {
	b := open(t, "booking-to-invoice")
	made, r, err := Extract(b.p, b.plan(), b.text(), Range{"posting", 2}, "post-it", "Post it")
	require.NoError(t, err)
	b.texts["flows/post-it.yaml"] = string(made)
	require.Equal(t, "post-it", b.keep(r, nil))
	require.Equal(t, "read each[keep map post-it note]", b.outline())
	require.Empty(t, b.p.Faults)
	require.Equal(t, "posting post respond", outline(b.p.Flow("post-it").Flow.Steps))
	require.Equal(t, "invoice", b.p.Flow("post-it").Input.ID)
	require.Equal(t, "posted", b.p.Flow("post-it").Output.ID)
	_, _, err = Extract(b.p, b.plan(), b.text(), Range{"post-it", 2}, "two", "Two")
	require.ErrorContains(t, err, "the steps read invoice and booking")
}

// TestSourcesAreBoundByWhatFits: a mapping is offered wherever records of its schemas are in scope, whatever they are called,
// and bound to them; where they are only inside of an each, it comes with it.
func TestSourcesAreBoundByWhatFits(t *testing.T) {
	b := open(t, "booking-to-invoice")
	b.texts[b.path()] = strings.ReplaceAll(strings.ReplaceAll(string(b.text()), "as: booking", "as: order"), "booking.", "order.")
	b.texts[b.path()] = strings.Replace(b.texts[b.path()], "of: booking", "of: order", 1)
	b.texts[b.path()] = strings.Replace(b.texts[b.path()], "        mapping: booking-to-invoice\n", "        mapping: booking-to-invoice\n        sources: {booking: order}\n", 1)
	b.load()
	require.Empty(t, b.plan().Faults)
	offer, ok := Find(Offers(b.p, b.plan(), flow.Gap{Path: []any{"steps", 1, "steps"}, At: 1}), "mapping/booking-to-invoice")
	require.True(t, ok)
	require.Empty(t, offer.Each)
	b.keep(Insert(b.f(), b.text(), flow.Gap{Path: []any{"steps", 1, "steps"}, At: 1}, offer))
	require.Empty(t, b.plan().Faults, "it is bound to order")
	require.Equal(t, []string{"order"}, b.plan().Planned("booking-to-invoice").Sources)

	b.texts[b.path()] = "flow: Orders\ntrigger: {kind: records, connection: quayside, operation: list-bookings, rising: changed, with: {since: rising}}\nsteps:\n  - {step: read, id: read, as: order}\n"
	b.load()
	offer, ok = Find(Offers(b.p, b.plan(), flow.Gap{Path: []any{"steps"}, At: 1}), "mapping/booking-to-invoice")
	require.True(t, ok)
	require.Equal(t, "order", offer.Each)
	require.Equal(t, "booking-to-invoice", b.keep(Insert(b.f(), b.text(), flow.Gap{Path: []any{"steps"}, At: 1}, offer)))
	require.Equal(t, "read each[booking-to-invoice]", b.outline())
	require.Empty(t, b.plan().Faults)
}

// TestAStepThatNeedsAnEachIsWrapped: only where that mends it.
func TestAStepThatNeedsAnEachIsWrapped(t *testing.T) {
	b := open(t, "booking-to-invoice")
	require.Empty(t, wrapped(b, "map"), "it has no faults")
	b.keep(Unwrap(b.f(), b.text(), "each"))
	require.Equal(t, "read keep map posting post note", b.outline())
	require.NotEmpty(t, b.plan().Planned("map").Faults)
	require.Equal(t, "booking", wrapped(b, "map"))
	b.keep(Wrap(b.f(), b.text(), Range{"keep", 5}, "each", "booking"))
	require.Empty(t, b.plan().Faults)
	b.texts[b.path()] = strings.Replace(string(b.text()), "mapping: booking-to-invoice", "mapping: nowhere", 1)
	b.load()
	require.Empty(t, wrapped(b, "map"), "another each would not help")
}

func wrapped(b *bench, step string) string {
	_, of := InEach(b.p, b.plan(), step)
	return of
}

// TestValuesAreTakenFromScopeByName: one for each field of a schema, with what has its name; what is there stays.
func TestValuesAreTakenFromScopeByName(t *testing.T) {
	b := open(t, "booking-to-invoice")
	offer, ok := Find(Offers(b.p, b.plan(), flow.Gap{Path: []any{"steps", 1, "steps"}, At: 2}), "kind/set")
	require.True(t, ok)
	b.keep(Insert(b.f(), b.text(), flow.Gap{Path: []any{"steps", 1, "steps"}, At: 2}, offer))
	b.keep(Values(b.p, b.plan(), b.text(), "set", "vehicle"))
	var rows []string
	for _, m := range b.f().Step("set").Match {
		rows = append(rows, m.Name.Value+"="+m.Formula.Value)
	}
	require.Equal(t, []string{"sailing=booking.sailing", "plate=", "class=", "length_m=", "dangerous="}, rows)
	_, err := Values(b.p, b.plan(), b.text(), "set", "nothing")
	require.ErrorContains(t, err, "expected a schema")
}
