package traffic

import (
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/engine"
	"hollowreed/internal/store"
)

// runAddress is the page of a run.
func runAddress(id uuid.UUID) string { return "/traffic/runs/" + id.String() }

func runID(c *gin.Context) (uuid.UUID, error) {
	id, err := uuid.Parse(c.Param("run"))
	if err != nil {
		return id, store.ErrNotFound
	}
	return id, nil
}

// onRun makes a handler of what is done to a run; it goes on to the page of the run that is given.
func (t traffic) onRun(do func(c *gin.Context, run uuid.UUID) (shown uuid.UUID, err error)) func(c *gin.Context) error {
	return func(c *gin.Context) error {
		id, err := runID(c)
		if err != nil {
			return err
		}
		shown, err := do(c, id)
		if err != nil {
			return err
		}
		c.Redirect(303, runAddress(shown))
		return nil
	}
}

func (t traffic) rerunOpen(c *gin.Context, run uuid.UUID) (uuid.UUID, error) {
	return run, t.Operator(c).RerunOpen(c, run)
}

func (t traffic) resume(c *gin.Context, run uuid.UUID) (uuid.UUID, error) {
	return run, t.Operator(c).Resume(c, run)
}

func (t traffic) cancel(c *gin.Context, run uuid.UUID) (uuid.UUID, error) {
	return run, t.Operator(c).Cancel(c, run)
}

func (t traffic) rerun(c *gin.Context, run uuid.UUID) (uuid.UUID, error) {
	return t.Operator(c).Rerun(c, run, []byte(c.PostForm("message")), c.PostForm("release") == "same")
}

func (t traffic) rerunFrom(c *gin.Context, run uuid.UUID) (uuid.UUID, error) {
	return t.Operator(c).RerunFrom(c, run, c.PostForm("step"))
}

// again runs all runs of a list again that have ended, each on the release that is deployed; of a cause just what waits for somebody.
func (t traffic) again(c *gin.Context) error {
	var err error
	if cause, ok := causeOf(c.Query("cause")); ok {
		err = t.Operator(c).RerunCause(c, cause)
	} else {
		f := store.RunFilter{Scope: t.Scope, Flow: c.Query("flow"), State: store.State(c.Query("state")), Reference: strings.TrimSpace(c.Query("reference"))}
		if err = t.narrow(c, &f); err == nil {
			err = t.Operator(c).RerunMatching(c, f)
		}
	}
	if err != nil {
		return err
	}
	c.Redirect(303, "/traffic")
	return nil
}

func asideID(c *gin.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, store.ErrNotFound
	}
	return id, nil
}

// mendText brings the text of what was set aside, to be mended.
func (t traffic) mendText(c *gin.Context) error {
	id, err := asideID(c)
	if err != nil {
		return err
	}
	a, err := store.AsideOf(c, t.DB, t.Scope, id)
	if err != nil {
		return err
	}
	m, err := t.Engine.CorrectionText(c, a)
	if err != nil {
		return err
	}
	runView.Part(c, "mendform", struct {
		engine.CorrectionText
		ID int64
	}{m, a.ID})
	return nil
}

// mend runs what was set aside again, with the text that was mended where there is one.
func (t traffic) mend(c *gin.Context) error {
	id, err := asideID(c)
	if err != nil {
		return err
	}
	var text *string
	if given, there := c.GetPostForm("text"); there {
		given = strings.TrimRight(given, "\r\n")
		text = &given
	}
	again, err := t.Operator(c).Correct(c, id, text)
	if err != nil {
		return err
	}
	c.Redirect(303, runAddress(again))
	return nil
}

func (t traffic) discard(c *gin.Context) error {
	id, err := asideID(c)
	if err != nil {
		return err
	}
	run, err := t.Operator(c).Discard(c, id)
	if err != nil {
		return err
	}
	c.Redirect(303, runAddress(run))
	return nil
}
