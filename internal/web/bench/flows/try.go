package flows

import (
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/web/bench/base"
)

// typeTry keeps what somebody types for the tries of a flow in place of a sample, and tries it with that.
func (b pages) typeTry(c *gin.Context) error {
	_, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	var with trial.TriedWith
	if c.PostForm("do") != "forget" {
		with = trial.TriedWith{Message: strings.TrimSpace(base.UnixLines(c.PostForm("message"))), Address: strings.TrimSpace(c.PostForm("address")), Headers: strings.TrimSpace(base.UnixLines(c.PostForm("headers")))}
	}
	if err := b.Designer(c).TypeTry(c, plan, with); err != nil {
		return err
	}
	c.Redirect(303, look.address(look.step, look.record))
	return nil
}

// typed is the form for what tries of a flow begin with; nil where they begin with nothing that could be typed.
func (d *flowPage) typed(plan *running.Plan) *typedForm {
	request := plan.Flow.Trigger.Of().Requests
	if !request && plan.Input == nil {
		return nil
	}
	f := &typedForm{Request: request, Messaged: plan.Input != nil || request && plan.Flow.Trigger.Method != "GET", Kept: !d.how.With.Empty()}
	if plan.Input != nil {
		f.Notation = plan.Input.Notation.Name
	}
	if f.Kept {
		f.TriedWith = *d.how.With
		return f
	}
	if d.Trial != nil && d.Trial.Whole != nil {
		if v := d.Trial.Whole.Frame.Slots[running.RequestSlot]; request {
			f.Address = trial.TypedAddress(v)
			f.Message = v.Field("body").Text()
		}
		if v := d.Trial.Whole.Frame.Slots[running.InputSlot]; plan.Input != nil && v.Kind() == value.RecordKind && (!request || plan.Input.Notation == json.Kind.Notation) {
			f.Message = json.Indented(v)
		}
	}
	return f
}

// typedForm is what tries begin with.
type typedForm struct {
	trial.TriedWith
	Request, Messaged bool
	Notation          string // of the message of a request
	Kept              bool   // somebody has typed it
}

// tryFlow tries a draft because somebody asks for it: what is to be done really is done, and what systems answer is
// remembered.
func (b pages) tryFlow(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	how, err := b.TestOptions(c, plan)
	if err != nil {
		return err
	}
	how.Requested = true
	d := &flowPage{ID: look.id, look: look}
	d.try(c, b, p, plan, how)
	if err := b.Designer(c).KeepRecordedCalls(c, how.Recording.All()); err != nil {
		return err
	}
	c.Redirect(303, look.address(look.step, look.record))
	return nil
}

// chooseTry keeps what tries do about a step.
func (b pages) chooseTry(c *gin.Context) error {
	look := lookOf(c.Param("id"), c.PostForm)
	if err := b.Designer(c).ChooseCallMode(c, stepKey(look.id, look.step), trial.CallMode(c.PostForm("manner"))); err != nil {
		return err
	}
	return b.showFlow(c, look)
}
