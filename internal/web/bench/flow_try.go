package bench

import (
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
)

// how is what a try of a flow does about the steps that reach systems, with what they answered before.
func (b bench) how(c *gin.Context, plan *flow.Plan) (engine.How, error) {
	choices, err := b.choices(c)
	if err != nil {
		return engine.How{}, err
	}
	heard, err := store.HeardOf(c, b.DB, b.Project, append([]string{plan.Flow.ID}, plan.Flows...)...)
	return engine.How{Choices: choices, Heard: heard}, err
}

// since is when the remembered answers of a flow's steps were given: the oldest of them; zero where there are none.
func since(heard *flow.Recording, plan *flow.Plan) (at time.Time) {
	for _, ps := range plan.Steps {
		if s := heard.Since(plan.Flow.ID, ps.Step.ID); !s.IsZero() && (at.IsZero() || s.Before(at)) {
			at = s
		}
	}
	return at
}

// tryFlow tries a draft because somebody asks for it: what is to be done really is done, and what systems answer is
// remembered.
func (b bench) tryFlow(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	how, err := b.how(c, plan)
	if err != nil {
		return err
	}
	how.Asks = true
	d := &flowPage{ID: look.id, look: look}
	d.try(c, b, p, plan, how)
	if err := store.Hear(c, b.DB, b.Project, how.Heard.All()); err != nil {
		return err
	}
	c.Redirect(303, look.address(look.step, look.record))
	return nil
}

// chooseTry keeps what tries do about a step.
func (b bench) chooseTry(c *gin.Context) error {
	look := lookOf(c.Param("id"), c.PostForm)
	m := flow.Manner(c.PostForm("manner"))
	if !slices.Contains(flow.Manners, m) {
		return store.ErrNotFound
	}
	if err := store.Choose(c, b.DB, b.Project, stepKey(look.id, look.step), m); err != nil {
		return err
	}
	return b.showFlow(c, look)
}

func asJSON(v value.Value) string { return string((&json.Appender{}).Append(nil, v)) }
