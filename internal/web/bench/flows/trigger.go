package flows

import (
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/store"
	"hollowreed/internal/web/inbound"
)

// firing is whether and when a trigger starts runs, and why it does not.
type firing struct {
	Why      string // it starts nothing; empty where it does
	Bad      bool   // because of trouble, not because somebody wants it so
	Paused   bool
	Pausable bool
	LookedAt *time.Time
	Starts   []string // the next ones, in the schedule's zone
	Zone     string
	Address  string    // at which it waits for requests
	next     time.Time // that was worked out; zero where none was
}

// nextStarts is how many starts of a schedule are shown.
const nextStarts = 10

// firing says what is known of the flow's trigger.
func (b pages) firing(c *gin.Context, plan *running.Plan, release int) (*firing, error) {
	t := plan.Flow.Trigger
	kept, err := store.TriggerOf(c, b.DB, b.Scope, plan.Flow.ID)
	if err != nil {
		return nil, err
	}
	f := &firing{next: kept.NextAt, LookedAt: kept.LookedAt, Paused: kept.PausedBy != nil, Pausable: !t.Of().Callable && release > 0}
	if t.Of().Requests {
		f.Address = t.Method + " " + b.Calls + inbound.Prefix + t.Path.Value
	}
	switch {
	case !f.Pausable:
		return f, nil
	case f.Paused:
		who, err := b.Named(c, *kept.PausedBy)
		if err != nil {
			return nil, err
		}
		f.Why = "Paused by " + who + " at " + kept.PausedAt.UTC().Format("15:04 on 2 January") + "."
		if kept.PausedFor != "" {
			f.Why += " " + kept.PausedFor
		}
	case kept.Fault != "":
		f.Why, f.Bad = "It cannot look: "+kept.Fault, true
	}
	return f, nil
}

// schedule adds the next starts of the draft's schedule.
func (f *firing) schedule(plan *running.Plan, now time.Time) {
	if plan.Schedule == nil {
		return
	}
	f.Zone = "UTC"
	if z := plan.Flow.Trigger.Zone.Value; z != "" {
		f.Zone = z
	}
	if t := plan.Flow.Trigger; t.Cron.Value == "" && f.next.After(now) { // so often, from the last start on
		now = f.next.Add(-time.Duration(t.Interval) * time.Second)
	}
	for _, at := range plan.Schedule.Starts(now, nextStarts) {
		f.Starts = append(f.Starts, at.Format("Mon 2 Jan 15:04:05"))
	}
}

// pause lets the trigger of a flow start nothing, or starts it again.
func (b pages) pause(c *gin.Context) error {
	_, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	if c.PostForm("do") == "go on" {
		err = b.Operator(c).Unpause(c, plan.Flow.ID)
	} else {
		err = b.Operator(c).Pause(c, plan.Flow.ID, strings.TrimSpace(c.PostForm("reason")))
	}
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/flows/"+plan.Flow.ID+"?step=trigger")
	return nil
}
