package mappings

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

func (b pages) cases(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	return b.ShowCases(c, p, p.CasesOf(id), "/bench/mappings/"+id, plan.Mapping.Title)
}

// keepCase keeps the record at hand with what the mapping makes of it now.
func (b pages) keepCase(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	d := &mappingPage{ID: id, UsedBy: flowsUsing(p, project.Path(project.Mappings, id))}
	fr := plan.NewFrame()
	d.message(c, b, p, plan, c.PostForm("record"), fr)
	title := strings.TrimSpace(c.PostForm("title"))
	if title == "" {
		title = fmt.Sprintf("Record %d of %s", d.Record, d.Sample)
	}
	if err := b.Designer(c).AddMappingCase(c, title, id, plan, fr); err != nil {
		return err
	}
	c.Redirect(303, "/bench/mappings/"+url.PathEscape(id)+"/cases")
	return nil
}

// acceptCase makes what comes out now what is expected of a case.
func (b pages) acceptCase(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	id := c.Param("id")
	for _, one := range p.CasesOf(id) {
		if one.ID != c.PostForm("case") {
			continue
		}
		expected, fails := p.Outcome(one)
		err := b.Save(c, project.Path(project.Cases, one.ID), func(text []byte) ([]byte, error) {
			text, err := partfile.Set(text, []any{"expected"}, expected)
			if err != nil {
				return nil, err
			}
			return partfile.Set(text, []any{"expected fault"}, fails)
		})
		if err != nil {
			return err
		}
		c.Redirect(303, "/bench/mappings/"+url.PathEscape(id)+"/cases")
		return nil
	}
	return store.ErrNotFound
}
