// Package watch is what one of the workers of an environment does beside the triggers: it looks at the alerts, whether connections
// answer, and removes what is not kept; and it holds the figures that each worker counts.
package watch

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/compiled"
	"hollowreed/internal/core/alert"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/shared"
	"hollowreed/internal/store"
)

// looking are the queries for what alerts look for.
var looking = map[alert.Condition]func(ctx context.Context, db store.DB, o *alertWindow) ([]store.Incident, error){
	alert.FlowFailed: func(ctx context.Context, db store.DB, o *alertWindow) ([]store.Incident, error) {
		return store.FailedFlows(ctx, db, o.scope, o.Flow.Value, o.RunFlow.Value, o.past(), max(1, o.Threshold))
	},
	alert.NoRuns: func(ctx context.Context, db store.DB, o *alertWindow) ([]store.Incident, error) {
		since, ok := o.Since(o.now)
		if !ok {
			return nil, nil
		}
		return store.FlowsWithoutRuns(ctx, db, o.scope, o.Flow.Value, since)
	},
	alert.BacklogGrows: func(ctx context.Context, db store.DB, o *alertWindow) ([]store.Incident, error) {
		return store.Backlogs(ctx, db, o.scope, o.Flow.Value, o.RunFlow.Value, o.Threshold)
	},
	alert.ConnectionDown: func(ctx context.Context, db store.DB, o *alertWindow) ([]store.Incident, error) {
		return store.DownConnections(ctx, db, o.scope, o.Connection.Value, o.past())
	},
	alert.RunTooLong: func(ctx context.Context, db store.DB, o *alertWindow) ([]store.Incident, error) {
		return store.LongRuns(ctx, db, o.scope, o.Flow.Value, o.RunFlow.Value, o.past())
	},
}

// alertWindow is one look at an alert.
type alertWindow struct {
	*alert.Alert
	scope store.Scope
	now   time.Time
}

func (o *alertWindow) past() time.Time { return o.now.Add(-time.Duration(o.Window) * time.Second) }

// drafted are the drafts of the projects, whose alerts are in force as soon as they have no faults.
type drafted struct {
	mu   sync.Mutex
	kept map[string]*project.Project
	read map[string]time.Time // when each was last seen to be as it is kept; none where it has changed perhaps
}

func (d *drafted) forget() {
	d.mu.Lock()
	defer d.mu.Unlock()
	clear(d.read)
}

func (w *Alerts) drafted(ctx context.Context, projectID string) (*project.Project, error) {
	d := &w.draft
	d.mu.Lock()
	defer d.mu.Unlock()
	if p := d.kept[projectID]; p != nil && w.Hearing.Load() && time.Since(d.read[projectID]) < shared.Remembered {
		return p, nil
	}
	read := time.Now()
	p, err := w.Compiled.Draft(ctx, w.DB, projectID)
	if err != nil {
		return nil, err
	}
	if d.kept == nil {
		d.kept, d.read = map[string]*project.Project{}, map[string]time.Time{}
	}
	d.kept[projectID], d.read[projectID] = p, read
	return p, nil
}

// Alerts looks for what alerts are about and tells of it. One of the workers of an environment does.
type Alerts struct {
	AlertConfig
	draft drafted
	dues  alertsDue
	stirs atomic.Bool // something has happened since the alerts were looked at
}

// AlertConfig is what a watch of alerts works with.
type AlertConfig struct {
	DB          *pgxpool.Pool
	Compiled    *compiled.Cache
	Deployments *shared.Deployments
	Hearing     *shared.Hearing
	Env         string
	Site        string           // where the pages are, for messages that lead there
	Every       time.Duration    // between two looks
	Now         func() time.Time // the time in UTC
	// Begin records a run of a flow that tells, with its message as JSON.
	Begin func(ctx context.Context, tx pgx.Tx, d store.Deployment, plan *running.Plan, input []byte) (uuid.UUID, error)
}

// NewAlerts makes a watch of alerts.
func NewAlerts(with AlertConfig) *Alerts { return &Alerts{AlertConfig: with} }

// Forget lets drafts be read anew.
func (w *Alerts) Forget() { w.draft.forget() }

// Stir lets the next look be made: something has happened.
func (w *Alerts) Stir() {
	w.stirs.Store(true)
	w.dues.stir(2 * w.Every)
}

// alertsDue says when the alerts are looked at: soon after what they look for may have come, and now and then.
type alertsDue struct {
	mu    sync.Mutex
	until time.Time // till when every look is wanted
	last  time.Time
}

// restful is how many looks are left out where nothing has happened.
const restful = 4

// stir wants every look for a while: something has happened that an alert may be about, at the end of that time perhaps.
func (a *alertsDue) stir(during time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if until := time.Now().Add(during); until.After(a.until) {
		a.until = until
	}
}

// wanted says whether a look is wanted now, and notes that it is made.
func (a *alertsDue) wanted(every time.Duration, hears bool) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := time.Now()
	if hears && now.After(a.until) && now.Sub(a.last) < restful*every-every/2 {
		return false
	}
	a.last = now
	return true
}

// stirred wants looks at the alerts for as long as one of those of the projects may still find what has just come: so many seconds
// behind it.
func (w *Alerts) stirred(list []*project.Project) {
	within := 0
	for _, p := range list {
		for _, a := range p.Alerts() {
			if a.Condition == alert.ConnectionDown || a.Condition == alert.RunTooLong {
				within = max(within, a.Window)
			}
		}
	}
	w.dues.stir(time.Duration(within)*time.Second + 2*w.Every)
}

// Look looks at the alerts of all projects that run something in the environment.
func (w *Alerts) Look(ctx context.Context) error {
	if !w.dues.wanted(w.Every, w.Hearing.Load()) {
		return nil
	}
	deployments, _, err := w.Deployments.All(ctx)
	if err != nil {
		return err
	}
	var drafts []*project.Project
	var errs []error
	for i, d := range deployments {
		if i > 0 && d.Project == deployments[i-1].Project {
			continue
		}
		p, err := w.drafted(ctx, d.Project)
		if err != nil { // the alerts of other projects are looked at nevertheless
			errs = append(errs, fmt.Errorf("%s: %w", d.Project, err))
			continue
		}
		drafts = append(drafts, p)
	}
	if w.stirs.Swap(false) {
		w.stirred(drafts)
	}
	for _, p := range drafts {
		errs = append(errs, w.watchProject(ctx, p))
	}
	return errors.Join(errs...)
}

// watchProject looks at the alerts of a project. What is as it was told needs no transaction.
func (w *Alerts) watchProject(ctx context.Context, p *project.Project) error {
	s := store.Scope{Project: p.ID, Environment: w.Env}
	if len(p.Alerts()) == 0 {
		return nil
	}
	open, err := store.AllOpenAlertStates(ctx, w.DB, s)
	if err != nil {
		return err
	}
	if len(open) > 0 {
		w.dues.stir(2 * w.Every)
	}
	var errs []error
	for _, a := range p.Alerts() {
		if a.Disabled || p.AlertFault(a.ID) != nil {
			continue
		}
		of := slices.DeleteFunc(slices.Clone(open), func(m store.AlertState) bool { return m.Alert != a.ID })
		now, err := w.matters(ctx, w.DB, s, a, of)
		if err == nil && !w.news(a, of, now) {
			continue
		}
		errs = append(errs, pgx.BeginFunc(ctx, w.DB, func(tx pgx.Tx) error { return w.watchOne(ctx, tx, s, a) }))
	}
	return errors.Join(errs...)
}

// watchOne compares what is the matter now with what was told: what is new is raised, what comes again or lasts is told again
// in the alert's rhythm, what is over is told as such. Telling is a run of the alert's flow, recorded with what it tells.
func (w *Alerts) watchOne(ctx context.Context, tx pgx.Tx, s store.Scope, a *alert.Alert) error {
	if ok, err := store.TryLock(ctx, tx, "alert "+s.String()+" "+a.ID); err != nil || !ok {
		return err
	}
	open, err := store.OpenAlertStates(ctx, tx, s, a.ID)
	if err != nil {
		return err
	}
	now, err := w.matters(ctx, tx, s, a, open)
	if err != nil {
		return err
	}
	for _, m := range now {
		i := slices.IndexFunc(open, func(was store.AlertState) bool { return was.Cause == m.Cause })
		if i < 0 {
			err = w.raise(ctx, tx, s, a, m)
		} else {
			err = w.repeat(ctx, tx, s, a, open[i], m)
		}
		if err != nil {
			return err
		}
	}
	return w.clear(ctx, tx, s, a, open, now)
}

// matters is what is the matter now.
func (w *Alerts) matters(ctx context.Context, db store.DB, s store.Scope, a *alert.Alert, open []store.AlertState) ([]store.Incident, error) {
	now, err := looking[a.Condition](ctx, db, &alertWindow{Alert: a, scope: s, now: w.Now()})
	if err != nil || a.Condition != alert.FlowFailed {
		return now, err
	}
	return w.waiting(ctx, db, s, open, now)
}

// news says whether there is something to tell or to note.
func (w *Alerts) news(a *alert.Alert, open []store.AlertState, now []store.Incident) bool {
	if len(open) != len(now) {
		return true
	}
	for _, m := range now {
		i := slices.IndexFunc(open, func(was store.AlertState) bool { return was.Cause == m.Cause })
		if i < 0 || m.Count != open[i].Count || w.again(a, open[i], m) != "" {
			return true
		}
	}
	return false
}

// waiting adds what was told and still waits for somebody, however long ago it came: it is over only when nothing does. Of
// what was told, all that waits is counted, and not only what came lately.
func (w *Alerts) waiting(ctx context.Context, tx store.DB, s store.Scope, open []store.AlertState, now []store.Incident) ([]store.Incident, error) {
	for _, was := range open {
		flow, _, _ := strings.Cut(was.Cause, ": ")
		m, err := store.StillFailed(ctx, tx, s, was.Cause, flow)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(now, func(m store.Incident) bool { return m.Cause == was.Cause })
		switch {
		case m == nil:
		case i >= 0:
			now[i] = *m
		default:
			now = append(now, *m)
		}
	}
	return now, nil
}

func (w *Alerts) raise(ctx context.Context, tx pgx.Tx, s store.Scope, a *alert.Alert, m store.Incident) error {
	run, err := w.tell(ctx, tx, s, a, w.telling(s, "raised", m, m.Since, 1))
	if err != nil {
		return err
	}
	return store.RecordFirst(ctx, tx, s, a.ID, m, run)
}

// repeat tells again what has come again, or lasts; else it is only counted.
func (w *Alerts) repeat(ctx context.Context, tx pgx.Tx, s store.Scope, a *alert.Alert, was store.AlertState, m store.Incident) error {
	state := w.again(a, was, m)
	if state == "" {
		if m.Count != was.Count {
			return store.Recount(ctx, tx, was.ID, m)
		}
		return nil
	}
	run, err := w.tell(ctx, tx, s, a, w.telling(s, state, m, was.Since, was.NotifiedCount+1))
	if err != nil {
		return err
	}
	return store.RecordRepeat(ctx, tx, was.ID, m, run)
}

// again says as what a matter that was told is told now: it has come again, or lasts; empty where it is not.
func (w *Alerts) again(a *alert.Alert, was store.AlertState, m store.Incident) string {
	switch now := w.Now(); {
	case a.RepeatsNow(m.Newest, was.Newest, was.NotifiedAt, now):
		return "again"
	case a.RepeatAfter > 0 && now.Sub(was.NotifiedAt) >= time.Duration(a.RepeatAfter)*time.Second:
		return "reminder"
	}
	return ""
}

// telling is what is told of a matter.
func (w *Alerts) telling(s store.Scope, state string, m store.Incident, since time.Time, told int) alert.Notification {
	t := alert.Notification{State: state, Text: m.Text, Cause: m.Cause, Flow: m.Flow, Connection: m.Connection, Since: since, NotifiedCount: told, Count: m.Count, Reference: m.Reference}
	if m.Run != nil {
		t.Run = m.Run.String()
		t.Address = w.Site + "/p/" + url.PathEscape(s.Project) + "/traffic/runs/" + t.Run
	}
	if m.Fault != nil {
		t.Value = m.Fault.Found
		if bare, err := strconv.Unquote(t.Value); err == nil { // a text, as the fault's sentence quotes it
			t.Value = bare
		}
	}
	return t
}

// clear tells what is over.
func (w *Alerts) clear(ctx context.Context, tx pgx.Tx, s store.Scope, a *alert.Alert, open []store.AlertState, now []store.Incident) error {
	for _, was := range open {
		if slices.ContainsFunc(now, func(m store.Incident) bool { return m.Cause == was.Cause }) {
			continue
		}
		t := alert.Notification{State: "cleared", Text: "over: " + was.Text, Cause: was.Cause, Since: was.Since, NotifiedCount: was.NotifiedCount + 1, Count: was.Count}
		run, err := w.tell(ctx, tx, s, a, t)
		if err != nil {
			return err
		}
		if err := store.Resolve(ctx, tx, was.ID, &run); err != nil {
			return err
		}
	}
	return nil
}

// tell records a run of the alert's flow, as it is deployed, with the message.
func (w *Alerts) tell(ctx context.Context, tx pgx.Tx, s store.Scope, a *alert.Alert, t alert.Notification) (uuid.UUID, error) {
	d, err := store.DeploymentOf(ctx, tx, s, a.RunFlow.Value)
	if errors.Is(err, store.ErrNotFound) {
		return uuid.Nil, errors.New("the flow " + a.RunFlow.Value + " of the alert " + a.Title + " is not released")
	}
	if err != nil {
		return uuid.Nil, err
	}
	p, err := w.Compiled.Release(ctx, w.DB, s.Project, a.RunFlow.Value, d.Number)
	if err != nil {
		return uuid.Nil, err
	}
	plan := p.Flow(a.RunFlow.Value)
	if plan == nil {
		return uuid.Nil, store.ErrNotFound
	}
	if f := alert.CheckFlow(plan.Input); f != nil {
		return uuid.Nil, f
	}
	input := json.Bytes(a.As(t, plan.Input))
	return w.Begin(ctx, tx, d, plan, input)
}
