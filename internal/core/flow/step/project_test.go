package step_test

import (
	"context"
	"errors"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// texts is a project: lines of scans are found a station, mapped to levels and written.
var texts = map[string]string{
	"project.yaml":           "project: Levels\n",
	"connections/db.yaml":    "connection: Ledger\nkind: sql\n",
	"connections/drop.yaml":  "connection: Drop\nkind: file\noperations:\n  - {operation: put, kind: write}\n  - {operation: list, kind: list}\n",
	"connections/desk.yaml":  "connection: Desk\nkind: http\noperations:\n  - {operation: all, kind: read, path: /a, response: scan}\n  - {operation: blind, kind: read, path: /b}\n",
	"schemas/scan.yaml":      "schema: Scan\nnotation: csv\nfields:\n  - {name: code, type: text, constraints: {min length: 1}}\n  - {name: level, type: integer, constraints: {minimum: 0}}\n",
	"schemas/message.yaml":   "schema: Message\nnotation: json\nfields:\n  - {name: code, type: text}\n  - {name: level, type: integer}\n",
	"schemas/station.yaml":   "schema: Station\nnotation: rows\nsamples: [stations.csv]\nfields:\n  - {name: id, type: integer}\n  - {name: code, type: text}\n  - {name: datum, type: integer}\n",
	"schemas/level.yaml":     "schema: Level\nnotation: rows\nfields:\n  - {name: station, type: integer}\n  - {name: height, type: integer, constraints: {maximum: 500}}\n",
	"samples/stations.csv":   "id,code,datum\n1,LC,10\n2,OR,20\n",
	"mappings/to-level.yaml": "mapping: To level\nfrom:\n  - {name: scan, schema: scan}\n  - {name: station, schema: station}\nto: level\nrules:\n  - {field: station, formula: station.id}\n  - {field: height, formula: scan.level - station.datum}\n",
	"mappings/broken.yaml":   "mapping: Broken\nfrom:\n  - {name: scan, schema: scan}\nto: level\nrules:\n  - {field: station, formula: scan.nothing}\n",
}

// levels is the flow whose steps behind the read are given, as YAML behind six spaces.
func levels(steps string) string {
	return "flow: Levels\ntrigger: {kind: file, connection: drop, mask: '*.csv'}\nsteps:\n  - {step: read, id: read, schema: scan, as: scan}\n  - step: each\n    id: each\n    of: scan\n    steps:\n" + indent(steps)
}

func indent(steps string) string {
	return "      " + strings.ReplaceAll(strings.TrimSpace(steps), "\n", "\n      ") + "\n"
}

// loaded is the project with a flow; with other parts beside.
func loaded(t *testing.T, text string, more ...string) (*project.Project, *running.Plan) {
	t.Helper()
	all := maps.Clone(texts)
	all["flows/levels.yaml"] = text
	for i := 0; i+1 < len(more); i += 2 {
		all[more[i]] = more[i+1]
	}
	p := project.Load("levels", all)
	return p, p.Flow("levels")
}

// ledger answers look-ups from samples and says of each row what it did.
type ledger struct {
	trial.Dry
	wrote []string
	down  error
}

// Upsert refuses heights that are odd.
func (l *ledger) Upsert(_ context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error) {
	if l.down != nil {
		return nil, l.down
	}
	out := make([]running.WriteResult, len(rows))
	for i, row := range rows {
		height := row.Field("height")
		if n, _ := height.Int64(); n%2 == 1 {
			out[i].Fault = fault.New(fault.Outside, "the height %s is refused", height)
			continue
		}
		l.wrote = append(l.wrote, u.Table+" "+strings.Join(u.Key, "+")+" "+row.Field("station").String()+"/"+height.String())
		out[i].Effect = running.Inserted
	}
	return out, nil
}

// run takes records through a flow, and a request or an input where it begins with one.
func run(t *testing.T, p *project.Project, plan *running.Plan, records string, out *ledger, runtime func(*trial.DryRuntime) running.Runtime) (*trial.PlayResult, *running.Batch, error) {
	t.Helper()
	require.Empty(t, plan.Faults)
	return tried(t, p, plan, records, out, runtime)
}

// tried is run for a plan that may have faults.
func tried(t *testing.T, p *project.Project, plan *running.Plan, records string, out *ledger, runtime func(*trial.DryRuntime) running.Runtime) (*trial.PlayResult, *running.Batch, error) {
	t.Helper()
	if out == nil {
		out = &ledger{}
	}
	out.Rows = func(row *schema.Schema) ([]value.Value, error) { return p.SampleRecords(row, 100) }
	at := time.Date(2031, 3, 9, 6, 0, 0, 0, time.UTC)
	facts := running.Facts{ID: "r1", File: "scans.csv", Started: value.Instant(at), Request: p.TriedRequest(plan)}
	dry := &trial.DryRuntime{Systems: out, Plan: p.Flow, At: at, Facts: facts}
	b := &running.Batch{Plan: plan, Systems: out, Runtime: dry, Attempt: 1, Totals: &running.Totals{}}
	if runtime != nil {
		b.Runtime = runtime(dry)
	}
	m := trial.PlayOptions{Facts: facts, Most: 100}
	if plan.Input != nil {
		var err error
		m.Input, err = p.Example(plan.Input)
		require.NoError(t, err)
	}
	if plan.Source != nil {
		p.Texts["samples/in"] = records
		m.Open = func() (notation.Reader, error) { return p.OpenSample(plan.Source, "in", false) }
	}
	played, err := trial.Play(t.Context(), b, m)
	return played, b, err
}

// TestRecordsAreFoundMappedAndWritten: each goes as far as it can, and says why it goes no further; counts add up.
func TestRecordsAreFoundMappedAndWritten(t *testing.T) {
	const steps = `
- {step: keep, id: keep, where: scan.level < 900}
- {step: find, id: find, connection: db, table: station, schema: station, match: {code: upper(scan.code)}, as: station}
- {step: map, id: map, mapping: to-level, as: row}
- {step: upsert, id: upsert, connection: db, table: tide, from: row, key: "station, height"}
`
	p, plan := loaded(t, levels(steps))
	out := &ledger{}
	played, b, err := run(t, p, plan, "code,level\nLC,110\nor,220\nLC,950\nXX,30\nLC,800\nOR,121\n,5\nLC,-3\nLC,x\n", out, nil)
	require.NoError(t, err)
	var got []string
	for _, it := range played.Items {
		what := it.Reason
		if len(it.Faults) > 0 {
			what = it.Faults[0].What()
		}
		got = append(got, strings.TrimSpace(string(it.State)+" "+it.Step+": "+what))
	}
	require.Equal(t, []string{
		"done :", "done :",
		"skipped keep: not scan.level < 900",
		"set aside find: Look up a row: expected a row of station, found no row of station with code \"XX\". Add the row, or mend the record's key",
		"set aside map: height: expected at most 500, found 790",
		"set aside upsert: the height 101 is refused",
		"set aside read: code: expected at least 1 character, found 0",
		"set aside read: level: expected at least 0, found -3",
		"set aside read: level: expected a whole number, found \"x\"",
	}, got)
	require.Equal(t, []string{"tide station+height 1/100", "tide station+height 2/200"}, out.wrote)
	require.Equal(t, running.Inserted, played.Items[0].Effects[0].Effect)
	require.Equal(t, 6, b.Counts["keep"].In)
	require.Equal(t, 1, b.Counts["keep"].Skipped)
	require.Equal(t, 1, b.Counts["find"].SetAside)
	require.Equal(t, 2, b.Counts["upsert"].Inserted)
	require.Equal(t, running.Done, played.Whole.State)

	// What is left out where a row is missing; and a ledger that is away is nobody's fault.
	p, plan = loaded(t, levels(strings.Replace(steps, "as: station}", "as: station, none: leave out}", 1)))
	played, _, err = run(t, p, plan, "code,level\nXX,30\n", nil, nil)
	require.NoError(t, err)
	require.Equal(t, running.Skipped, played.Items[0].State)
	away := errors.New("connection refused")
	_, _, err = run(t, p, plan, "code,level\nLC,110\n", &ledger{down: away}, nil)
	require.ErrorIs(t, err, away)
	var failed *running.Failed
	require.ErrorAs(t, err, &failed)
	require.Equal(t, "upsert", failed.Step.Step.ID)

	_, _, err = run(t, p, plan, "", nil, nil)
	var unread *trial.ReadError
	require.ErrorAs(t, err, &unread)
	require.Contains(t, unread.Error(), "empty")
	_, _, err = run(t, p, plan, "code,level\n"+strings.Repeat("LC,110\n", 150), nil, nil)
	require.NoError(t, err)
}

// TestWhatIsWrongWithAStepIsSaidWhereItStands: each fault names what is there instead, and what mends it.
func TestWhatIsWrongWithAStepIsSaidWhereItStands(t *testing.T) {
	const find = "- {step: find, id: find, connection: db, table: station, schema: station, match: {code: scan.code}, as: station}\n"
	for steps, want := range map[string]string{
		"- {step: keep, id: k, where: scan.level}":                                                                                  "expected true or false, found integer",
		"- {step: find, id: f, connection: db, table: t, schema: station, match: {kind: scan.code}}":                                `station has no column "kind"`,
		"- {step: find, id: f, connection: db, table: t, schema: station, match: {id: scan.code}}":                                  "expected integer to compare with id, found text",
		"- {step: find, id: f, connection: drop, table: t, schema: station, match: {code: scan.code}}":                              "expected a connection to a database, found file",
		"- {step: find, id: f, connection: nowhere, table: t, schema: station, match: {code: scan.code}}":                           `there is no connection "nowhere"`,
		"- {step: find, id: f, connection: db, table: t, schema: nothing, match: {code: scan.code}}":                                `there is no schema "nothing"`,
		"- {step: map, id: m, mapping: nowhere}":                                                                                    `there is no mapping "nowhere"`,
		"- {step: map, id: m, mapping: to-level}":                                                                                   `the mapping needs "station"; no step before yields it`,
		"- {step: map, id: m, mapping: broken}":                                                                                     "the mapping broken has 2 faults",
		"- {step: set, id: s, values: {a: 1}, as: station}\n- {step: map, id: m, mapping: to-level}":                                "expected station of schema station",
		"- {step: map, id: m, mapping: to-level, sources: {stattion: scan}}":                                                        `the mapping has no source "stattion"`,
		find + "- {step: map, id: m, mapping: to-level, sources: {station: scan}}":                                                  "expected scan of schema station",
		find + "- {step: upsert, id: u, connection: db, table: t, from: station, key: 'id, kind'}":                                  `station has no field "kind". It has id, code, datum`,
		"- {step: upsert, id: u, connection: db, table: t, from: nothing, key: id}":                                                 "nothing",
		"- {step: upsert, id: u, connection: desk, table: t, from: scan, key: code}":                                                "expected a connection to a database, found http",
		"- {step: wait, id: w, seconds: scan.code}":                                                                                 "expected a number, found text",
		"- {step: wait, id: w, until: scan.level}":                                                                                  "expected a timestamp, found integer",
		"- {step: wait, id: w, seconds: '5', until: run.started_at}":                                                                "expected either seconds or until, found both",
		"- {step: reference, id: r, is: scan}":                                                                                      "expected a single value, found",
		"- {step: flow, id: f, flow: levels}":                                                                                       `there is no flow "levels" that can be called`,
		"- {step: read, id: again, schema: scan, as: more}":                                                                         "the flow reads its message already",
		"- {step: call, id: c, connection: drop, operation: put, with: {name: scan.level, text: scan.code}}":                        "expected text for name",
		"- {step: cached, id: h, key: scan.code, keep: nothing, for: 60, as: known, steps: [{step: note, id: n, text: scan.code}]}": `there is no "nothing"`,
	} {
		_, plan := loaded(t, levels(steps))
		require.NotEmpty(t, plan.Faults, steps)
		if !strings.Contains(plan.Faults.Error(), want) {
			t.Errorf("%s has the faults %s; expected %s", steps, plan.Faults.Error(), want)
		}
		for _, f := range plan.Faults {
			require.Positive(t, f.Place.Line, steps)
			require.Equal(t, "flows/levels.yaml", f.Place.Source)
		}
	}
	for text, want := range map[string]string{
		"flow: A\ntrigger: {kind: file, connection: db, mask: x}\nsteps: [{step: read, id: r, schema: scan}]\n":                                         "expected a connection to a folder, found sql",
		"flow: A\ntrigger: {kind: file, connection: drop, mask: a/b}\nsteps: [{step: read, id: r, schema: scan}]\n":                                     "expected a mask for file names",
		"flow: A\ntrigger: {kind: file, connection: drop, mask: x}\nsteps: [{step: note, id: n, text: '\"x\"'}]\n":                                      "the flow does not read what starts it",
		"flow: A\ntrigger: {kind: file, connection: drop, mask: x}\nsteps: [{step: read, id: r}]\n":                                                     `"schema" is missing`,
		"flow: A\ntrigger: {kind: file, connection: drop, mask: x}\nsteps: [{step: read, id: r, schema: level}]\n":                                      "a notation that can be read from a file",
		"flow: A\ntrigger: {kind: person}\nsteps: [{step: read, id: r, schema: scan}]\n":                                                                "nothing that starts the flow brings a message",
		"flow: A\ntrigger: {kind: person}\nsteps: [{step: read, id: r, connection: drop, operation: put}]\n":                                            "gives no records that are described",
		"flow: A\ntrigger: {kind: records, connection: desk, operation: blind, rising: x}\nsteps: [{step: read, id: r}]\n":                              "gives no records that are described",
		"flow: A\ntrigger: {kind: mail, connection: drop}\nsteps: [{step: note, id: n, text: letter.subject}]\n":                                        "expected a connection to a mailbox, found file",
		"flow: A\ntrigger: {kind: mail, connection: nowhere}\nsteps: [{step: note, id: n, text: letter.subject}]\n":                                     `there is no connection "nowhere"`,
		"flow: A\ntrigger: {kind: person, input: nothing}\nsteps: [{step: note, id: n, text: '\"x\"'}]\n":                                               `there is no schema "nothing"`,
		"flow: A\ntrigger: {kind: request, path: 'a b'}\nsteps: [{step: answer, id: a}]\n":                                                              "expected a path as bookings/new",
		"flow: A\ntrigger: {kind: request, path: a, input: level}\nsteps: [{step: answer, id: a}]\n":                                                    "a notation that can be sent",
		"flow: A\ntrigger: {kind: request, path: a, output: level}\nsteps: [{step: answer, id: a, with: {station: '1', height: '2'}}]\n":                "a notation that can be sent",
		"flow: A\ntrigger: {kind: called, output: message}\nsteps: [{step: answer, id: a, status: '200', with: {code: '\"x\"', level: '2'}}]\n":         "no request is answered",
		"flow: A\ntrigger: {kind: schedule, holidays: days}\nsteps: [{step: note, id: n, text: '\"x\"'}]\n":                                             `there is no table "days"`,
		"flow: A\ntrigger: {kind: person}\nreference: nothing.at.all\nsteps: [{step: note, id: n, text: '\"x\"'}]\n":                                    `there is no "nothing"`,
		"flow: A\ntrigger: {kind: person, every: 0}\nsteps: [{step: note, id: n, text: '\"x\"'}, {step: note, id: n, text: '\"y\"'}]\n":                 `the step id "n" is there twice`,
		"flow: A\ntrigger: {kind: person}\nsteps: [{step: dance, id: d}]\n":                                                                             "expected a kind of step",
		"flow: A\ntrigger: {kind: called}\nsteps: [{step: flow, id: f, flow: levels}]\n":                                                                "the flow would run itself for ever",
		"flow: A\ntrigger: {kind: person}\nsteps: []\n":                                                                                                 "the flow has no steps",
		"flow: A\ntrigger: {kind: person}\nsteps: [" + strings.Repeat("{step: each, id: e, of: '[1]', steps: [", 45) + strings.Repeat("]}", 45) + "]\n": "more than 40 deep",
	} {
		_, plan := loaded(t, text)
		if !strings.Contains(plan.Faults.Error(), want) {
			t.Errorf("%s has the faults %s; expected %s", text, plan.Faults.Error(), want)
		}
	}
}

// TestARequestIsAnsweredAsTheStepSays: with a status and headers of formulas; what is no status and no header is the
// message's fault, not an answer.
func TestARequestIsAnsweredAsTheStepSays(t *testing.T) {
	answering := func(step string) (*trial.PlayResult, *running.Batch) {
		p, plan := loaded(t, "flow: Ask\ntrigger: {kind: request, method: PUT, path: levels/one, input: message, output: message, as: m}\nsteps:\n  - "+step+"\n")
		played, b, err := run(t, p, plan, "", nil, nil)
		require.NoError(t, err)
		return played, b
	}
	played, b := answering(`{step: answer, id: a, with: {code: request.method + " " + request.path, level: '7'}, status: "200 + 2", headers: "Retry-After: ${7 * 2}\n\nX-Of: ${m.code}"}`)
	require.Equal(t, running.Done, played.Whole.State)
	require.Equal(t, "PUT levels/one", b.Answer.Field("code").Text())
	require.Equal(t, 202, b.Reply.Status)
	require.Equal(t, []running.Pair{{Name: "Retry-After", Value: "14"}, {Name: "X-Of", Value: played.Whole.Frame.Slots[running.InputSlot].Field("code").Text()}}, b.Reply.Headers)
	_, b = answering(`{step: answer, id: a, from: m}`)
	require.Equal(t, 200, b.Reply.Status)
	require.True(t, value.Equal(b.Answer, b.Answer))
	for step, want := range map[string]string{
		`{step: answer, id: a, from: m, status: "99"}`:                          "expected an HTTP status from 200 to 599, found 99",
		`{step: answer, id: a, from: m, status: "600"}`:                         "expected an HTTP status from 200 to 599, found 600",
		`{step: answer, id: a, from: m, status: "integer(m.code)"}`:             "",
		`{step: answer, id: a, from: m, headers: "no header"}`:                  `expected a header as Name: value, found "no header"`,
		`{step: answer, id: a, from: m, headers: "Bad Name: x"}`:                "expected a header as Name: value",
		`{step: answer, id: a, from: m, headers: "A: ${m.level / 0}"}`:          "",
		`{step: answer, id: a, from: m, headers: 'A: ${"x\nSet-Cookie: b=1"}'}`: `a value without line breaks or control characters for the header A, found " x\nSet-Cookie: b=1"`,
		`{step: answer, id: a, from: m, headers: 'A: ${"x\rB: y"}'}`:            "for the header A",
	} {
		played, b := answering(step)
		require.Equal(t, running.SetAside, played.Whole.State, step)
		require.Contains(t, played.Whole.Faults[0].What(), want, step)
		require.Nil(t, b.Reply, step)
	}
	sent := running.RequestOf("POST", "a/b", nil, []running.Pair{{Name: "q", Value: "1"}}, []running.Pair{{Name: "accept", Value: "*/*"}})
	require.True(t, value.Equal(sent, running.ReadRequest(running.WriteRequest(sent))), "it is kept as it came")
	require.Equal(t, value.Absent, running.ReadRequest(nil).Kind())
}

// resting notes for how long records are to wait.
type resting struct {
	*trial.DryRuntime
	until []time.Time
}

// Wait notes it.
func (r *resting) Wait(_ context.Context, _ string, _ []*running.Item, until []time.Time) error {
	r.until = append(r.until, until...)
	return nil
}

// Now is the time of the test.
func (r *resting) Now() time.Time { return r.At }

// TestRecordsWaitForTheirTime: some seconds, or until a time; nothing is waited for where there is none, and nobody waits
// for years.
func TestRecordsWaitForTheirTime(t *testing.T) {
	waits := func(step string) (*trial.PlayResult, []time.Duration) {
		p, plan := loaded(t, levels(step))
		var r *resting
		played, _, err := run(t, p, plan, "code,level\nLC,5\nOR,0\n", nil, func(d *trial.DryRuntime) running.Runtime {
			r = &resting{DryRuntime: d}
			return r
		})
		require.NoError(t, err)
		var out []time.Duration
		for _, u := range r.until {
			out = append(out, u.Sub(r.At))
		}
		return played, out
	}
	_, got := waits("- {step: wait, id: w, seconds: scan.level * 2.5}")
	require.Equal(t, []time.Duration{12500 * time.Millisecond, 0}, got)
	_, got = waits("- {step: wait, id: w, seconds: 0 - scan.level}")
	require.Equal(t, []time.Duration{0, 0}, got, "no time runs backwards")
	_, got = waits(`- {step: wait, id: w, until: 'find([addHours(run.started_at, 2)], scan.level > 0)'}`)
	require.Equal(t, []time.Duration{2 * time.Hour}, got, "until nothing is no wait")
	played, got := waits(`- {step: wait, id: w, until: 'addDays(run.started_at, 400 * scan.level)'}`)
	require.Equal(t, []time.Duration{0}, got)
	require.Contains(t, played.Items[0].Faults[0].What(), "expected a time within a year")
	played, _ = waits("- {step: wait, id: w, seconds: 10 / scan.level}")
	require.Equal(t, running.SetAside, played.Items[1].State)
}

// TestTriggersSayWhenTheyStart: in a few words on the drawing, by their kind; and what a person can set of each is what
// stands in the part.
func TestTriggersSayWhenTheyStart(t *testing.T) {
	for trigger, want := range map[string]string{
		"{kind: file, connection: drop, glob: '*.csv'}":                           "*.csv",
		"{kind: new records, connection: desk, operation: all, watermark: level}": "new of all",
		"{kind: mail, connection: drop}":                                          "any mail",
		"{kind: mail, connection: drop, from: Lind, subject: booking}":            "from Lind, about booking",
		"{kind: mail, connection: drop, subject: booking}":                        "about booking",
		"{kind: schedule, cron: '0 6 * * 1-5'}":                                   "0 6 * * 1-5",
		"{kind: schedule, interval: 7200}":                                        "every 2 h",
		"{kind: schedule, interval: 120}":                                         "every 2 min",
		"{kind: schedule, interval: 90}":                                          "every 90 s",
		"{kind: request, method: GET, path: a/b, timeout: 5, sample: x.txt}":      "GET /a/b",
		"{kind: manual, input: scan}":                                             "when asked",
		"{kind: flow call, input: scan, output: scan, as: s}":                     "by another flow",
	} {
		_, plan := loaded(t, "flow: A\ntrigger: "+trigger+"\nsteps: [{step: note, id: n, text: '\"x\"'}]\n")
		tr := plan.Flow.Trigger
		require.Equal(t, want, tr.When(), trigger)
		k := flow.TriggerOf(tr.Kind)
		require.NotNil(t, k)
		for _, pair := range strings.Split(strings.Trim(trigger, "{}"), ", ")[1:] {
			name, v, _ := strings.Cut(pair, ": ")
			require.Equal(t, strings.Trim(v, "'"), tr.Settings.Get(name), "%s of %s", name, trigger)
		}
	}
	require.Nil(t, flow.TriggerOf("telepathy"))
}

// TestAStepWithoutItsSettingsIsPassedBy: of every kind, with nothing but its name: it tells what is needed, and records go on.
func TestAStepWithoutItsSettingsIsPassedBy(t *testing.T) {
	for _, k := range flow.Kinds {
		if k.Name == "read" {
			continue
		}
		p, plan := loaded(t, levels("- {step: "+k.Name+", id: bare}"))
		_, needs := running.Needs(plan.Planned("bare").Faults)
		if needs == 0 {
			continue
		}
		played, _, err := tried(t, p, plan, "code,level\nLC,110\n", nil, nil)
		require.NoError(t, err, k.Name)
		if faults, _ := running.Needs(plan.Faults); faults == 0 {
			require.Equal(t, running.Done, played.Items[0].State, k.Name)
		}
	}
}
