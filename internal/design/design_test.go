package design

import (
	"context"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/compiled"
	"hollowreed/internal/core/connection"
	flowedit "hollowreed/internal/core/flow/edit"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// parts are a small project: a flow that notes the plate of each booking, its schema with a sample, and a library.
var parts = map[string]string{
	"project.yaml":           "project: Quay\n",
	"schemas/booking.yaml":   "schema: Booking\nnotation: json\nsamples: [bookings.json]\nfields:\n  - {name: plate, type: text}\n  - name: holder\n    type: record\n    fields:\n      - {name: name, type: text}\n",
	"samples/bookings.json":  `[{"plate":"SK 1","holder":{"name":"Ada"}}]`,
	"flows/bookings.yaml":    "flow: Bookings\ntrigger:\n  kind: person\n  input: booking\n  as: message\nsteps:\n  - {step: template, id: shout, name: Shout, text: '${upper(message.plate)}', as: plate}\n  - {step: note, id: say, name: Say, text: message.plate}\n",
	"mappings/invoice.yaml":  "mapping: Invoice\nfrom:\n  - {name: booking, schema: booking}\nto: booking\nrules:\n  - {field: plate, formula: booking.plate}\n  - {field: holder/name, formula: booking.holder.name}\n",
	"libraries/freight.yaml": "library: Freight\nversion: 1\nfunctions:\n  - {name: twice, params: [{name: n, type: integer}], result: integer, formula: n * 2}\n",
	"connections/desk.yaml":  "connection: Desk\nkind: http\noperations:\n  - {operation: ping, kind: call, path: /ping}\n",
}

// work is a project in a database of its own, in the hands of a person.
func work(t *testing.T) Designer {
	t.Helper()
	db := testkit.Project(t, "quay", "Quay", parts)
	require.NoError(t, store.AddPerson(t.Context(), db, store.Person{ID: "ta", Name: "ta", Initials: "ta"}))
	d := (&Workspace{DB: db, Scope: store.Scope{Project: "quay", Environment: store.Environments[0]}, Compiled: compiled.New()}).As("mo")
	require.Empty(t, d.loaded(t).Faults)
	return d
}

// loaded is the project as it is now.
func (d Designer) loaded(t *testing.T) *project.Project {
	t.Helper()
	p, err := d.Load(t.Context())
	require.NoError(t, err)
	return p
}

func (d Designer) revision(t *testing.T, path string) int64 {
	t.Helper()
	draft, err := store.PartDraft(t.Context(), d.DB, d.Project, path)
	require.NoError(t, err)
	return draft.Revision
}

func become(text string) func([]byte) ([]byte, error) {
	return func([]byte) ([]byte, error) { return []byte(text), nil }
}

// TestOfTwoWhoEditOneIsRefused: of many who change one part at the same time from the same revision, one wins and the others
// are told; what they undo is that one change.
func TestOfTwoWhoEditOneIsRefused(t *testing.T) {
	d := work(t)
	const path = "flows/bookings.yaml"
	from := d.revision(t, path)
	var won atomic.Int32
	var wg sync.WaitGroup
	for _, person := range strings.Fields("mo ta mo ta mo ta mo ta") {
		wg.Go(func() {
			err := d.As(person).Edit(context.Background(), path, from, func(text []byte) ([]byte, error) {
				return partfile.Set(text, []any{"flow"}, "Bookings of "+person)
			})
			if err == nil {
				won.Add(1)
			} else if err != store.ErrChanged {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	require.EqualValues(t, 1, won.Load())
	require.Contains(t, d.loaded(t).Texts[path], "flow: Bookings of ")
	require.NoError(t, d.Edit(t.Context(), path, d.revision(t, path), func(text []byte) ([]byte, error) { return text, nil }))
	require.Equal(t, from+1, d.revision(t, path), "a change that changes nothing is none")
	require.NoError(t, d.Undo(t.Context(), path, d.revision(t, path)))
	require.Equal(t, parts[path], d.loaded(t).Texts[path])
	require.ErrorIs(t, d.Redo(t.Context(), path, from), store.ErrChanged)
	require.NoError(t, d.Redo(t.Context(), path, d.revision(t, path)))
	require.NotEqual(t, parts[path], d.loaded(t).Texts[path])
}

// TestAnOlderPartIsWrittenAnewWhenItIsEdited: with the names of today; looking at it changes nothing, and undo brings it back as it was.
func TestAnOlderPartIsWrittenAnewWhenItIsEdited(t *testing.T) {
	d := work(t)
	const path = "flows/older.yaml"
	const older = "flow: Older\ntrigger: {kind: person}\nsteps:\n  - {step: note, id: n, text: '\"x\"'} # said\n"
	require.NoError(t, d.Add(t.Context(), path, older))
	p := d.loaded(t)
	require.Equal(t, "log", p.Flow("older").Flow.Steps[0].Kind)
	require.Equal(t, older, p.Texts[path])
	require.NoError(t, d.Edit(t.Context(), path, d.revision(t, path), func(text []byte) ([]byte, error) { return text, nil }))
	require.Equal(t, older, d.loaded(t).Texts[path], "an edit that changes nothing does not, either")
	require.NoError(t, d.Edit(t.Context(), path, d.revision(t, path), func(text []byte) ([]byte, error) {
		return partfile.Set(text, []any{"steps", 0, "text"}, "\"y\"")
	}))
	require.Equal(t, "flow: Older\ntrigger: {kind: manual}\nsteps:\n  - {step: log, id: n, text: '\"y\"'} # said\n", d.loaded(t).Texts[path])
	require.NoError(t, d.Undo(t.Context(), path, d.revision(t, path)))
	require.Equal(t, older, d.loaded(t).Texts[path])
}

// TestAllOfAUseCaseIsDoneOrNothing: where the second part of a use case is refused, the first is not there either.
func TestAllOfAUseCaseIsDoneOrNothing(t *testing.T) {
	d := work(t)
	plan := d.loaded(t).Flow("bookings")
	const path = "flows/bookings.yaml"
	old := d.revision(t, path)
	require.NoError(t, d.Edit(t.Context(), path, old, become(parts[path]+"# more\n")))
	before := d.loaded(t).Texts
	step := plan.Planned("say").Step
	for name, do := range map[string]func() error{
		"extract": func() error {
			_, err := d.ExtractSteps(t.Context(), plan, old, flowedit.Range{Step: "say", Count: 1}, "Say it")
			return err
		},
		"add beside": func() error { return d.AddBeside(t.Context(), "tables/t.yaml", "table: T\n", path, "x", old) },
		"map":        func() error { return d.AddMappingFor(t.Context(), plan, step, old, "m", "mapping: M\n", "") },
		"publish":    func() error { return d.PublishLibrary(t.Context(), "freight", 1, old+7) },
		"rename": func() error {
			_, err := d.Rename(t.Context(), "schemas/booking.yaml", old+7, "Booked", "booked")
			return err
		},
		"delete": func() error {
			_, err := d.Delete(t.Context(), "schemas/booking.yaml", old+7, DeleteAlong)
			return err
		},
	} {
		require.ErrorIs(t, do(), store.ErrChanged, name)
		require.Equal(t, before, d.loaded(t).Texts, name)
	}
	require.ErrorIs(t, d.Add(t.Context(), path, "x"), store.ErrExists)
	require.ErrorIs(t, d.Restore(t.Context(), path), store.ErrExists)
	_, err := d.Duplicate(t.Context(), "flows/none.yaml")
	require.ErrorIs(t, err, store.ErrNotFound)
}

// TestPartsAreCopiedRenamedDeletedAndRestored: what names a part follows it, or goes along with it.
func TestPartsAreCopiedRenamedDeletedAndRestored(t *testing.T) {
	d := work(t)
	to, err := d.Duplicate(t.Context(), "mappings/invoice.yaml")
	require.NoError(t, err)
	require.Equal(t, "mappings/invoice-2.yaml", to)
	require.Contains(t, d.loaded(t).Texts[to], "mapping: Invoice copy")

	r, err := d.Rename(t.Context(), "schemas/booking.yaml", AnyRevision, "Booked", "booked")
	require.NoError(t, err)
	require.Equal(t, "schemas/booked.yaml", r.To)
	require.Equal(t, 3, r.Follow, "the flow and two mappings")
	p := d.loaded(t)
	require.Empty(t, p.Faults)
	require.Contains(t, p.Texts["flows/bookings.yaml"], "input: booked")

	_, err = d.Delete(t.Context(), r.To, d.revision(t, r.To), DeleteUnused)
	require.ErrorContains(t, err, "would break")
	require.Len(t, Breaks(p, r.To), 3)
	gone, err := d.Delete(t.Context(), r.To, d.revision(t, r.To), DeleteAlong)
	require.NoError(t, err)
	require.ElementsMatch(t, []string{r.To, "flows/bookings.yaml", "mappings/invoice.yaml", "mappings/invoice-2.yaml"}, gone)
	require.Empty(t, d.loaded(t).Faults)
	for _, path := range gone {
		require.NoError(t, d.Restore(t.Context(), path))
	}
	require.Empty(t, d.loaded(t).Faults)

	_, err = d.Delete(t.Context(), r.To, d.revision(t, r.To), DeleteAndBreak)
	require.NoError(t, err)
	require.NotEmpty(t, d.loaded(t).Faults)
	require.NoError(t, d.Restore(t.Context(), r.To))

	gone, err = d.Delete(t.Context(), "samples/bookings.json", d.revision(t, "samples/bookings.json"), DeleteUnused)
	require.NoError(t, err)
	require.Equal(t, []string{"samples/bookings.json"}, gone)
	require.Empty(t, d.loaded(t).Schema("booked").Samples, "no schema names it any more")
	require.Empty(t, d.loaded(t).Faults)
}

// TestAnImportCanBeUndone: parts that an import removes are restored, those that it changes undone.
func TestAnImportCanBeUndone(t *testing.T) {
	d := work(t)
	changes, err := d.Import(t.Context(), map[string]string{
		"project.yaml": parts["project.yaml"], "schemas/booking.yaml": "schema: Other\nnotation: json\nfields:\n  - {name: a, type: text}\n", "schemas/new.yaml": parts["schemas/booking.yaml"],
	})
	require.NoError(t, err)
	require.Equal(t, store.Changes{Added: 1, Changed: 1, Removed: 5}, changes)
	require.NoError(t, d.Undo(t.Context(), "schemas/booking.yaml", d.revision(t, "schemas/booking.yaml")))
	require.NoError(t, d.Restore(t.Context(), "flows/bookings.yaml"))
	require.Equal(t, parts["flows/bookings.yaml"], d.loaded(t).Texts["flows/bookings.yaml"])
}

// TestSchemasComeWithTheirSamples: a sample gets a name that is free, an empty one is none, and a record that is shared
// becomes a schema of its own that both are of.
func TestSchemasComeWithTheirSamples(t *testing.T) {
	d := work(t)
	s := *d.loaded(t).Schema("booking")
	s.ID, s.Title, s.Samples = "visit", "Visit", nil
	require.NoError(t, d.AddSchema(t.Context(), &s, []Sample{{"bookings.json", []byte("[]")}, {"", []byte("{}")}, {"empty.json", []byte(" \n")}}))
	require.Equal(t, []string{"bookings-2.json", "visit.json"}, d.loaded(t).Schema("visit").Samples)
	name, err := d.AddSample(t.Context(), "visit", "bookings.json", "[1]")
	require.NoError(t, err)
	require.Equal(t, "bookings-3.json", name)
	require.Equal(t, name, d.loaded(t).Schema("visit").Samples[0], "the newest is the first")

	at, ok := edit.ParsePath("1")
	require.True(t, ok)
	require.NoError(t, d.ShareRecord(t.Context(), d.loaded(t).Schema("visit"), at))
	p := d.loaded(t)
	require.Equal(t, "holder", p.Schema("visit").Root.Field("holder").Of)
	require.NotNil(t, p.Schema("holder").Root.Field("name"))
	require.ErrorContains(t, d.ShareRecord(t.Context(), p.Schema("booking"), at), "there is a schema \"holder\" already")

	other := schema.Schema{ID: "visit", Title: "Visit", Notation: s.Notation, Root: p.Schema("holder").Root}
	require.NoError(t, d.ReplaceSchema(t.Context(), &other, p.Schema("visit").Samples))
	require.Len(t, d.loaded(t).Schema("visit").Samples, 3)
}

// TestFlowsLibrariesAndOperations: what is begun and taken apart goes on without faults.
func TestFlowsLibrariesAndOperations(t *testing.T) {
	d := work(t)
	id, err := d.AddFlow(t.Context(), "Night run", "manual")
	require.NoError(t, err)
	require.Equal(t, "night-run", id)
	_, err = d.AddFlow(t.Context(), "Night run", "manual")
	require.ErrorContains(t, err, "there is one of that title already")
	_, err = d.AddFlow(t.Context(), "…", "manual")
	require.ErrorContains(t, err, "a title")
	_, err = d.AddFlow(t.Context(), "Other", "nothing")
	require.ErrorIs(t, err, store.ErrNotFound)

	plan := d.loaded(t).Flow("bookings")
	step, err := d.ExtractSteps(t.Context(), plan, d.revision(t, "flows/bookings.yaml"), flowedit.Range{Step: "say", Count: 1}, "Say it")
	require.NoError(t, err)
	p := d.loaded(t)
	require.Len(t, p.Faults, 1)
	require.Contains(t, p.Faults[0].Error(), "flows/night-run.yaml:1:1: the flow has no steps")
	require.Equal(t, "say-it", p.Flow("bookings").Planned(step).Step.Setting("flow"))
	require.NotNil(t, p.Flow("say-it"))

	require.NoError(t, d.PublishLibrary(t.Context(), "freight", 1, d.revision(t, "libraries/freight.yaml")))
	p = d.loaded(t)
	require.Contains(t, p.Texts["libraries/freight.yaml"], "version: 2")
	require.Contains(t, p.Texts[project.Path(project.Libraries, project.VersionID("freight", 1))], "version: 1")
	_, err = d.AddLibrary(t.Context(), "7 seas", "")
	require.ErrorContains(t, err, "begins with a letter")

	take := []partfile.Ordered{
		{{Key: "operation", Value: "ping"}, {Key: "kind", Value: "call"}, {Key: "path", Value: "/other"}},
		{{Key: "operation", Value: "pong"}, {Key: "kind", Value: "call"}, {Key: "path", Value: "/pong"}},
	}
	s := *p.Schema("booking")
	mine, fresh := s, s
	fresh.ID = "pong"
	n, err := d.AddOperations(t.Context(), p.Connection("desk"), take, []*schema.Schema{&mine, &fresh})
	require.NoError(t, err)
	require.Equal(t, 1, n, "an operation that is there stays as it is")
	p = d.loaded(t)
	require.Equal(t, "/ping", p.Connection("desk").Operation("ping").Setting("path"))
	require.NotNil(t, p.Connection("desk").Operation("pong"))
	require.NotNil(t, p.Schema("pong"))
	require.NotNil(t, connection.KindOf(p.Connection("desk").Kind))
	require.IsType(t, &running.Plan{}, p.Flow("bookings"))
}
