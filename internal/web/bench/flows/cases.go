package flows

import (
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// flowCases shows the cases of a flow.
func (b pages) flowCases(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	id := plan.Flow.ID
	return b.ShowCases(c, p, p.CasesOfFlow(id), "/bench/flows/"+id, plan.Flow.Title)
}

// keepFlowCase keeps the record at hand, with what systems answer to it, and what the flow comes to with it now.
func (b pages) keepFlowCase(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	how, err := b.TestOptions(c, plan)
	if err != nil {
		return err
	}
	record, _ := strconv.Atoi(look.record)
	run, f := b.Engine.Tries.SampleCase(c, p, look.id, look.sample, record, how)
	if f != nil {
		return f
	}
	title := strings.TrimSpace(c.PostForm("title"))
	if title == "" {
		title = "Record " + strconv.Itoa(max(1, record)) + " of " + look.sample
	}
	if err := b.Designer(c).AddFlowCase(c, p, look.id, title, run); err != nil {
		return err
	}
	c.Redirect(303, "/bench/flows/"+url.PathEscape(look.id)+"/cases")
	return nil
}

// acceptFlowCase makes what a flow comes to now what is expected of a case.
func (b pages) acceptFlowCase(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	for _, one := range p.CasesOfFlow(plan.Flow.ID) {
		if one.ID != c.PostForm("case") {
			continue
		}
		account, f := p.Play(one.Flow, one.Run)
		if f != nil {
			return f
		}
		err := b.Save(c, project.Path(project.Cases, one.ID), func(text []byte) ([]byte, error) {
			return partfile.Set(text, []any{"expected outcomes"}, project.WriteOutcomes(account))
		})
		if err != nil {
			return err
		}
		c.Redirect(303, "/bench/flows/"+url.PathEscape(plan.Flow.ID)+"/cases")
		return nil
	}
	return store.ErrNotFound
}
