package running

import (
	"context"
	"strconv"
	"strings"

	"hollowreed/internal/core/value"
)

// EntryAgain makes the entry of a list anew that is done again by itself, in a run as a whole that has what was in scope of
// it, and with another value.
func (p *Plan) EntryAgain(whole *Item, each *PlannedStep, was *Item, entry value.Value) *Item {
	it := &Item{Record: whole.Record, Place: was.Place, State: Live, Parent: whole, Of: each.Step.ID, Path: was.Path}
	copy(whole.Frame.Slots[RequestSlot+1:], was.Frame.Slots[RequestSlot+1:]) // what it began with it has itself
	whole.Frame.Slots[each.Entry.Slot] = value.Value{}
	for _, ps := range p.Steps {
		if !ps.inside(each) {
			continue
		}
		for _, n := range []*Named{ps.Result, ps.Entry} {
			if n != nil {
				whole.Frame.Slots[n.Slot] = value.Value{}
			}
		}
	}
	it.Frame.Slots = append([]value.Value(nil), whole.Frame.Slots...)
	it.Frame.Slots[each.Entry.Slot] = entry
	whole.Inner = []*Item{it}
	return it
}

// inside says whether a step stands inside another.
func (ps *PlannedStep) inside(outer *PlannedStep) bool {
	for ps = ps.Inside; ps != nil; ps = ps.Inside {
		if ps == outer {
			return true
		}
	}
	return false
}

// PassEntry passes one entry of a list through the steps of its each.
func (b *Batch) PassEntry(ctx context.Context, each *PlannedStep, entry *Item) error {
	if b.Counts == nil {
		b.Counts = map[string]*Counts{}
	}
	live, err := b.Advance(ctx, each.Branches[0], []*Item{entry})
	if err != nil {
		return err
	}
	return b.finish(live)
}

// EntryNumber tells the path of an entry as people count: from 1, as 18 or 1.3.
func EntryNumber(path string) string {
	if path == "" {
		return ""
	}
	parts := strings.Split(path, ".")
	for i, p := range parts {
		if n, err := strconv.Atoi(p); err == nil {
			parts[i] = strconv.Itoa(n + 1)
		}
	}
	return strings.Join(parts, ".")
}
