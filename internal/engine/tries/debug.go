package tries

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/project"
)

// DebugSession is a draft that somebody steps through with one message. Each move goes from the start to where the walk is to
// halt: what systems answered is remembered, so that nobody is asked twice, and a step whose settings were changed
// meanwhile is done with the new ones.
type DebugSession struct {
	ID          string
	Flow        string
	Sample      string
	Record      int // from 1, of the records that are read; 0 for a flow that reads none
	Breakpoints map[StepRef]string
	OnFault     bool // it halts behind a step that has failed, too
	Changes     []trial.Change
	At          int // the stop at which it halts; -1 before it has begun
	Test        *TestRun
	Trace       []running.Stop
	Fault       *fault.Fault // of the last change
	choices     map[StepRef]trial.CallMode
	with        *trial.TriedWith
	heard       trial.Recording
	mu          sync.Mutex
	began       time.Time
	used        time.Time
	ended       chan struct{} // closed when it comes to its end for the first time
}

// walks are those that people have begun.
type walks struct {
	mu   sync.Mutex
	kept map[string]*DebugSession
}

// maxWalks bounds them: the one that was longest not used is forgotten.
const maxWalks = 50

// StartDebug begins to step through a draft, and halts before its first step.
func (e *Tries) StartDebug(ctx context.Context, p *project.Project, flowID, sample string, record int, how TestOptions) (*DebugSession, error) {
	plan := p.Flow(flowID)
	if plan == nil {
		return nil, project.ErrNoPart
	}
	if len(plan.Faults) > 0 {
		return nil, fault.New(fault.Setting, "the flow has faults").WithFix("Mend them, then step through it")
	}
	w := &DebugSession{ID: uuid.NewString(), Flow: flowID, Sample: sample, Record: record, Breakpoints: map[StepRef]string{}, OnFault: true, At: -1, choices: how.Choices, with: how.With, began: time.Now(), used: time.Now(), ended: make(chan struct{})}
	e.walks.add(w)
	return w, e.Advance(ctx, p, w, "into", "")
}

func (w *walks) add(one *DebugSession) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.kept == nil {
		w.kept = map[string]*DebugSession{}
	}
	w.kept[one.ID] = one
	for len(w.kept) > maxWalks {
		oldest := one
		for _, other := range w.kept {
			if other.used.Before(oldest.used) {
				oldest = other
			}
		}
		delete(w.kept, oldest.ID)
	}
}

// DebugSessionByID finds a walk; nil where there is none any more.
func (e *Tries) DebugSessionByID(id string) *DebugSession {
	e.walks.mu.Lock()
	defer e.walks.mu.Unlock()
	return e.walks.kept[id]
}

// halting says for a stop whether the walk halts there.
type halting func(s running.Stop, it *running.Item, ps *running.PlannedStep) bool

// moves are the ways of going on, by what a person asks for; to is a step, as flow/step, where one is named.
var moves = map[string]func(w *DebugSession, to StepRef) halting{
	// into halts before the next step, whatever it stands in
	"into": func(w *DebugSession, _ StepRef) halting {
		return w.behind(func(running.Stop) bool { return true })
	},
	// over halts before the next step that stands in no step of this one
	"over": func(w *DebugSession, _ StepRef) halting {
		here := ""
		if w.At >= 0 && w.At < len(w.Trace) {
			here = w.Trace[w.At].Flow + "/" + w.Trace[w.At].Step
		}
		return w.behind(func(s running.Stop) bool { return !slices.Contains(s.CallStack, here) })
	},
	// on halts at marks and faults only
	"on": func(w *DebugSession, _ StepRef) halting {
		return w.behind(func(running.Stop) bool { return false })
	},
	// to halts before a step
	"to": func(w *DebugSession, to StepRef) halting {
		return w.behind(func(s running.Stop) bool { return s.Flow == to.Flow && s.Step == to.Step })
	},
	// back halts at the stop before this one
	"back": func(w *DebugSession, _ StepRef) halting {
		return w.backTo(func(running.Stop) bool { return true })
	},
	// back to halts where the walk was last before a step
	"back to": func(w *DebugSession, to StepRef) halting {
		return w.backTo(func(s running.Stop) bool { return s.Flow == to.Flow && s.Step == to.Step })
	},
	// again halts where it is: with what was changed
	"again": func(w *DebugSession, _ StepRef) halting {
		at := w.At
		return func(s running.Stop, _ *running.Item, _ *running.PlannedStep) bool { return s.N == at }
	},
}

// behind halts at stops behind the present one: at those that fit, at marks, and at faults.
func (w *DebugSession) behind(fits func(running.Stop) bool) halting {
	at := w.At
	return func(s running.Stop, it *running.Item, ps *running.PlannedStep) bool {
		switch {
		case s.N <= at:
			return false
		case s.Failed:
			return w.OnFault
		}
		return fits(s) || w.marked(s, it, ps)
	}
}

// marked says whether a stop has a mark whose condition is true.
func (w *DebugSession) marked(s running.Stop, it *running.Item, ps *running.PlannedStep) bool {
	condition, ok := w.Breakpoints[StepRef{s.Flow, s.Step}]
	if !ok || condition == "" {
		return ok
	}
	prog, faults := formula.Compile(condition, ps.Scope)
	if len(faults) > 0 {
		return true // better once too often than past it
	}
	fr := formula.Frame{Slots: slices.Clone(it.Frame.Slots)}
	v, f := prog.Eval(&fr)
	return f != nil || v.IsTrue()
}

// backTo halts at the last stop before the present one that fits; the changes behind it are taken back.
func (w *DebugSession) backTo(fits func(running.Stop) bool) halting {
	to := 0
	for i := 0; i < min(w.At, len(w.Trace)); i++ {
		if fits(w.Trace[i]) && !w.Trace[i].Failed {
			to = i
		}
	}
	w.Changes = slices.DeleteFunc(w.Changes, func(c trial.Change) bool { return c.N > to })
	return func(s running.Stop, _ *running.Item, _ *running.PlannedStep) bool { return s.N == to }
}

// Advance goes on, or back.
func (e *Tries) Advance(ctx context.Context, p *project.Project, w *DebugSession, move, to string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	how := moves[move]
	if how == nil {
		return fault.New(fault.Unknown, "there is no way to go %q", move)
	}
	e.walk(ctx, p, w, how(w, stepOf(to)))
	return nil
}

func stepOf(s string) StepRef {
	f, step, _ := strings.Cut(s, "/")
	return StepRef{f, step}
}

// walk takes the message from the start to where it halts.
func (e *Tries) walk(ctx context.Context, p *project.Project, w *DebugSession, halts halting) {
	w.used = time.Now()
	walk := &trial.Walk{Changes: w.Changes, Halts: halts}
	w.Test = e.RunTest(ctx, p, w.Flow, w.Sample, TestOptions{Choices: w.choices, With: w.with, Recording: &w.heard, Requested: true, Replay: true, Watcher: walk, Record: w.Record, At: w.began})
	w.Trace, w.Fault = walk.Trace, walk.Bad
	w.At = len(walk.Trace)
	if w.Test.Halt != nil {
		w.At = w.Test.Halt.N
		return
	}
	select {
	case <-w.ended:
	default:
		close(w.ended)
	}
}

// Change changes a value where the walk is halted. One that cannot be made is told, and nothing is changed.
func (e *Tries) Change(ctx context.Context, p *project.Project, w *DebugSession, name, source string) *fault.Fault {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.Test == nil || w.Test.Halt == nil {
		return fault.New(fault.Setting, "the message has come to its end: nothing can be changed").WithFix("Go back first")
	}
	was := w.Changes
	w.Changes = append(slices.Clone(was), trial.Change{N: w.At, Name: name, Formula: source})
	e.walk(ctx, p, w, moves["again"](w, StepRef{}))
	bad := w.Fault
	if bad != nil {
		w.Changes = was
		e.walk(ctx, p, w, moves["again"](w, StepRef{}))
	}
	return bad
}

// SetBreakpoint makes the walk halt before a step each time, or only where a condition is true; or no longer.
func (w *DebugSession) SetBreakpoint(step StepRef, on bool, condition string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if on {
		w.Breakpoints[step] = condition
	} else {
		delete(w.Breakpoints, step)
	}
}

// Do does something with the walk while it does not move.
func (w *DebugSession) Do(do func() error) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return do()
}
