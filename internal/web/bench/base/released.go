package base

import (
	"slices"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// Released finds the release of a part that the environment runs, and whether the draft is another; 0: it runs none.
func (b Pages) Released(c *gin.Context, p *project.Project, id string) (release int, differs bool, err error) {
	list, err := store.Deployments(c, b.DB, b.Scope)
	if err != nil {
		return 0, false, err
	}
	i := slices.IndexFunc(list, func(r store.Deployment) bool { return r.Flow == id })
	if i < 0 {
		return 0, false, nil
	}
	release = list[i].Number
	was, err := store.ReleaseFiles(c, b.DB, p.ID, id, release)
	if err != nil {
		return 0, false, err
	}
	now := p.Uses(id)
	differs = len(now) != len(was)
	for _, path := range now {
		kind, _, _ := project.Kind(path)
		differs = differs || kind != project.Connections && path != project.File && was[path] != p.Texts[path]
	}
	return release, differs, nil
}
