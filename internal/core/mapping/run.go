package mapping

import (
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Bounds on what one message makes.
const (
	MaxItems      = 1_000_000 // entries of one list
	stepsPerEntry = 1_000     // that every entry adds to the budget of the message
)

// Trace is told each field's and variable's result while a message is made. Of the entries of a list
// only the first is told.
type Trace func(f *Field, v value.Value, ft *fault.Fault)

// Result is what comes of one message.
type Result struct {
	Value   value.Value
	Skipped string     // why the message is left out; empty when it is not
	Faults  fault.List // for which the target message is not to be used
	Notes   fault.List // for which a field or an entry was left out
}

// Set puts the run's facts and the source messages into the frame.
func (fr *Frame) Set(run value.Value, sources ...value.Value) {
	fr.Slots[0] = run
	copy(fr.Slots[1:], sources)
}

// Apply makes the target message. All faults of a message are reported.
func (p *Plan) Apply(fr *Frame) Result { return p.ApplyTraced(fr, nil) }

// ApplyTraced is Apply with every field's result told to trace. It makes the target even of a message
// that is left out.
func (p *Plan) ApplyTraced(fr *Frame, trace Trace) Result {
	fr.Reset()
	fr.run = runner{plan: p, frame: fr, trace: trace, lists: fr.run.lists[:0], at: fr.run.at[:0]}
	r := &fr.run
	r.variables(p.root.let)
	res := Result{Skipped: r.unmetCondition()}
	if res.Skipped != "" && trace == nil && r.faults == nil {
		return res
	}
	res.Value = r.message()
	if r.faults == nil && res.Skipped == "" && !p.Target.Fits(res.Value) {
		p.Target.Check(res.Value, func(f *fault.Fault) { r.faults.Add(f) })
	}
	res.Faults, res.Notes = r.faults, r.notes
	return res
}

// message makes the target by the rules, or by the script in their place.
func (r *runner) message() value.Value {
	if root := r.plan.root; r.plan.Mapping.Script.Line == 0 && root.field.Kind == value.RecordKind {
		return r.record(root)
	} else if r.plan.Mapping.Script.Line == 0 {
		return r.field(root.children[0])
	}
	if r.plan.script == nil {
		r.faults = append(r.faults, r.plan.Faults...)
		return value.Value{}
	}
	n := len(r.plan.Mapping.From)
	v, ft := r.plan.script.Call(append(slices.Clone(r.frame.Slots[1:1+n]), r.frame.Slots[0]))
	if ft != nil {
		r.faults = append(r.faults, ft)
	}
	return v
}

type runner struct {
	plan   *Plan
	frame  *Frame
	trace  Trace
	lists  []*node // the eachs around, and at which of their entries
	at     []int
	keys   *keys // of the map that is being made
	faults fault.List
	failed int // faults so far, kept or not
	notes  fault.List
}

// unmetCondition says why the message is left out: the reason of the first condition that it does not meet.
func (r *runner) unmetCondition() string {
	for i, prog := range r.plan.keep {
		if prog == nil {
			continue
		}
		v, ft := r.plan.EvaluateCondition(r.frame, i)
		switch k := r.plan.Mapping.Conditions[i]; {
		case ft != nil:
			r.faults = append(r.faults, ft.InField("keep "+prog.Source))
		case v.IsTrue():
		case k.Reason != "":
			return k.Reason
		default:
			return "not " + prog.Source
		}
	}
	return ""
}

// EvaluateCondition evaluates one of the conditions of the message at hand.
func (p *Plan) EvaluateCondition(fr *Frame, i int) (value.Value, *fault.Fault) {
	if p.keep[i] == nil {
		return value.Value{}, nil
	}
	return p.keep[i].Eval(&fr.Frame)
}

func (r *runner) variables(vars []variable) {
	for i := range vars {
		v := &vars[i]
		result, ft := value.Value{}, (*fault.Fault)(nil)
		switch {
		case len(v.info.Faults) > 0:
			ft = v.info.Faults[0]
		case v.program != nil:
			result, ft = v.program.Eval(&r.frame.Frame)
		}
		r.frame.Slots[v.slot] = result
		if ft != nil {
			r.fault(v.info, ft)
		}
		if r.trace != nil {
			r.trace(v.info, result, ft)
		}
	}
}

func (r *runner) record(n *node) value.Value {
	rec := r.frame.record(n.field.Layout())
	for i, c := range n.children {
		if c.direct != nil && r.trace == nil {
			rec.Fields[i] = r.frame.Slots[c.direct.Slot].Slot(c.direct.Field)
			continue
		}
		if c.plain && r.trace == nil {
			rec.Fields[i] = r.formula(c)
			continue
		}
		rec.Fields[i] = r.field(c)
	}
	return value.RecordOf(rec)
}

// formula is field for the most frequent kind of rule.
func (r *runner) formula(n *node) value.Value {
	v, ft := n.program.Eval(&r.frame.Frame)
	if ft != nil {
		r.fault(n.info, ft)
	}
	if v.Kind() == value.Integer && n.field.Kind == value.Decimal {
		v = value.AsDecimal(v)
	}
	return v
}

// fault keeps a fault of a field, or notes it where the mapping says so.
func (r *runner) fault(info *Field, ft *fault.Fault) {
	at := *ft
	at.Field = info.Name()
	at.Place.Path = r.path(info)
	if r.plan.Mapping.OnFault == OmitField {
		r.notes.Add(&at)
		return
	}
	r.failed++
	r.faults.Add(&at)
}

// path is where a field stands in the message, with the positions of entries.
func (r *runner) path(info *Field) string {
	var b strings.Builder
	from := 0
	for i, n := range r.lists {
		name := n.info.Name()
		b.WriteString("/" + name[from:] + "/" + strconv.Itoa(r.at[i]))
		from = len(name) + 1
	}
	name := info.Name()
	if info.Variable != nil {
		from = 0
	}
	b.WriteString("/" + name[from:])
	return strings.Replace(strings.TrimSuffix(b.String(), "/"+whole), "/"+whole+"/", "/", 1)
}

func (r *runner) field(n *node) value.Value {
	if n.feeds != nil {
		return r.fed(n)
	}
	v, ft := r.make(n)
	if ft != nil {
		r.fault(n.info, ft)
		v = value.Value{}
	}
	if r.trace != nil {
		r.trace(n.info, v, ft)
	}
	return v
}

// fed makes a list of what several rules give, one after another.
func (r *runner) fed(n *node) value.Value {
	var items []value.Value
	for _, feed := range n.feeds {
		items = append(items, r.field(feed).Items()...)
	}
	v := value.ListOf(items...)
	if r.trace != nil && n.info.Rule == nil {
		r.trace(n.info, v, nil)
	}
	return v
}

func (r *runner) make(n *node) (value.Value, *fault.Fault) {
	rule := n.info.Rule
	switch {
	case rule == nil && n.field.Kind == value.RecordKind && !n.field.List():
		return r.inner(n), nil
	case rule == nil && n.field.Kind == value.VariantKind && !n.field.List():
		return r.branch(n), nil
	case rule == nil:
		return value.Value{}, nil
	case len(n.info.Faults) > 0:
		return value.Value{}, n.info.Faults[0]
	}
	if n.when != nil {
		is, ft := n.when.Eval(&r.frame.Frame)
		if ft != nil || !is.IsTrue() {
			return value.Value{}, ft
		}
	}
	v, ft := r.ruled(n)
	if ft == nil && n.other != nil && v.IsMissing() {
		v, ft = n.other.Eval(&r.frame.Frame)
	}
	if v.Kind() == value.Integer && n.field.Kind == value.Decimal {
		v = value.AsDecimal(v)
	}
	return emptied(v, rule.Empty), ft
}

// ruled makes a field by its rule.
func (r *runner) ruled(n *node) (value.Value, *fault.Fault) {
	switch n.info.Rule.Kind {
	case Constant:
		return n.constant, nil
	case Each:
		return r.each(n)
	case Record:
		if n.field.List() {
			return value.ListOf(r.record(n)), nil
		}
		return r.one(n), nil
	case Script:
		return r.script(n)
	}
	v, ft := n.program.Eval(&r.frame.Frame)
	if ft == nil && n.field.Nests() {
		v = r.shaped(n, v)
	}
	return v, ft
}

// shaped gives what a formula makes of a field that others stand below the field's layout. A name that it does not have is a
// fault: it would be lost.
func (r *runner) shaped(n *node, v value.Value) value.Value {
	return n.field.Shaped(v, func(ft *fault.Fault) { r.fault(n.info, ft) })
}

// one makes one occurrence of a field by the rules for what stands below it.
func (r *runner) one(n *node) value.Value {
	switch n.field.Kind {
	case value.RecordKind:
		return r.record(n)
	case value.VariantKind:
		return r.branch(n)
	}
	return r.field(n.children[0]) // the items of a list inside of a list
}

// branch makes a variant: the first of its branches that is made. A branch that has neither a rule nor rules inside is none.
func (r *runner) branch(n *node) value.Value {
	for _, c := range n.children {
		if c.info.Rule == nil && !c.begun {
			continue
		}
		var v value.Value
		if c.info.Rule == nil && c.field.Kind == value.RecordKind {
			v = r.record(c)
		} else {
			v = r.field(c)
		}
		if v.Kind() != value.Absent {
			return v
		}
	}
	return value.Value{}
}

// emptied is what becomes of a result that is absent, null or empty.
func emptied(v value.Value, choice string) value.Value {
	empty := v.IsMissing() || v.Kind() == value.Text && v.Text() == "" || v.Kind() == value.ListKind && len(v.Items()) == 0
	switch {
	case !empty || choice == asItIs:
		return v
	case choice == explicitNull:
		return value.NullValue
	}
	return value.Value{}
}

// inner makes a record inside a record; one that got no field at all and need not be there is left out.
func (r *runner) inner(n *node) value.Value {
	v := r.record(n)
	if n.field.Required() {
		return v
	}
	for _, f := range v.Record().Fields {
		if f.Kind() != value.Absent {
			return v
		}
	}
	return value.Value{}
}

func (r *runner) each(n *node) (value.Value, *fault.Fault) {
	list, ft := n.program.Eval(&r.frame.Frame)
	if ft != nil || list.IsMissing() {
		return list, ft
	}
	if len(list.Items()) > MaxItems {
		return value.Value{}, tooMany()
	}
	r.frame.Grow(n.list.size)
	entries, ft := r.listed(n, list.Items())
	if ft != nil {
		return value.Value{}, ft
	}
	if n.list.key != nil {
		return r.mapped(n, entries)
	}
	return r.entries(n, entries), nil
}

// mapped makes a map of entries, each at the name that its key says.
func (r *runner) mapped(n *node, rows []value.Value) (value.Value, *fault.Fault) {
	w := n.list.width()
	names := make([]string, 0, len(rows)/w)
	seen := make(map[string]bool, len(rows)/w)
	r.keys = &keys{node: n, names: &names, seen: seen, outer: r.keys}
	defer func() { r.keys = r.keys.outer }()
	made := r.entries(n, rows).Items()
	return value.NewRecord(value.NewLayout(names...), made), r.keys.fault
}

// keys are the names of a map that is being made.
type keys struct {
	node  *node
	names *[]string
	seen  map[string]bool
	fault *fault.Fault
	outer *keys
}

// key names the entry at hand; ok is false where it cannot be named.
func (k *keys) key(fr *Frame) (ok bool) {
	v, ft := k.node.list.key.Eval(&fr.Frame)
	switch {
	case ft != nil:
	case v.Kind() != value.Text:
		ft = fault.Expect(fault.Type, "a text as key", v.Kind().String())
	case k.seen[v.Text()]:
		ft = fault.New(fault.Unknown, "the key %s stands twice", fault.Quote(v.Text()))
	default:
		k.seen[v.Text()] = true
		*k.names = append(*k.names, v.Text())
		return true
	}
	if k.fault == nil {
		k.fault = ft
	}
	return false
}

// entries makes a record of every entry.
func (r *runner) entries(n *node, rows []value.Value) value.Value {
	trace, w := r.trace, n.list.width()
	out := make([]value.Value, 0, len(rows)/w)
	r.lists, r.at = append(r.lists, n), append(r.at, 0)
	for i := 0; i < len(rows); i += w {
		r.at[len(r.at)-1] = i / w
		if v, ok := r.entry(n, rows[i:i+w], len(out)); ok {
			out = append(out, v)
		}
		r.trace = nil // the first entry stands for all
	}
	r.lists, r.at = r.lists[:len(r.lists)-1], r.at[:len(r.at)-1]
	r.trace = trace
	return value.ListOf(out...)
}

// entry makes one entry; ok is false for one that is left out for its faults.
func (r *runner) entry(n *node, row []value.Value, made int) (v value.Value, ok bool) {
	r.frame.AddBudget(stepsPerEntry)
	n.list.put(r.frame, row)
	if n.list.position > 0 {
		r.frame.Slots[n.list.position] = value.Int(int64(made + 1))
	}
	before, failed := len(r.faults), r.failed
	r.variables(n.let)
	v = r.occurrence(n)
	if r.failed == failed || r.plan.Mapping.OnFault != SkipEntry {
		if r.keys != nil && r.keys.node == n {
			return v, r.keys.key(r.frame)
		}
		return v, true
	}
	r.notes.Add(r.faults[before:]...)
	r.faults = r.faults[:before:before]
	if before == 0 {
		r.faults = nil
	}
	return v, false
}

// occurrence makes one entry of a list, or what stands at one name of a map.
func (r *runner) occurrence(n *node) value.Value {
	if n.list.key != nil {
		return r.field(n.children[0])
	}
	return r.one(n)
}

// Value reads a source, a variable or the run's facts of the message at hand by name.
func (p *Plan) Value(fr *Frame, name string) value.Value {
	slot, _, ok := p.root.scope.Slot(name)
	if !ok || slot >= len(fr.Slots) {
		return value.Value{}
	}
	return fr.Slots[slot]
}
