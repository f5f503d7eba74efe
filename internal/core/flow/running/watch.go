package running

// Watcher is told where the items of a batch are. An error halts the run there; a *Halt is passed on as it is.
type Watcher interface {
	Before(b *Batch, ps *PlannedStep, items []*Item) error
	After(b *Batch, ps *PlannedStep, items []*Item) error
}

// Stop is a point in a run at which it can be halted: before a step, or behind one that has failed.
type Stop struct {
	N         int // counted from 0 from the start of the run
	Flow      string
	Step      string
	CallStack []string // the steps in which it stands, as flow/step, those that have called its flow among them
	Record    int
	Path      string // of an entry of a list in the record
	Failed    bool   // behind the step: it has set the item aside
}

// Halt is where a run was halted. It is the error by which it is.
type Halt struct {
	Stop
	Plan *Plan
	Item *Item // as it is there
}

// Error says where.
func (h *Halt) Error() string { return "halted at " + h.Step }

// CallStack are the steps in which a step stands, behind those that have called its flow.
func (ps *PlannedStep) CallStack(calls []string) []string {
	all := append([]string(nil), calls...)
	for inner := ps.Inside; inner != nil; inner = inner.Inside {
		all = append(all, ps.Plan.Flow.ID+"/"+inner.Step.ID)
	}
	return all
}

// FirstAside is the first of some items that this step has set aside; nil where it has set aside none.
func (ps *PlannedStep) FirstAside(items []*Item) *Item {
	for _, it := range items {
		if it.State == SetAside && it.Step == ps.Step.ID {
			return it
		}
	}
	return nil
}
