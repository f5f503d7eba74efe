package connections

import (
	"context"
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
)

// take reads the document that describes a system and keeps its operations and schemas. Operations that are
// there already are left as they are.
func (b pages) take(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	importer := connector.ImporterOf(d.Kind.Name)
	if importer == nil {
		return fault.New(fault.Setting, "%s has no document to read", d.Kind.Title)
	}
	files, err := b.documents(c, d)
	if err != nil {
		return err
	}
	t, err := importer.Read(d.ID, files)
	if err != nil {
		return err
	}
	n, err := b.Designer(c).AddOperations(c, d.Connection, t.Operations, t.Schemas)
	if err != nil {
		return err
	}
	if err := b.suggest(c, d, t.Settings); err != nil {
		return err
	}
	said := fmt.Sprintf("%s with their schemas", base.Count(n, "operation"))
	if len(t.Notes) > 0 {
		said += ". Left out: " + strings.Join(t.Notes[:min(len(t.Notes), 5)], "; ")
	}
	c.Redirect(303, connectionAt(d.ID, d.In, said))
	return nil
}

// documents are the files that were brought, or the one at an address below the connection's.
func (b pages) documents(c *gin.Context, d *connectionPage) ([]system.Document, error) {
	at := strings.TrimSpace(c.PostForm("at"))
	if at == "" {
		files, err := base.Uploads(c)
		if err == nil && len(strings.TrimSpace(string(files[0].Content))) == 0 {
			err = fault.New(fault.Required, "bring a document, or say where it is")
		}
		var documents []system.Document
		for _, f := range base.Outermost(files) {
			documents = append(documents, system.Document{Name: f.Name, Content: f.Content})
		}
		return documents, err
	}
	ctx, cancel := context.WithTimeout(c, probeTime)
	defer cancel()
	text, err := b.Outside.Fetch(ctx, d.ID, at)
	if err != nil {
		return nil, fault.From(err, fault.Outside)
	}
	return []system.Document{{Name: base.FileName(at), Content: text}}, nil
}

// suggest fills in settings that the document says, where nothing is chosen yet.
func (b pages) suggest(c *gin.Context, d *connectionPage, settings map[string]string) error {
	if d.Version != 0 {
		return nil
	}
	chosen := map[string]string{}
	for name, v := range settings {
		if s := d.Kind.Settings.Find(name); s != nil && s.Type != setting.Secret && v != "" {
			chosen[name] = v
		}
	}
	return b.Designer(c).Configure(c, d.In, store.Setting{Connection: d.ID, Kind: d.Kind.Name, Chosen: chosen, Page: d.StandIn}, 0)
}
