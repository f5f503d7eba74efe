// Package estate is the place that shows what a project stands on: its connections and whether
// they answer, and the workers.
package estate

import (
	"context"
	"embed"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

var view = page.Parse(files, "estate.html")

type connection struct {
	ID, Title, About, Page string
	Well                   bool
	Took                   string
}

type estatePage struct {
	page.Frame
	Connections []connection
	Workers     []store.Worker
}

// Routes adds the place's addresses.
func Routes(r gin.IRouter, s *page.Site) {
	r.GET("/estate", s.Do(func(c *gin.Context) error { return show(c, s) }))
}

func show(c *gin.Context, s *page.Site) error {
	p, err := s.Load(c)
	if err != nil {
		return err
	}
	d := estatePage{Frame: s.Frame(c, "estate", "Estate")}
	for _, part := range p.Parts(project.Connections) {
		conn := p.Connection(part.ID)
		row := connection{ID: part.ID, Title: conn.Title, About: conn.About, Page: s.Outside.Settings(part.ID).Page}
		ctx, cancel := context.WithTimeout(c, 2*time.Second)
		began := time.Now()
		row.Well = s.Outside.Check(ctx, part.ID) == nil
		row.Took = page.Took(time.Since(began))
		cancel()
		d.Connections = append(d.Connections, row)
	}
	if d.Workers, err = store.Workers(c, s.DB); err != nil {
		return err
	}
	view.Page(c, d)
	return nil
}
