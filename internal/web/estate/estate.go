// Package estate is the place that shows what a project stands on: its connections and whether
// they answer, its secrets, and the workers.
package estate

import (
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
	Health                 *store.Health
	Breaker                string
}

type estatePage struct {
	page.Frame
	Connections []connection
	Channels    []channelRow
	Workers     []store.Worker
	Secrets     int
	Expiring    int
	Callers     int
}

// Routes adds the place's addresses.
func Routes(r gin.IRouter, s *page.Site) {
	with := func(h func(*gin.Context, *page.Site) error) gin.HandlerFunc {
		return s.Do(func(c *gin.Context) error { return h(c, s) })
	}
	r.GET("/estate", with(show))
	r.GET("/estate/secrets", with(secrets))
	r.POST("/estate/secrets", with(keepSecret))
	r.POST("/estate/secrets/remove", with(dropSecret))
	r.GET("/estate/callers", with(callers))
	r.POST("/estate/callers", with(addCaller))
	r.POST("/estate/callers/:id", with(changeCaller))
}

// channelRow is a channel with what is before its readers.
type channelRow struct {
	ID, Title, Kind string
	Readers         int
	Lag, Aside      int // of the reader that is the furthest behind; of all
	Oldest          *time.Time
	Last            *time.Time // when the newest message was put
}

func channelsOf(c *gin.Context, s *page.Site, p *project.Project) (rows []channelRow, err error) {
	for _, part := range p.Parts(project.Channels) {
		row := channelRow{ID: part.ID, Title: part.Title, Kind: string(p.Channel(part.ID).Kind)}
		id, err := store.ChannelID(c, s.DB, s.Scope, part.ID)
		if err != nil {
			return nil, err
		}
		readers, err := store.Readers(c, s.DB, id)
		if err != nil {
			return nil, err
		}
		row.Readers = len(readers)
		for _, r := range readers {
			lag, err := store.LagOf(c, s.DB, r.ID)
			if err != nil {
				return nil, err
			}
			row.Aside += lag.Aside
			if lag.Messages > row.Lag {
				row.Lag, row.Oldest = lag.Messages, lag.Oldest
			}
		}
		last, err := store.LookAtMessages(c, s.DB, id, store.ChannelPlace{}, "", 1)
		if err != nil {
			return nil, err
		}
		if len(last) > 0 {
			row.Last = &last[0].PutAt
		}
		rows = append(rows, row)
	}
	return rows, nil
}

func show(c *gin.Context, s *page.Site) error {
	p, err := s.Load(c)
	if err != nil {
		return err
	}
	d := estatePage{Frame: s.Frame(c, "estate", "Estate", "T", "look at all connections now")}
	healths, err := store.Healths(c, s.DB, s.Scope)
	if err != nil {
		return err
	}
	for _, part := range p.Parts(project.Connections) {
		conn := p.Connection(part.ID)
		row := connection{ID: part.ID, Title: conn.Title, About: conn.About, Breaker: s.Outside.Breaker(part.ID)}
		if h, ok := healths[part.ID]; ok {
			row.Health = &h
		}
		if set, err := store.SettingOf(c, s.DB, s.Scope, part.ID); err == nil {
			row.Page = set.Page
		}
		d.Connections = append(d.Connections, row)
	}
	if d.Channels, err = channelsOf(c, s, p); err != nil {
		return err
	}
	all, err := secretsOf(c, s)
	if err != nil {
		return err
	}
	d.Secrets = len(all.Rows)
	for _, r := range all.Rows {
		if r.Warn != "" {
			d.Expiring++
		}
	}
	programs, err := store.Callers(c, s.DB, s.Scope)
	if err != nil {
		return err
	}
	d.Callers = len(programs)
	if d.Workers, err = store.Workers(c, s.DB, s.Environment); err != nil {
		return err
	}
	if page.Partial(c) {
		view.Part(c, "connections", d)
		return nil
	}
	view.Page(c, d)
	return nil
}
