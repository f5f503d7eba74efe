package flows

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/web/page"
)

// record fills what comes in and what goes out for the record at hand.
func (d *flowPage) record(plan *running.Plan) {
	if d.Trial == nil {
		return
	}
	d.item = d.Trial.Whole
	if InBody(plan, d.Step.ps) {
		d.item = d.atRecord(plan)
	}
	if d.item == nil {
		return
	}
	d.item, d.Nav = EntryOf(d.item, d.Step.ps, d.look.entry)
	for path, to := range map[string]*string{d.Nav.Before: &d.EntryBefore, d.Nav.After: &d.EntryAfter} {
		if path != "" {
			*to = d.look.address(d.Step.ID, strconv.Itoa(d.Record)) + "&entry=" + path
		}
	}
	d.In, d.Out, d.Told, d.RecordFaults = Passage(plan, d.item, d.Step.ID)
	if ps := d.Step.ps; ps != nil && d.how.Recording != nil {
		d.Since = d.how.Recording.Since(d.ID, ps.Step.ID)
	}
	if ps := d.Step.ps; ps != nil && ps.File != nil {
		list, err := d.Trial.Files(ps.File)
		if err != nil {
			d.RecordFaults = append(d.RecordFaults, fault.From(err, fault.Setting))
		}
		d.Files = list
	}
	d.Changed, d.New = page.Mark(d.In, d.Out)
}

// InBody says whether a step works on the records that are read.
func InBody(plan *running.Plan, ps *running.PlannedStep) bool {
	for ps != nil && ps.Inside != nil {
		ps = ps.Inside
	}
	return ps != nil && slices.Contains(plan.Body, ps)
}

// atRecord is the record that is looked at; the first that reaches the end where none is asked for.
func (d *flowPage) atRecord(plan *running.Plan) *running.Item {
	if d.Records == 0 {
		return nil
	}
	n, err := strconv.Atoi(d.look.record)
	if err != nil || n < 1 || n > d.Records {
		n = d.firstPassed()
	}
	d.Record = n
	if n > 1 {
		d.Before = d.look.address(d.Step.ID, strconv.Itoa(n-1))
	}
	if n < d.Records {
		d.After = d.look.address(d.Step.ID, strconv.Itoa(n+1))
	}
	return d.Trial.Items[n-1]
}

// firstPassed is the first record that the chosen step worked on; else the first that reaches the end, else the first.
func (d *flowPage) firstPassed() int {
	first := 0
	for i, it := range d.Trial.Items {
		if it.State == running.Done || it.State == running.Live {
			if d.Step.ps == nil || Reached(d.Step.plan, it, d.Step.ps) {
				return i + 1
			}
			if first == 0 {
				first = i + 1
			}
		}
	}
	return max(first, 1)
}

// EntryNav is the entry of a list that is looked at: its position from 1, how many there are, and the paths of those
// beside it. All are zero outside of lists.
type EntryNav struct {
	N, Of         int
	Before, After string
}

// EntryOf goes into the lists around a step, to the entry that a path names: its positions in them, as 0.2.
func EntryOf(it *running.Item, ps *running.PlannedStep, wanted string) (*running.Item, EntryNav) {
	var around []string
	for ; ps != nil && ps.Inside != nil; ps = ps.Inside {
		if ps.Inside.Entry != nil && ps.Inside.Step.Of().Loops {
			around = append(around, ps.Inside.Step.ID)
		}
	}
	slices.Reverse(around)
	var nav EntryNav
	positions, path := strings.Split(wanted, "."), ""
	for depth, each := range around {
		var list []*running.Item
		for _, inner := range it.Inner {
			if inner.Of == each {
				list = append(list, inner)
			}
		}
		if len(list) == 0 {
			break
		}
		at := 0
		if depth < len(positions) {
			at, _ = strconv.Atoi(positions[depth])
			at = min(max(0, at), len(list)-1)
		}
		beside := func(n int) string { return strings.TrimPrefix(path+"."+strconv.Itoa(n), ".") }
		it, nav = list[at], EntryNav{N: at + 1, Of: len(list)}
		if at > 0 {
			nav.Before = beside(at - 1)
		}
		if at < len(list)-1 {
			nav.After = beside(at + 1)
		}
		path = beside(at)
	}
	return it, nav
}

// Reached says whether an item was led to a step: through the branches around it.
func Reached(plan *running.Plan, it *running.Item, ps *running.PlannedStep) bool {
	for inner := ps; inner.Inside != nil; inner = inner.Inside {
		outer := inner.Inside
		if track := trackOf(outer, inner); track >= 0 && outer.Step.Branches[track].Kind.Conditional && !took(it, outer, track) {
			return false
		}
	}
	return plan.HasReached(it, ps.Step.ID)
}

// trackOf is the position of the branch of a step in which another stands.
func trackOf(outer, inner *running.PlannedStep) int {
	return slices.IndexFunc(outer.Branches, func(track []*running.PlannedStep) bool { return slices.Contains(track, inner) })
}

func took(it *running.Item, ps *running.PlannedStep, track int) bool {
	for ; it != nil; it = it.Parent {
		if slices.Contains(it.Branches, running.BranchTaken{Step: ps.Step.ID, Track: track}) {
			return true
		}
	}
	return false
}

// Passage is what comes into a step for one record and what goes out of it, or what became of the
// record instead.
func Passage(plan *running.Plan, it *running.Item, step string) (in, out []page.Row, told string, faults []*fault.Fault) {
	ps := plan.Planned(step)
	if ps == nil {
		if input := it.Frame.Slots[running.InputSlot]; plan.Input != nil && it.Record == running.WholeRun {
			return nil, page.Tree(plan.Flow.Trigger.As, input), "", nil
		}
		if request := it.Frame.Slots[running.RequestSlot]; request.Kind() != value.Absent {
			return nil, page.Tree("request", request), "", nil
		}
		return nil, nil, "What starts the run comes in as it stands.", nil
	}
	switch {
	case ps.Step.Disabled:
		return nil, nil, "This step is disabled: every record passes it by.", nil
	case !plan.HasReached(it, step):
		left := plan.Planned(it.Step)
		return nil, nil, fmt.Sprintf("This record did not come so far: it was %s at %s. %s", it.State, left.Step.Name, it.Reason), it.Faults
	case !Reached(plan, it, ps):
		return nil, nil, "This record was not led here: it took another way.", nil
	}
	in = scopeRows(ps, it)
	if it.Step == step && it.State != running.Done {
		return in, nil, strings.TrimSpace(fmt.Sprintf("%s. %s", strings.ToUpper(string(it.State[0]))+string(it.State[1:]), it.Reason)), it.Faults
	}
	told, faults = tellings(it, step)
	if held := heldTold(ps, it); held != "" {
		told = held
	}
	if ps.Result != nil {
		if len(faults) > 0 && told == "" {
			told = "Left out, as the mapping says:"
		}
		return in, page.Tree(ps.Result.Name, it.Frame.Slots[ps.Result.Slot]), told, faults
	}
	if e := it.EffectOf(step); e != "" {
		return in, nil, effectTold(ps, e), nil
	}
	if ps.Calls != nil && told == "" {
		told = "A run of " + ps.Calls.Title + " begins with it, and goes on by itself."
	}
	if _, needs := running.Needs(ps.Faults); needs > 0 && told == "" {
		told = "This step is not complete yet: a try passes it by."
	}
	if told == "" {
		told = "The record passes unchanged."
	}
	return in, nil, told, faults
}

// effectTold says in words what a step did outside for a record.
func effectTold(ps *running.PlannedStep, e running.Effect) string {
	switch {
	case e == running.ForFile:
		return "Collected for a file. It is written when the run ends."
	case ps.Op != nil && e == running.NotDone:
		return ps.Op.Name + " would be called; in a try nothing is."
	case ps.Op != nil:
		return ps.Op.Name + " was called, and did not refuse it."
	case e == running.NotDone:
		return "The row would be written; in a try nothing is."
	}
	return "The row was " + string(e) + "."
}

// RawPassage is what comes into a step for one record and what goes out of it, as JSON.
func RawPassage(plan *running.Plan, it *running.Item, step string) (in, out string) {
	ps := plan.Planned(step)
	if ps == nil {
		return "", ""
	}
	add := func(text *string, n running.Named) {
		if n.Name == "run" || n.Slot >= len(it.Frame.Slots) || it.Frame.Slots[n.Slot].Kind() == value.Absent {
			return
		}
		*text += n.Name + " " + page.Cut(json.Indented(it.Frame.Slots[n.Slot])) + "\n"
	}
	for _, n := range ps.Before {
		add(&in, n)
	}
	if in == "" {
		in = page.Cut(it.Raw)
	}
	if ps.Result != nil {
		add(&out, *ps.Result)
	}
	return in, out
}

// scopeRows are the values in scope before a step; the text of the record where there are none.
func scopeRows(ps *running.PlannedStep, it *running.Item) (in []page.Row) {
	for _, n := range ps.Before {
		if n.Name != "run" && n.Slot < len(it.Frame.Slots) && it.Frame.Slots[n.Slot].Kind() != value.Absent {
			in = append(in, page.Tree(n.Name, it.Frame.Slots[n.Slot])...)
		}
	}
	if len(in) == 0 && it.Raw != "" {
		in = []page.Row{page.Line(0, "line "+strconv.Itoa(it.Place.Line), value.NewText(it.Raw))}
	}
	return in
}

// tellings are the text that a step has noted, and the faults with which it let the record go on.
func tellings(it *running.Item, step string) (told string, faults []*fault.Fault) {
	for _, f := range it.Notes {
		switch {
		case f.Place.Step != step:
		case f.Code == fault.LogEntry:
			told = f.Message
		default:
			faults = append(faults, f)
		}
	}
	return told, faults
}

// heldTold says what became of an item in a step that holds others.
func heldTold(ps *running.PlannedStep, it *running.Item) string {
	for i, t := range ps.Step.Branches {
		if t.Kind.Conditional && took(it, ps, i) {
			if t.Kind.Below {
				return "A step failed; it went on with " + trackName(t) + "."
			}
			return "It goes on with " + trackName(t) + "."
		}
	}
	if !ps.Step.Of().Loops || ps.Entry == nil {
		return ""
	}
	n, aside := 0, 0
	for _, inner := range it.Inner {
		if inner.Of == ps.Step.ID {
			n++
			if inner.State == running.SetAside {
				aside++
			}
		}
	}
	return fmt.Sprintf("%d entries, %d of them set aside.", n, aside)
}

func trackName(t *flow.Branch) string {
	switch {
	case t.Name != "":
		return t.Name
	case t.If.Value != "":
		return "When " + t.If.Value
	}
	return t.Kind.Title
}
