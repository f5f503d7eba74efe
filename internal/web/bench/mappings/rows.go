package mappings

import (
	"net/url"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/web/page"
)

// sourceRow is one line of what rules can read.
type sourceRow struct {
	Path, Insert, Name, Type, Value string
	Indent                          int
	Head, List, Used                bool
	Apart                           bool // a list whose items can be told apart
	read                            bool // by the rule of a row that is drawn
}

// targetRow is one line of what is made: a field, a variable or a condition.
type targetRow struct {
	Name, Label, Type, Rule, Result string
	Entries                         string // what the items of an each pass
	As                              string // the item's name, of an each
	Feedable                        bool   // a list of records, which several rules can feed
	Kind                            mapping.RuleKind
	Kinds                           []mapping.RuleKind // those that it can have
	Indent                          int
	Head, Required, Missing, Chosen bool
	Formula, List, ByScript         bool
	Lines                           int      // of a script
	Reads, Makes                    []string // of a script
	Within                          string   // the field whose script makes it; empty where it is made by a rule
	Feeds                           int
	RuleType                        string
	Fault                           *fault.Fault
	Href                            string
	Options                         []ruleSetting // further settings of the rule
	Set                             int           // how many of them have a value
}

// ruleSetting is a further setting of a rule.
type ruleSetting struct {
	Name, Label, Value, Help string
	Choices                  []string
	Formula, Lines           bool
}

type link struct{ From, To, Kind string }

// The names of rows that are not fields of the target, which never begin with a slash.
const (
	variableRow  = "/variable/"
	conditionRow = "/condition/"
	scriptRow    = "/script"
)

// sources lists the sources with the values of the message at hand, the variables and the run's facts.
func (d *mappingPage) sources(plan *mapping.Plan, fr *mapping.Frame) {
	for i, src := range plan.Mapping.From {
		d.tree(src.Name.Value, plan.Sources[i].Notation.Name, plan.Sources[i].Root, fr.Slots[1+i], src.List, i == 0 && !src.List)
	}
	for _, v := range plan.Variables {
		name := v.Path[0]
		if v.Program != nil && v.Program.Type.Fields != nil {
			d.tree(name, "variable", v.Program.Type.Fields, plan.Value(fr, name), false, false)
			continue
		}
		row := sourceRow{Path: name, Insert: name, Name: name, Type: "variable", Value: page.Show(plan.Value(fr, name)), Used: true}
		d.Sources = append(d.Sources, row)
	}
	d.tree("run", "facts", mapping.Run, fr.Slots[0], false, false)
}

// tree lists a message and all that is inside; of lists the first item, of maps what stands at the first name.
func (d *mappingPage) tree(name, about string, root *schema.Field, v value.Value, list, bare bool) {
	d.Sources = append(d.Sources, sourceRow{Path: name, Name: name, Type: about, Head: true, Insert: name, List: list})
	if list {
		v = first(v)
	}
	d.inside(name, root, root, v, nil, []string{name}, bare)
}

// inside lists what stands below a field; names are those by which a formula reads it in the message at hand.
func (d *mappingPage) inside(source string, root, f *schema.Field, v value.Value, path, names []string, bare bool) {
	for _, c := range f.Fields {
		at := append(path[:len(path):len(path)], c.Name)
		called := append(names[:len(names):len(names)], nameIn(f, c, v))
		below := f.Below(c, v)
		row := sourceRow{
			Path: source + "." + strings.Join(at, "."), Insert: formula.Path(called), Name: c.Name, Type: typeName(c), Indent: len(at), Head: c.Nests(), List: c.List(),
		}
		row.Apart = c.Kind == value.RecordKind && row.List && !inList(root, at)
		if bare && root.Kind == value.RecordKind && formula.Name(at[0]) {
			row.Insert = formula.Path(called[1:])
		}
		switch {
		case c.Nests() && !c.List() && c.Kind != value.RecordKind:
			row.Value = c.Summary(below)
		case c.Kind != value.RecordKind || c.List():
			row.Value = page.Show(below)
		}
		d.Sources = append(d.Sources, row)
		d.inside(source, root, c, below, at, called, bare)
	}
}

// nameIn is the name of a field below another one as a formula reads it: of what stands in a map, the first name of the map at
// hand.
func nameIn(f, c *schema.Field, v value.Value) string {
	if f.Kind != value.MapKind {
		return c.Name
	}
	if f.List() {
		v = first(v)
	}
	if r := v.Record(); r != nil && len(r.Layout.Names) > 0 {
		return r.Layout.Names[0]
	}
	return "name"
}

func first(v value.Value) value.Value {
	if items := v.Items(); len(items) > 0 {
		return items[0]
	}
	return value.Value{}
}

// inList says whether a path leads through a list.
func inList(f *schema.Field, path []string) bool {
	for _, name := range path[:len(path)-1] {
		if f = f.Field(name); f == nil || f.List() {
			return true
		}
	}
	return false
}

func typeName(f *schema.Field) string {
	t := f.Kind.String()
	switch {
	case f.List() && f.Kind != value.RecordKind && f.Nests():
		t = "list of " + t
	case f.List():
		t = "list"
	case f.Constraints.FractionDigits > 0:
		t += " " + strconv.Itoa(f.Constraints.FractionDigits)
	case f.Constraints.MaxLength > 0:
		t += " " + strconv.Itoa(f.Constraints.MaxLength)
	}
	if f.Min == 0 {
		t += " 0..1"
	}
	return t
}

// outcomes is what the message at hand makes of each field and variable.
type outcomes struct {
	results map[*mapping.Field]value.Value
	wrong   map[string]*fault.Fault // by the name of the field
}

func outcomesOf(plan *mapping.Plan, fr *mapping.Frame) (outcomes, mapping.Result) {
	o := outcomes{results: map[*mapping.Field]value.Value{}, wrong: map[string]*fault.Fault{}}
	res := plan.ApplyTraced(fr, func(f *mapping.Field, v value.Value, _ *fault.Fault) { o.results[f] = v })
	for _, f := range append(res.Faults[:len(res.Faults):len(res.Faults)], res.Notes...) {
		if name := schema.PlainPath(f.Place.Path); o.wrong[name] == nil {
			o.wrong[name] = f
		}
	}
	return o, res
}

// targets lists the conditions, the variables and the fields with what becomes of them.
func (d *mappingPage) targets(plan *mapping.Plan, fr *mapping.Frame, chosen string) {
	o, res := outcomesOf(plan, fr)
	d.LeftOut = res.Skipped
	if d.Script = plan.Mapping.Script.Line > 0; d.Script {
		d.scripted(plan, res, o)
	}
	var rows []targetRow
	for i := range plan.Mapping.Conditions {
		rows = append(rows, d.condition(plan, fr, i))
	}
	for _, v := range plan.Variables {
		rows = append(rows, d.variable(v, o))
	}
	for _, f := range plan.Fields {
		rows = append(rows, d.field(f, o))
		if f.Missing {
			d.Missing = append(d.Missing, f.Name())
		}
		if f.Rule != nil {
			d.link(f)
		}
	}
	if row := d.unmade(chosen); row != nil && !slices.ContainsFunc(rows, func(r targetRow) bool { return r.Name == chosen }) {
		rows = append(rows, *row)
	}
	for _, row := range rows {
		row.Href = d.href(row.Name)
		if row.open() {
			d.Open++
		}
		if row.Name == chosen || d.Show != "open" && d.Show != "made" && d.Show != "unmade" || d.Show == "open" && row.open() || d.Show == "made" && row.Rule != "" || d.Show == "unmade" && row.Rule == "" && !row.Head {
			d.Targets = append(d.Targets, row)
		}
	}
	d.choose(chosen)
	d.next()
}

// unmade is the row of a variable or a condition that has no formula yet, or not any more; nil for anything else.
func (d *mappingPage) unmade(chosen string) *targetRow {
	name, variable := strings.CutPrefix(chosen, variableRow)
	switch {
	case variable && name == "":
		return &targetRow{Name: chosen, Label: d.freeName(), Type: "variable", Kind: variableKind}
	case variable && formula.Name(name):
		return &targetRow{Name: chosen, Label: name, Type: "variable", Kind: variableKind}
	case chosen == conditionRow:
		return &targetRow{Name: chosen, Label: "new condition", Kind: conditionKind, Options: reason("")}
	}
	return nil
}

// freeName is a name for a new variable.
func (d *mappingPage) freeName() string {
	for i := 1; ; i++ {
		name := "value" + strconv.Itoa(i)
		if !slices.ContainsFunc(d.plan.Mapping.Variables, func(v mapping.Variable) bool { return v.Name == name }) {
			return name
		}
	}
}

// scripted takes the results from what the script gives.
func (d *mappingPage) scripted(plan *mapping.Plan, res mapping.Result, o outcomes) {
	d.ScriptText = plan.Mapping.Script.Value
	for _, path := range plan.ScriptReads {
		d.ScriptReads = append(d.ScriptReads, strings.Join(path, "."))
	}
	for _, f := range plan.Fields {
		if f.Made {
			d.ScriptMakes = append(d.ScriptMakes, f.Name())
		}
	}
	if len(plan.Faults) > 0 {
		d.ScriptFault = plan.Faults[0]
	}
	if len(res.Faults) > 0 {
		d.ScriptFault = res.Faults[0]
	}
	for _, f := range plan.Fields {
		o.results[f] = plan.Target.Root.Within(res.Value, mapping.Below(f.Path)...)
	}
}

// href is where a row is chosen.
func (d *mappingPage) href(name string) string {
	q := url.Values{"field": {name}, "record": {strconv.Itoa(d.Record)}, "show": {d.Show}, "sample": {d.Sample}}
	for name, text := range map[string]string{findSource: d.FindSource, findTarget: d.FindTarget} {
		if text != "" {
			q.Set(name, text)
		}
	}
	return "/bench/mappings/" + url.PathEscape(d.ID) + "?" + q.Encode()
}

// The kinds of row that are not rules of fields.
const (
	variableKind  mapping.RuleKind = "variable"
	conditionKind mapping.RuleKind = "condition"
)

func (d *mappingPage) condition(plan *mapping.Plan, fr *mapping.Frame, i int) targetRow {
	k := plan.Mapping.Conditions[i]
	row := targetRow{Name: conditionRow + strconv.Itoa(i), Label: "only where", Type: "condition", Rule: k.When.Value, Kind: conditionKind, Formula: true, Options: reason(k.Reason)}
	row.Set = settled(row.Options)
	v, ft := plan.EvaluateCondition(fr, i)
	row.Result, row.Fault, row.RuleType = page.Show(v), ft, value.Boolean.String()
	return row
}

func reason(why string) []ruleSetting {
	return []ruleSetting{{Name: "reason", Label: "Reason", Value: why, Help: "why a message is skipped"}}
}

func (d *mappingPage) variable(v *mapping.Field, o outcomes) targetRow {
	row := targetRow{
		Name: variableRow + v.Path[0], Label: v.Path[0], Type: "variable", Rule: v.Variable.Formula.Value, Kind: variableKind, Formula: true,
		Result: page.Show(o.results[v]), Fault: o.wrong[v.Path[0]],
	}
	if len(v.Faults) > 0 {
		row.Fault = v.Faults[0]
	}
	if v.Program != nil {
		row.RuleType = v.Program.Type.String()
	}
	return row
}

func (d *mappingPage) field(f *mapping.Field, o outcomes) targetRow {
	row := targetRow{
		Name: f.Name(), Label: f.Path[len(f.Path)-1], Type: typeName(f.Field), Indent: len(f.Path) - 1, Feeds: f.Feeds,
		Head: f.Field.Nests(), Required: f.Field.Required(), Missing: f.Missing, Kinds: mapping.KindsFor(f.Field),
	}
	row.Kind = row.Kinds[0]
	if f.Rule == nil && f.ByScript != nil {
		row.Kind = mapping.Script
	}
	row.List = row.Head && (f.Field.List() || slices.Contains(row.Kinds, mapping.Each))
	if r := f.Rule; r != nil {
		row.Kind, row.Rule, row.As = r.Kind, r.Text.Value, r.As
		row.Result, row.Fault = shown(f.Field, o.results[f]), o.wrong[row.Name]
		row.Entries = passed(r, row.List)
	}
	if d.Script && (!row.Head || row.List) {
		row.Result, row.ByScript = shown(f.Field, o.results[f]), true
	}
	if by := f.ByScript; by != nil {
		row.Kinds, row.ByScript, row.Missing = nil, true, false
		row.Result = shown(f.Field, by.Field.Within(firstOf(by.Field, o.results[by]), f.Path[len(by.Path):]...))
		row.Within = by.Name()
	}
	if row.Kind == mapping.Script {
		row.Lines = min(14, max(4, strings.Count(row.Rule, "\n")+1))
		row.Makes = f.Makes
		for _, path := range f.Reads {
			row.Reads = append(row.Reads, strings.Join(path, "."))
		}
	}
	if len(f.Faults) > 0 {
		row.Fault = f.Faults[0]
	}
	if f.Program != nil {
		row.Formula, row.RuleType = !f.Program.Reference(), f.Program.Type.String()
	}
	row.Options = optionsOf(f.Rule, row.Kind)
	if row.Kind == mapping.Each && (f.Field.Kind == value.MapKind || f.Rule != nil && f.Rule.Key.Line > 0) {
		row.Options = slices.Insert(row.Options, 1, keyOption(f.Rule))
	}
	row.Feedable = f.Field.Kind == value.RecordKind && f.Field.List()
	row.Set = settled(row.Options)
	return row
}

// firstOf is the first item of a list; of anything else it is itself.
func firstOf(f *schema.Field, v value.Value) value.Value {
	if f.List() && len(v.Items()) > 0 {
		return v.Items()[0]
	}
	return v
}

// shown is a result as the row of its field shows it.
func shown(f *schema.Field, v value.Value) string {
	if f.Kind == value.MapKind || f.Kind == value.VariantKind && v.Kind() == value.RecordKind {
		return f.Summary(v)
	}
	return page.Show(v)
}

// passed tells in words what a rule has beside its text.
func passed(r *mapping.Rule, list bool) string {
	var parts []string
	add := func(word, text string) {
		if text != "" {
			parts = append(parts, word+" "+text)
		}
	}
	if r.Kind == mapping.Record && list {
		parts = append(parts, "one entry")
	}
	add("key", r.Key.Value)
	add("where", r.Where.Value)
	add("distinct by", r.Distinct.Value)
	add("group by", r.Group.Value)
	add("sort by", r.Sort.Value)
	add("when", r.When.Value)
	add("or", r.Default.Value)
	return strings.Join(parts, " ")
}

func settled(options []ruleSetting) int {
	n := 0
	for _, o := range options {
		if o.Value != "" && (o.Choices == nil || o.Value != o.Choices[0]) {
			n++
		}
	}
	return n
}

// optionsOf are the further settings that a rule of a kind has.
func optionsOf(r *mapping.Rule, kind mapping.RuleKind) []ruleSetting {
	if r == nil {
		r = &mapping.Rule{Kind: kind, Empty: mapping.Empties[0]}
	}
	options := []ruleSetting{{Name: "when", Label: "Only when", Value: r.When.Value, Formula: true, Help: "a condition; the field is omitted where it is not true"}}
	switch kind {
	case mapping.Formula:
		options = append(options,
			ruleSetting{Name: "default", Label: "Default", Value: r.Default.Value, Formula: true, Help: "a formula for a result that is absent or null"},
			ruleSetting{Name: "when empty", Label: "When empty", Value: r.Empty, Choices: mapping.Empties, Help: "what becomes of a result that is absent, null or empty"})
	case mapping.Each:
		options = append(options, eachOptions(r)...)
	}
	return options
}

func keyOption(r *mapping.Rule) ruleSetting {
	o := ruleSetting{Name: "key", Label: "Key", Formula: true, Help: "the name at which an entry of the map stands"}
	if r != nil {
		o.Value = r.Key.Value
	}
	return o
}

func eachOptions(r *mapping.Rule) []ruleSetting {
	return []ruleSetting{
		{Name: "where", Label: "Items where", Value: r.Where.Value, Formula: true, Help: "which items are taken"},
		{Name: "distinct by", Label: "Distinct by", Value: r.Distinct.Value, Formula: true, Help: "of items with the same result only the first is taken"},
		{Name: "group by", Label: "Group by", Value: r.Group.Value, Formula: true, Help: "items with the same result become one entry with key and items"},
		{Name: "sort by", Label: "Sort by", Value: r.Sort.Value, Formula: true, Help: "formulas with ; between; each may end in descending"},
		{Name: "index", Label: "Index name", Value: r.Index, Help: "the name by which rules inside know the entry's number, from 1"},
		{Name: "when empty", Label: "When empty", Value: r.Empty, Choices: mapping.Empties, Help: "what becomes of a list without entries"},
		{Name: "nested lists", Label: "Nested lists", Value: nestedText(r.Nested), Lines: true, Help: "one a line: a list inside of the item, as, and a name: line.parts as part"},
		{Name: "variables", Label: "Variables", Value: variablesText(r.Variables), Lines: true, Help: "one a line, computed once for each entry: name = formula"},
	}
}

func nestedText(lists []mapping.NestedList) string {
	var b strings.Builder
	for _, in := range lists {
		b.WriteString(in.List.Value + " as " + in.As + "\n")
	}
	return b.String()
}

func variablesText(vars []mapping.Variable) string {
	var b strings.Builder
	for _, v := range vars {
		b.WriteString(v.Name + " = " + v.Formula.Value + "\n")
	}
	return b.String()
}

// open says whether something is left to do: a required field without a rule, or a rule with a fault.
func (r *targetRow) open() bool { return r.Missing || r.Fault != nil }

// ScriptShown says whether a script is edited on the page.
func (d *mappingPage) ScriptShown() bool {
	return d.Script || d.Selected != nil && d.Selected.Kind == mapping.Script && d.Selected.Within == ""
}

// IsField says whether the row is a field of the target.
func (r *targetRow) IsField() bool { return !strings.HasPrefix(r.Name, "/") }

// next is the open field behind the selected one, or else the first.
func (d *mappingPage) next() {
	var open []string
	behind := -1
	for i := range d.Targets {
		if d.Targets[i].Chosen {
			behind = len(open)
		} else if d.Targets[i].open() {
			open = append(open, d.Targets[i].Name)
		}
	}
	if len(open) > 0 {
		d.NextOpen = open[max(behind, 0)%len(open)]
	}
}

// Others are the names of the sources behind the first.
func (d *mappingPage) Others() []string {
	var out []string
	for _, s := range d.plan.Mapping.From[min(1, len(d.plan.Mapping.From)):] {
		out = append(out, s.Name.Value)
	}
	return out
}

// OnFaults are the choices of what a fault does.
func (d *mappingPage) OnFaults() []mapping.OnFault { return mapping.OnFaults }

// FeedShown says whether the page has the form of a list's feeds.
func (d *mappingPage) FeedShown() bool { return d.Selected != nil && d.Selected.List }

// FieldName is the name of the row that the form is about; empty when there is none.
func (d *mappingPage) FieldName() string {
	if d.Selected == nil {
		return d.edited
	}
	return d.Selected.Name
}

// used marks the source fields that rules read, and those around them.
func (d *mappingPage) used() {
	reads := map[string]bool{}
	for _, path := range d.ScriptReads {
		reads[path] = true
	}
	for _, l := range d.Links {
		reads[l.From] = true
	}
	for i := range d.Sources {
		row := &d.Sources[i]
		if row.Used = row.Used || reads[row.Path]; !row.Used && !row.Head && d.counted(row.Path) {
			d.Unused++
		}
	}
}

// counted says whether a source row is one of a source's fields: variables and facts need not be used.
func (d *mappingPage) counted(path string) bool {
	root, _, _ := strings.Cut(path, ".")
	for _, src := range d.plan.Mapping.From {
		if src.Name.Value == root {
			return true
		}
	}
	return false
}

// choose selects a row by its name; on a page that is opened the first field where there is none. The answer to an edit
// never goes on to another row: what is typed next belongs to the one that the form shows.
func (d *mappingPage) choose(field string) {
	for i := range d.Targets {
		if d.Targets[i].Name == field {
			d.Selected = &d.Targets[i]
		}
	}
	for i := range d.Targets {
		if d.Selected == nil && d.edited == "" && d.Targets[i].IsField() {
			d.Selected = &d.Targets[i]
		}
	}
	if d.Selected != nil {
		d.Selected.Chosen = true
	}
}

// link joins a target to the source fields that its rule reads.
func (d *mappingPage) link(f *mapping.Field) {
	kind := "reference"
	if f.Program == nil || !f.Program.Reference() {
		kind = "formula"
	}
	for _, path := range f.Reads {
		d.Links = append(d.Links, link{From: strings.Join(path, "."), To: f.Name(), Kind: kind})
	}
}
