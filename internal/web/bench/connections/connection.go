// Package connections holds the pages of a connection: its settings, its tests, and its operations with trying them.
package connections

import (
	"context"
	"embed"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct {
	base.Pages
	tests    *probings
	trials   *trials
	consents *consents
}

// Routes adds the addresses of connections and their operations.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}, &probings{}, &trials{}, &consents{}}
	r.GET("/bench/connections/new", s.Do(b.newConnection))
	r.POST("/bench/connections", s.Do(b.addConnection))
	r.GET("/bench/connections/:id", s.Do(b.connection))
	r.POST("/bench/connections/:id/settings", s.Do(b.setConnection))
	r.POST("/bench/connections/:id/test", s.Do(b.testConnection))
	r.GET("/bench/connections/:id/test/:test", s.Do(b.testSeen))
	r.POST("/bench/connections/:id/take", s.Do(b.take))
	r.GET("/bench/connections/:id/consent", s.Do(b.askConsent))
	r.GET(page.Callback, s.Do(b.consented))
	r.POST("/bench/connections/:id/operations", s.Do(b.addOperation))
	r.GET("/bench/connections/:id/operations/:op", s.Do(b.operation))
	r.GET("/bench/connections/:id/operations/:op/help", s.Do(b.operationHelp))
	r.POST("/bench/connections/:id/operations/:op", s.Do(b.setOperation))
	r.POST("/bench/connections/:id/operations/:op/remove", s.Do(b.removeOperation))
	r.POST("/bench/connections/:id/operations/:op/shape", s.Do(b.fetchShape))
	r.POST("/bench/connections/:id/operations/:op/table", s.Do(b.checkTable))
	r.POST("/bench/connections/:id/operations/:op/try", s.Do(b.tryOperation))
	r.GET("/bench/connections/:id/operations/:op/try/:trial", s.Do(b.tried))
	r.POST("/bench/connections/:id/operations/:op/try/:trial/keep", s.Do(b.keepAnswer))
}

var connectionView = page.Parse(files, "connection.html")

// probeTime bounds one test of a connection.
const probeTime = 30 * time.Second

// connectionPage is one connection: how it is reached in an environment, whether it works, what it does,
// and what its system offers.
type connectionPage struct {
	page.Frame
	ID         string
	Path       string
	Connection *connection.Connection
	Kind       *connection.Kind
	In         string // the environment whose settings are shown
	Envs       []string
	Settings   []form.Field
	Version    int64  // of the settings
	StandIn    string // the address of the system's own page, if it has one
	Here       bool   // the environment is the one that is served
	UsedBy     []project.Part
	Health     *store.Health
	Breaker    string
	Test       *probing
	Find       string
	Offers     []system.CatalogueEntry
	FindOp     string // what operations are looked for
	Told       string // why nothing is offered
	Said       string // what was done just now
	Fault      *fault.Fault
	Draft      store.Draft
	Consent    bool // signs in by consent
	Consented  string
	Gone       time.Time // since when the consent is not taken any more
	OOB        bool
}

func (b pages) connectionOf(c *gin.Context) (*project.Project, *connectionPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, err
	}
	id := c.Param("id")
	conn := p.Connection(id)
	if conn == nil {
		return nil, nil, store.ErrNotFound
	}
	d := &connectionPage{
		Frame: b.Frame(c, "bench", conn.Title, "T", "test the connection"), ID: id, Path: project.Path(project.Connections, id),
		Connection: conn, Kind: connection.KindOf(conn.Kind), Envs: store.Environments, In: c.DefaultQuery("env", c.DefaultPostForm("env", b.Environment)),
		UsedBy: p.UsedBy(project.Path(project.Connections, id)), Find: c.Query("find"), FindOp: c.Query("op"), Said: c.Query("said"), Breaker: b.Outside.Breaker(id),
	}
	if !slices.Contains(d.Envs, d.In) {
		return nil, nil, store.ErrNotFound
	}
	if d.Kind == nil {
		d.Kind = &connection.Kind{Name: conn.Kind, Title: conn.Kind}
	}
	d.Here = d.In == b.Environment
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, nil, err
	}
	healths, err := store.Healths(c, b.DB, b.In(d.In))
	if err != nil {
		return nil, nil, err
	}
	if h, ok := healths[id]; ok {
		d.Health = &h
	}
	return p, d, b.settings(c, d)
}

// Operations are those whose names have the text in them that is looked for.
func (d *connectionPage) Operations() []*connection.Operation {
	var found []*connection.Operation
	for _, o := range d.Connection.Operations {
		if strings.Contains(strings.ToLower(o.Name+" "+o.ID), strings.ToLower(d.FindOp)) {
			found = append(found, o)
		}
	}
	return found
}

// Loose says whether the system's tables can be taken as schemas.
func (d *connectionPage) Loose() bool { return d.Kind.Loose }

// Imports names the document from which the operations are taken, where the kind has one.
func (d *connectionPage) Imports() string {
	if importer := connector.ImporterOf(d.Kind.Name); importer != nil {
		return importer.Document
	}
	return ""
}

func (b pages) connection(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	d.offered(c, b)
	if c.GetHeader("HX-Target") == "section#offers" || c.Query("part") == "offers" {
		connectionView.Part(c, "offers", d)
		return nil
	}
	connectionView.Page(c, d)
	return nil
}

// offered lists what the system has; a system that does not answer offers nothing.
func (d *connectionPage) offered(c *gin.Context, b pages) {
	if !d.Here {
		return
	}
	ctx, cancel := context.WithTimeout(c, probeTime/6)
	defer cancel()
	list, err := b.Outside.Catalogue(ctx, d.ID, d.Find)
	var f *fault.Fault
	switch {
	case errors.As(err, &f):
		d.Told = f.What()
	case err != nil:
		d.Told = "The system does not answer. Test the connection to see why."
	}
	d.Offers = list
}

// connectionAt is the address of a connection's page in an environment.
func connectionAt(id, env, said string) string {
	q := url.Values{}
	if env != "" {
		q.Set("env", env)
	}
	if said != "" {
		q.Set("said", said)
	}
	return strings.TrimSuffix("/bench/connections/"+url.PathEscape(id)+"?"+q.Encode(), "?")
}
