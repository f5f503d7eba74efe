package traffic

import (
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// rerunCause runs what waits for somebody for a cause again: just those records, and the runs that failed as a whole.
func (t traffic) rerunCause(c *gin.Context, cause store.Cause) error {
	asides, runs, err := store.OpenOfCause(c, t.DB, t.Project, cause, time.Now().Add(-lately), maxAgain)
	if err != nil {
		return err
	}
	n, err := t.Engine.RerunAll(c, asides, runs, t.Person.ID)
	if derr := t.deed(c, "ran again by cause:", nil, plural(n, "of what was set aside", "of what was set aside")); derr != nil {
		return derr
	}
	if err != nil {
		return refusal(err)
	}
	c.Redirect(303, "/traffic")
	return nil
}

// rerunOpen runs the records of a run again that wait for somebody.
func (t traffic) rerunOpen(c *gin.Context) error {
	id, err := runID(c)
	if err != nil {
		return err
	}
	list, err := store.Asides(c, t.DB, id, maxAgain)
	if err != nil {
		return err
	}
	var open []int64
	for _, a := range list {
		if a.State == "open" {
			open = append(open, a.ID)
		}
	}
	n, err := t.Engine.RerunAll(c, open, nil, t.Person.ID)
	if derr := t.deed(c, "ran again what was set aside:", &id, plural(n, "record", "records")); derr != nil {
		return derr
	}
	if err != nil {
		return refusal(err)
	}
	c.Redirect(303, "/traffic/runs/"+id.String())
	return nil
}

// refusal tells an error that holds a fault as one.
func refusal(err error) error {
	var f *fault.Fault
	if errors.As(err, &f) {
		return fault.New(f.Code, "%s", err)
	}
	return err
}

// mendText brings the text of what was set aside, to be mended.
func (t traffic) mendText(c *gin.Context) error {
	a, err := t.aside(c)
	if err != nil {
		return err
	}
	m, err := t.Engine.MendText(c, a)
	if err != nil {
		return err
	}
	runView.Part(c, "mendform", struct {
		engine.MendText
		ID int64
	}{m, a.ID})
	return nil
}

// again runs all runs of a list again that have ended, each on the newest release.
func (t traffic) again(c *gin.Context) error {
	if cause, ok := causeOf(c.Query("cause")); ok {
		return t.rerunCause(c, cause)
	}
	f := store.RunFilter{Project: t.Project, Flow: c.Query("flow"), State: store.State(c.Query("state")), Reference: strings.TrimSpace(c.Query("reference")), Most: maxAgain}
	if err := t.narrow(c, &f); err != nil {
		return err
	}
	if f.Flow == "" && f.Among == nil {
		return fault.New(fault.Setting, "choose a flow or a cause first").Mended("Narrow the list to what is to be run again")
	}
	runs, err := store.Runs(c, t.DB, f)
	if err != nil {
		return err
	}
	n := 0
	for _, r := range runs {
		if !r.Ended() {
			continue
		}
		if _, err := t.Engine.Repeat(c, r.ID, engine.Again{By: t.Person.ID}); err != nil {
			return err
		}
		n++
	}
	if err := t.deed(c, "ran many again:", nil, page.Number(n)+" runs"); err != nil {
		return err
	}
	c.Redirect(303, "/traffic")
	return nil
}

func runID(c *gin.Context) (uuid.UUID, error) {
	id, err := uuid.Parse(c.Param("run"))
	if err != nil {
		return id, store.ErrNotFound
	}
	return id, nil
}

func (t traffic) resume(c *gin.Context) error {
	id, err := runID(c)
	if err != nil {
		return err
	}
	if err := t.Engine.Resume(c, id); err != nil {
		return err
	}
	if err := t.deed(c, "resumed the run", &id, ""); err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+id.String())
	return nil
}

func (t traffic) repeat(c *gin.Context) error {
	id, err := runID(c)
	if err != nil {
		return err
	}
	message := []byte(c.PostForm("message"))
	again, err := t.Engine.Repeat(c, id, engine.Again{By: t.Person.ID, Message: message, Same: c.PostForm("release") == "same"})
	if err != nil {
		return err
	}
	what := "ran it again"
	if len(message) > 0 {
		what = "ran it again with a mended message"
	}
	if err := t.deed(c, what, &id, ""); err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+again.String())
	return nil
}

// repeatFrom runs a run again from a step on.
func (t traffic) repeatFrom(c *gin.Context) error {
	id, err := runID(c)
	if err != nil {
		return err
	}
	again, err := t.Engine.RepeatFrom(c, id, c.PostForm("step"), t.Person.ID)
	if err == nil {
		err = t.deed(c, "ran it again from", &id, c.PostForm("step"))
	}
	if err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+again.String())
	return nil
}

func (t traffic) cancel(c *gin.Context) error {
	id, err := runID(c)
	if err != nil {
		return err
	}
	if err := t.Engine.Cancel(c, id, t.Person.ID); err != nil {
		return err
	}
	if err := t.deed(c, "stopped the run", &id, ""); err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+id.String())
	return nil
}

func (t traffic) aside(c *gin.Context) (store.Aside, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return store.Aside{}, store.ErrNotFound
	}
	return store.AsideByID(c, t.DB, id)
}

func (t traffic) mend(c *gin.Context) error {
	a, err := t.aside(c)
	if err != nil {
		return err
	}
	var text *string
	what := "ran again as it is"
	if given, ok := c.GetPostForm("text"); ok {
		given = strings.TrimRight(given, "\r\n")
		text, what = &given, "mended"
	}
	again, err := t.Engine.Mend(c, a.ID, text, t.Person.ID)
	if err != nil {
		return err
	}
	if err := t.deed(c, what, &a.Run, asideName(a)); err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+again.String())
	return nil
}

// asideName tells a record, or an entry of one, as people count.
func asideName(a store.Aside) string {
	var parts []string
	if a.Record >= 0 {
		parts = append(parts, "record "+strconv.Itoa(a.Record+1))
	}
	if a.Path != "" {
		parts = append(parts, "entry "+flow.EntryNumber(a.Path))
	}
	return strings.Join(parts, ", ")
}

func (t traffic) letGo(c *gin.Context) error {
	a, err := t.aside(c)
	if err == nil {
		err = t.Engine.Discard(c, a.ID, t.Person.ID)
	}
	if err == nil {
		err = t.deed(c, "let go", &a.Run, asideName(a))
	}
	if err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+a.Run.String())
	return nil
}
