package bench

import (
	"context"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/sql"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var connectionView = page.Parse(files, "connection.html")

// probeTime bounds one test of a connection.
const probeTime = 20 * time.Second

// connectionPage is one connection: what it is for, whether it works, and what it offers.
type connectionPage struct {
	page.Frame
	ID         string
	Connection *flow.Connection
	StandIn    string // the address of the system's own page, if it has one
	UsedBy     []project.Part
	Test       *probe.Run
	Find       string
	Offers     []sql.Offer
	Told       string // why nothing is offered
}

func (b bench) connectionOf(c *gin.Context) (*connectionPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, err
	}
	id := c.Param("id")
	conn := p.Connection(id)
	if conn == nil {
		return nil, store.ErrNotFound
	}
	return &connectionPage{
		Frame: b.Frame(c, "bench", conn.Title, "T", "test the connection"), ID: id, Connection: conn, StandIn: b.Outside.Settings(id).Page,
		UsedBy: p.UsedBy(project.Path(project.Connections, id)), Find: c.Query("find"),
	}, nil
}

func (b bench) connection(c *gin.Context) error {
	d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	if d.Connection.Kind == "sql" {
		d.offered(c, b)
	}
	connectionView.Page(c, d)
	return nil
}

// offered lists what the system has; a system that does not answer offers nothing.
func (d *connectionPage) offered(c *gin.Context, b bench) {
	ctx, cancel := context.WithTimeout(c, probeTime)
	defer cancel()
	db, err := b.Outside.DB(d.ID)
	if err == nil {
		d.Offers, err = db.Offers(ctx, d.Find)
	}
	if err != nil {
		d.Told = "The database does not answer. Test the connection to see why."
	}
}

// testConnection tries the connection stage by stage.
func (b bench) testConnection(c *gin.Context) error {
	d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c, probeTime)
	defer cancel()
	d.Test = b.Outside.Probe(ctx, d.Connection.Kind, d.ID)
	if page.Partial(c) {
		connectionView.Part(c, "test", d)
		return nil
	}
	connectionView.Page(c, d)
	return nil
}
