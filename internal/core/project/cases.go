package project

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Case is an input of a mapping with the output that is expected of it, or a message of a flow with what it is to come
// to, kept as a part.
type Case struct {
	ID, Title string
	Flow      string   // of a case of a flow
	Run       Run      // of a case of a flow
	Account   Outcomes // that is expected of a flow
	Call      *APICall // of a case of an API; nil for others
	Mapping   string
	From      map[string]string  // the source messages as JSON, by the source's name
	Expected  string             // the target message as JSON; empty where a fault is expected
	Fails     string             // a part of the fault that is expected
	Ignore    []string           // target fields that are not compared, as paths with slashes
	Within    map[string]float64 // how far numbers, and timestamps in seconds, may be off, by the field
	facts     value.Value
}

// Difference is a field that came out other than expected.
type Difference struct{ Path, Expected, Found string }

// Result is what became of a case.
type Result struct {
	Case        Case
	Differences []Difference
	Fault       *fault.Fault // the mapping could not be run as the case says
}

// OK says whether all came out as expected.
func (r *Result) OK() bool { return r.Fault == nil && len(r.Differences) == 0 }

// Of is the mapping or the flow that it is a case of.
func (c Case) Of() string {
	switch {
	case c.Call != nil:
		return c.Call.API
	case c.Flow != "":
		return c.Flow
	}
	return c.Mapping
}

func parseCase(id string, d *partfile.Doc) Case {
	n := d.Root()
	if n.Text("api").Value != "" {
		return parseAPICase(id, n)
	}
	if of := n.Text("flow").Value; of != "" {
		c := Case{ID: id, Title: n.Required("case").Value, Flow: of}
		c.Run, c.Account = parseRun(n, c.Flow), parseAccount(n)
		c.Ignore = ignored(n)
		n.RejectUnknown()
		return c
	}
	c := Case{ID: id, Title: n.Required("case").Value, Mapping: n.Required("mapping").Value, From: map[string]string{}, Expected: n.Text("expected").Value, Fails: n.Text("expected fault").Value, Within: map[string]float64{}}
	names, texts := n.Map("from").Pairs()
	for i := range names {
		c.From[names[i].Value] = texts[i].Value
	}
	c.Ignore = ignored(n)
	fields, amounts := n.Map("within").Pairs()
	for i := range fields {
		amount, err := strconv.ParseFloat(amounts[i].Value, 64)
		if err != nil || amount < 0 {
			d.Fault(amounts[i], fault.Expect(fault.Setting, "a number of at least 0", fault.Quote(amounts[i].Value)).InField(fields[i].Value))
		}
		c.Within[fields[i].Value] = amount
	}
	facts := n.Map("context")
	started, ok := value.ParseTimestamp(facts.Text("started_at").Value)
	if !ok {
		started = value.Value{}
	}
	c.facts = running.RunFacts(facts.Text("id").Value, facts.Text("file").Value, facts.Text("reference").Value, facts.Int("line", 1), started)
	facts.RejectUnknown()
	if (c.Expected == "") == (c.Fails == "") && n.Present() {
		n.Fault(fault.Required, "a case has either what is expected or the fault with which it fails")
	}
	n.RejectUnknown()
	return c
}

// ignored are the things that are not compared.
func ignored(n partfile.Node) (list []string) {
	for _, f := range n.List("ignore") {
		list = append(list, f.At().Value)
	}
	return list
}

var caseKind = &kind{
	folder: Cases, one: "case", title: "case", older: olderCase, named: map[string]string{"mapping": Mappings, "flow": Flows, "api": APIs},
	compile: func(k *looking, u *unit) {
		d := u.doc.Again()
		c := parseCase(u.ID, d)
		if ft := c.unknownOf(k); ft != nil {
			d.Faults = append(d.Faults, ft.At(fault.Place{Source: d.Source, Line: 1}))
		}
		u.value = c
		u.found(d.Faults)
	},
	titled: func(u *unit) string { return titleOf(u, func(c Case) string { return c.Title }) },
}

// cases are all cases, by id.
func (p *Project) cases() (list []Case) {
	for _, part := range p.Parts(Cases) {
		list = append(list, p.units[part.Path].value.(Case))
	}
	return list
}

// CasesOf lists the cases of a mapping, or all that are run here when it is empty: those of APIs are called.
func (p *Project) CasesOf(mappingID string) []Case {
	var out []Case
	for _, c := range p.cases() {
		if c.Call == nil && (mappingID == "" || c.Mapping == mappingID) {
			out = append(out, c)
		}
	}
	return out
}

// RunCase runs a case.
func (p *Project) RunCase(c Case) Result {
	if c.Flow != "" {
		return p.runFlowCase(c)
	}
	r := Result{Case: c}
	plan := p.Mapping(c.Mapping)
	if plan == nil {
		r.Fault = fault.New(fault.Unknown, "there is no mapping %q", c.Mapping)
		return r
	}
	got, ft := runCase(plan, c)
	switch {
	case c.Fails != "" && ft != nil && strings.Contains(ft.What(), c.Fails):
	case c.Fails != "" && ft == nil:
		r.Fault = fault.Expect(fault.Type, "a fault with "+fault.Quote(c.Fails), "none")
	case ft != nil:
		r.Fault = ft
	default:
		want, err := ReadJSON(plan.Target, c.Expected)
		if err != nil {
			r.Fault = fault.From(err, fault.Syntax)
			return r
		}
		cmp := comparison{c: &c}
		cmp.value("", want[0], got)
		r.Differences = cmp.found
	}
	return r
}

// FlowCases runs the cases of a flow, and of all mappings that it uses.
func (p *Project) FlowCases(flowID string) []Result {
	var out []Result
	for _, c := range p.CasesOfFlow(flowID) {
		out = append(out, p.RunCase(c))
	}
	for _, path := range p.Uses(flowID) {
		kind, id, _ := Kind(path)
		if kind != Mappings {
			continue
		}
		for _, c := range p.CasesOf(id) {
			out = append(out, p.RunCase(c))
		}
	}
	return out
}

// Outcome is what comes of a case now: the target message as a case writes it, or the fault.
func (p *Project) Outcome(c Case) (expected, fails string) {
	plan := p.Mapping(c.Mapping)
	if plan == nil {
		return "", "there is no mapping"
	}
	v, ft := runCase(plan, c)
	if ft != nil {
		return "", ft.What()
	}
	return json.Indented(v) + "\n", ""
}

func runCase(plan *mapping.Plan, c Case) (value.Value, *fault.Fault) {
	fr := plan.NewFrame()
	sources := make([]value.Value, len(plan.Sources))
	for i, src := range plan.Mapping.From {
		text, given := c.From[src.Name.Value]
		if !given {
			continue
		}
		rows, err := ReadJSON(plan.Sources[i], text)
		if err != nil {
			return value.Value{}, fault.From(err, fault.Syntax).InField(src.Name.Value)
		}
		if sources[i] = rows[0]; src.List {
			sources[i] = value.ListOf(rows...)
		}
	}
	fr.Set(c.facts, sources...)
	return outcome(plan.Apply(fr))
}

// outcome is what a message came to, or why there is none.
func outcome(res mapping.Result) (value.Value, *fault.Fault) {
	switch {
	case res.Faults != nil:
		return res.Value, res.Faults[0]
	case res.Skipped != "":
		return res.Value, fault.New(fault.Setting, "left out: %s", res.Skipped)
	}
	return res.Value, nil
}

// Indented is a JSON text with each value on a line of its own; one that is none stays as it is.
func Indented(text []byte) string {
	v := jsontext.Value(append([]byte(nil), text...))
	if v.Indent(jsontext.WithIndent("  ")) != nil {
		return string(text)
	}
	return string(v)
}

// ReadJSON reads the messages of a JSON text by their schema, at least one.
func ReadJSON(s *schema.Schema, text string) ([]value.Value, error) {
	r, err := json.Kind.NewReader(strings.NewReader(text), notation.Options{Schema: s})
	if err != nil {
		return nil, err
	}
	var rows []value.Value
	for {
		v, err := r.Next()
		if faults, ok := err.(fault.List); ok {
			return nil, faults[0]
		}
		if err == io.EOF && len(rows) > 0 {
			return rows, nil
		}
		if err == io.EOF {
			err = fault.Expect(fault.Required, "a message", "an empty list")
		}
		if err != nil {
			return nil, err
		}
		rows = append(rows, v)
	}
}

// comparison notes where two messages differ.
type comparison struct {
	c     *Case
	found []Difference
}

func (m *comparison) value(path string, want, got value.Value) {
	plain := schema.PlainPath(path)
	switch {
	case slices.Contains(m.c.Ignore, plain), value.Equal(want, got) && want.Kind() < value.RecordKind, m.near(plain, want, got):
	case want.Kind() == value.RecordKind && got.Kind() == value.RecordKind:
		for i, name := range want.Record().Layout.Names {
			m.value(path+"/"+schema.Escape(name), want.Record().Fields[i], got.Field(name))
		}
		for i, name := range got.Record().Layout.Names {
			if want.Record().Layout.Slot(name) < 0 {
				m.value(path+"/"+schema.Escape(name), value.Value{}, got.Record().Fields[i])
			}
		}
	case want.Kind() == value.ListKind && got.Kind() == value.ListKind:
		for i := range max(len(want.Items()), len(got.Items())) {
			m.value(path+"/"+strconv.Itoa(i), item(want, i), item(got, i))
		}
	default:
		m.found = append(m.found, Difference{Path: path, Expected: shown(want), Found: shown(got)})
	}
}

func item(list value.Value, i int) value.Value {
	if items := list.Items(); i < len(items) {
		return items[i]
	}
	return value.Value{}
}

// near says whether a number or timestamp is as near as the case allows.
func (m *comparison) near(path string, want, got value.Value) bool {
	most, allowed := m.c.Within[path]
	if !allowed {
		return false
	}
	if want.Kind() == value.Timestamp && got.Kind() == value.Timestamp {
		return want.GoTime().Sub(got.GoTime()).Abs().Seconds() <= most
	}
	d, err := value.Sub(want, got)
	if err != nil {
		return false
	}
	off, err := strconv.ParseFloat(strings.TrimPrefix(d.String(), "-"), 64)
	return err == nil && off <= most
}

func shown(v value.Value) string {
	if v.IsMissing() {
		return v.Kind().String()
	}
	var enc json.Appender
	return string(enc.Append(nil, v))
}

// NewCase is the part of a case that keeps what a mapping makes of its sources now.
func NewCase(title, mappingID string, plan *mapping.Plan, fr *mapping.Frame) ([]byte, error) {
	got, ft := outcome(plan.Apply(fr))
	var o, from, facts partfile.Ordered
	o.Add("case", title)
	o.Add("mapping", mappingID)
	run := fr.Slots[0]
	for _, name := range []string{"id", "file", "reference", "line", "started_at"} {
		facts.Add(name, run.Field(name).String())
	}
	o.Add("context", facts)
	for i, src := range plan.Mapping.From {
		if v := fr.Slots[1+i]; !v.IsMissing() {
			from = append(from, partfile.Entry{Key: src.Name.Value, Value: partfile.Text{Value: json.Indented(v) + "\n"}})
		}
	}
	if from == nil {
		return nil, fault.New(fault.Required, "there is no message at hand to keep")
	}
	o.Add("from", from)
	if ft != nil {
		o.Add("expected fault", ft.What())
	} else {
		o.Add("expected", json.Indented(got)+"\n")
	}
	return partfile.Encode(o), nil
}

// String is the difference in a sentence.
func (d Difference) String() string {
	return fmt.Sprintf("%s: expected %s, found %s", d.Path, d.Expected, d.Found)
}
