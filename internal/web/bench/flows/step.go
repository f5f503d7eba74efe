package flows

import (
	"net/url"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/edit"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

// stepPanel is the chosen step with its settings.
type stepPanel struct {
	ID, Title, Kind, About string
	KindName               string
	Number, Count          int
	Off                    bool
	Comment                string
	Holds                  bool // other steps
	Branches               bool
	Under                  []underTrack // branches without steps, which the drawing does not show
	Name                   form.Field
	Settings, Rare         []form.Field
	Tracks                 []trackField
	Faults                 fault.List // that are at no setting
	Notes                  fault.List // outcomes that nothing is done about
	MappingID, FlowID      string
	Rules                  []ruleRow
	Triggers               []*flow.TriggerKind
	FlowSettings           []form.Field
	InTry                  string // what a try does about it; empty where it reaches no system
	Manners                []trial.CallMode
	WrapIn                 string         // an each of this would mend it; empty where it would not
	NewMapping             *newMapping    // of a map step without one
	ValuesOf               []project.Part // of a step that sets values: the schemas whose fields it can take
	OpenFields             int            // of what it is given, that have no formula yet
	ps                     *running.PlannedStep
	plan                   *running.Plan
	p                      *project.Project
}

// trackField is a branch as it is edited.
type trackField struct {
	At               int
	Title, Name, If  string
	HasIf, Removable bool
	Result           string
	Faults           fault.List
	Needed           bool
	Steps            int
}

type ruleRow struct {
	Field, Rule, Result string
	Formula             bool
}

// panel fills the panel of the chosen step.
func (d *flowPage) panel(p *project.Project, plan *running.Plan) {
	if d.Step.ps == nil {
		d.Step.trigger(p, plan, d.item)
		return
	}
	s := d.Step
	ps := s.ps
	k := flow.KindOf(ps.Step.Kind)
	s.Title, s.Kind, s.KindName, s.About, s.Off, s.Comment = ps.Step.Name, k.Title, k.Name, k.About, ps.Step.Disabled, ps.Step.Comment
	for i, other := range plan.Steps {
		if other == ps {
			s.Number = i + 2
		}
	}
	e := evaluator{scope: ps.Scope, item: d.item, p: p, complete: helpAddress(d.ID, s.ID)}
	left := append(fault.List{}, ps.Faults...)
	for _, set := range k.Settings {
		f := e.field(set, ps.Step.Setting(set.Name), ps.Step.Setting("connection"))
		f.Faults, left = base.FaultsAt(left, ps.Step.Settings.Text(set.Name))
		f.Needed, left = base.Unset(left, set.Name)
		if set.Type == setting.Pairs {
			if ps.Step.Setting("from") == "" {
				f.Rows, f.Free = e.rows(ps, set)
			}
			var without bool
			without, left = base.Unset(left, "with")
			f.Needed = f.Needed || without
			for _, m := range ps.Step.Match {
				var more fault.List
				more, left = base.FaultsAt(left, m.Name)
				f.Faults = append(f.Faults, more...)
				more, left = base.FaultsAt(left, m.Formula)
				empty, more := base.Unset(more, "formula")
				f.Needed = f.Needed || empty
				f.Faults = append(f.Faults, more...)
			}
		}
		if set.Type == setting.Name {
			f.Options = recordsIn(ps.Before, set.Required)
		}
		if set.Type == setting.Pairs && len(f.Rows) == 0 && len(f.Faults) == 0 && !f.Needed {
			continue
		}
		if f.Folded() {
			s.Rare = append(s.Rare, f)
		} else {
			s.Settings = append(s.Settings, f)
		}
	}
	s.tracks(ps, &left, e)
	s.Faults, s.Notes = left, notesOf(plan, ps.Step.ID)
	_, s.WrapIn = edit.InEach(p, plan, s.ID)
	if k.Maps && ps.Mapping == nil {
		s.NewMapping = mappingFor(p, plan, ps)
	}
	if ps.Mapping == nil && ps.Step.Setting("from") == "" {
		s.OpenFields = len(p.OpenFields(ps))
	}
	if k.Fills {
		s.ValuesOf = p.Parts(project.Schemas)
	}
	if ps.Mapping != nil {
		s.MappingID = ps.Mapping.Mapping.ID
		if d.item != nil {
			s.rules(d.item)
		}
	}
	if ps.Calls != nil {
		s.FlowID = ps.Calls.ID
	}
	if k.OnConnection && !k.Collects {
		s.Manners, s.InTry = trial.Manners, string(d.how.Choices[tries.StepRef{Flow: d.ID, Step: s.ID}])
		if s.InTry == "" {
			s.InTry = string(tries.DefaultCallMode(k.Effect && (ps.Op == nil || ps.Op.Changes())))
		}
	}
}

// underTrack is a branch that has no steps yet.
type underTrack struct{ Title, Gap string }

// branches fills the branches of a step.
func (s *stepPanel) tracks(ps *running.PlannedStep, left *fault.List, e evaluator) {
	many := 0
	for _, t := range ps.Step.Branches {
		if t.Kind.Many {
			many++
		}
	}
	for i, t := range ps.Step.Branches {
		s.Holds = s.Holds || !t.Kind.Compensates
		if t.Kind.Quiet && len(t.Steps) == 0 {
			s.Under = append(s.Under, underTrack{t.Kind.Title, draw.GapKey(&flow.Gap{Path: t.Path})})
		}
		s.Branches = s.Branches || t.Kind.Many
		if !t.Kind.Many {
			continue
		}
		f := trackField{At: i, Title: t.Kind.Title, Name: t.Name, If: t.If.Value, HasIf: t.Kind.If, Removable: many > 1, Steps: len(t.Steps)}
		if f.HasIf {
			f.Result = e.result(t.If.Value)
			f.Faults, *left = base.FaultsAt(*left, t.If)
			if f.Needed = t.If.Value == ""; f.Needed {
				_, *left = base.Unset(*left, "if")
			}
		}
		s.Tracks = append(s.Tracks, f)
	}
}

// flowTitle is edited among the settings of a flow; a part has it under flow.
var flowTitle = setting.Setting{Name: "flow", Label: "Title of the flow", Type: setting.Text}

// trigger fills the panel of the trigger, and of the flow as a whole.
func (s *stepPanel) trigger(p *project.Project, plan *running.Plan, item *running.Item) {
	t := plan.Flow.Trigger
	k := flow.TriggerOf(t.Kind)
	s.Title, s.Number, s.KindName, s.Triggers = t.Name, 1, t.Kind, flow.Triggers
	if k == nil {
		return
	}
	s.Kind, s.About = k.Title, k.About
	e := evaluator{item: item, p: p, complete: helpAddress(plan.Flow.ID, s.ID)}
	for _, f := range plan.Faults {
		if f.Place.Step == "" {
			s.Faults = append(s.Faults, f)
		}
	}
	for _, set := range k.Settings {
		f := e.field(set, t.Settings.Get(set.Name), t.Connection.Value)
		f.Needed, s.Faults = base.Unset(s.Faults, set.Name)
		if set.Type == setting.Pairs && plan.Poll != nil {
			f.Rows = form.RowsOf(plan.Poll.Op.Request, t.With, nil)
		}
		s.Settings = append(s.Settings, f)
	}
	s.FlowSettings = append(s.FlowSettings, form.Field{Setting: flowTitle, Value: plan.Flow.Title})
	for _, set := range flow.Settings {
		s.FlowSettings = append(s.FlowSettings, evaluator{p: p}.field(set, plan.Flow.Settings.Get(set.Name), ""))
	}
	_, s.Faults = base.Unset(s.Faults, "steps") // the drawing shows that
	s.Notes = notesOf(plan, "")
}

func notesOf(plan *running.Plan, step string) (list fault.List) {
	for _, f := range plan.Notes {
		if f.Place.Step == step {
			list = append(list, f)
		}
	}
	return list
}

// evaluator shows what formulas yield for the record at hand.
type evaluator struct {
	scope *formula.Scope
	item  *running.Item
	p     *project.Project

	complete string // the address that completes formulas
}

// result is what a formula yields; empty where there is no record or it has a fault.
func (e evaluator) result(source string) string {
	if e.scope == nil || e.item == nil || source == "" {
		return ""
	}
	prog, faults := formula.Compile(source, e.scope)
	if len(faults) > 0 {
		return ""
	}
	fr := formula.Frame{Slots: append([]value.Value(nil), e.item.Frame.Slots...)}
	v, f := prog.Eval(&fr)
	if f != nil {
		return f.What()
	}
	return page.Show(v)
}

// helpAddress is where the formulas of a step are completed.
func helpAddress(flowID, step string) string {
	return "/bench/flows/" + url.PathEscape(flowID) + "/help?step=" + url.QueryEscape(step)
}

// field makes the field of one setting.
func (e evaluator) field(set setting.Setting, v, connectionID string) form.Field {
	f := form.Field{Setting: set, Value: v, Complete: e.complete}
	switch set.Type {
	case setting.Part:
		f.Options = form.Parts(e.p, set, v, func(id string) bool { return set.Of != "flow" || e.p.Contract(id) != nil })
	case setting.Operation:
		f.Options = form.Operations(e.p.Connection(connectionID))
	case setting.Formula:
		f.Result = e.result(v)
	}
	return f
}

// recordsIn are the records in scope.
func recordsIn(names []running.Named, required bool) []form.Option {
	list := []form.Option{{Title: "by fields"}}
	if required {
		list = []form.Option{{Title: "choose…"}}
	}
	for _, n := range names {
		if n.Schema != nil && !n.List && n.Name != "run" {
			list = append(list, form.Option{ID: n.Name, Title: n.Name})
		}
	}
	return list
}

// rows are the pairs of a step: of a request's fields, or with names that are written.
func (e evaluator) rows(ps *running.PlannedStep, set setting.Setting) (rows []form.Row, free bool) {
	switch {
	case ps.Mapping != nil:
		return sourceRows(ps), false
	case ps.PairFields() != nil:
		return form.RowsOf(ps.PairFields(), ps.Step.Match, e.result), false
	case !set.Free && len(ps.Step.Match) == 0:
		return nil, false
	}
	for _, m := range ps.Step.Match {
		rows = append(rows, form.Row{Name: m.Name.Value, Formula: m.Formula.Value, Result: e.result(m.Formula.Value)})
	}
	return append(rows, form.Row{}), true
}

// sourceRows has a row for each source of a step's mapping, with the records in scope that it can be.
func sourceRows(ps *running.PlannedStep) (rows []form.Row) {
	m := ps.Mapping
	for i, src := range m.Mapping.From {
		own, bound := src.Name.Value, ps.Sources[i]
		row := form.Row{Name: own, About: "schema " + src.Schema.Value, Must: true}
		first, known := form.Option{Title: "choose…"}, bound == own
		if bound != own {
			row.Formula = bound
		}
		for _, n := range ps.Before {
			switch {
			case !n.FitsSource(src, m.Sources[i]):
			case n.Name == own:
				first = form.Option{Title: own}
			default:
				row.Options = append(row.Options, form.Option{ID: n.Name, Title: n.Name})
				known = known || n.Name == bound
			}
		}
		row.Options = append([]form.Option{first}, row.Options...)
		if !known {
			row.Options = append(row.Options, form.Option{ID: bound, Title: bound + " does not fit"})
		}
		rows = append(rows, row)
	}
	return rows
}

// rules shows the rules of the step's mapping with what they yield.
func (s *stepPanel) rules(it *running.Item) {
	if s.ps.Result == nil {
		return
	}
	row := it.Frame.Slots[s.ps.Result.Slot]
	for _, f := range s.ps.Mapping.Fields {
		if f.Rule == nil || len(f.Path) != 1 {
			continue
		}
		r := ruleRow{Field: f.Name(), Rule: f.Rule.Text.Value, Formula: f.Program != nil && !f.Program.Reference()}
		if row.Kind() != value.Absent {
			r.Result = page.Show(row.Field(f.Path[0]))
		}
		s.Rules = append(s.Rules, r)
	}
}
