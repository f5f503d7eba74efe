// Package releases is the place that shows what is released, by whom and when.
package releases

import (
	"embed"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

var view = page.Parse(files, "releases.html")

const most = 200

type releasesPage struct {
	page.Frame
	Releases []store.Release
	Newest   map[string]int
	People   map[string]store.Person
}

// PathOf is the path of the part that a release is of.
func (releasesPage) PathOf(releaseID string) string { return project.ReleasedPath(releaseID) }

// Routes adds the place's addresses.
func Routes(r gin.IRouter, s *page.Site) {
	r.GET("/releases", s.Do(func(c *gin.Context) error { return show(c, s) }))
}

func show(c *gin.Context, s *page.Site) error {
	d := releasesPage{Frame: s.Frame(c, "releases", "Releases"), Newest: map[string]int{}}
	var err error
	if d.Releases, err = store.Releases(c, s.DB, s.Project, most); err != nil {
		return err
	}
	if d.People, err = store.People(c, s.DB); err != nil {
		return err
	}
	for _, r := range d.Releases {
		d.Newest[r.Flow] = max(d.Newest[r.Flow], r.Number)
	}
	view.Page(c, d)
	return nil
}
