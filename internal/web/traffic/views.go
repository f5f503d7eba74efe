package traffic

import (
	"github.com/gin-gonic/gin"

	"hollowreed/internal/store"
)

// views are the pages of the place, with what waits on them.
type views struct {
	Here  string
	Views []view
}

type view struct {
	Name, Href string
	Count      int
}

// maxAlarms bounds the alarms that are looked at.
const maxAlarms = 100

// views counts what waits.
func (t traffic) views(c *gin.Context, here string) (views, error) {
	open, err := store.OpenWork(c, t.DB, t.Scope)
	if err != nil {
		return views{}, err
	}
	alarms, err := store.AlertStates(c, t.DB, t.Scope, maxAlarms)
	raised := 0
	for _, a := range alarms {
		if a.ResolvedAt == nil {
			raised++
		}
	}
	return views{here, []view{{"Runs", "/traffic", 0}, {"Set aside", "/traffic/aside", open}, {"API calls", "/traffic/calls", 0}, {"Metrics", "/traffic/figures", 0}, {"Alerts", "/traffic/alerts", raised}}}, err
}
