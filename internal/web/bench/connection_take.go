package bench

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/http/openapi"
	"hollowreed/internal/connector/soap/wsdl"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/store"
)

// taken is what a document gives a connection.
type taken struct {
	settings   map[string]string
	operations []doc.Out
	schemas    []*schema.Schema
	notes      []string
}

// takers read the documents that describe the operations of a kind of system.
var takers = map[string]func(id string, files []file) (*taken, error){
	"http": func(id string, files []file) (*taken, error) {
		im, err := openapi.Take(id, files[0].name, files[0].content)
		if err != nil {
			return nil, err
		}
		settings := im.SignIn
		settings["address"] = im.Address
		return &taken{settings, im.Operations, im.Schemas, im.Notes}, nil
	},
	"soap": func(id string, files []file) (*taken, error) {
		others := map[string][]byte{}
		for _, f := range files[1:] {
			others[f.name] = f.content
		}
		im, err := wsdl.Take(id, files[0].name, files[0].content, others)
		if err != nil {
			return nil, err
		}
		return &taken{map[string]string{"address": im.Address}, im.Operations, im.Schemas, im.Notes}, nil
	},
}

// take reads the document that describes a system and keeps its operations and schemas. Operations that are
// there already are left as they are.
func (b bench) take(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	read := takers[d.Kind.Name]
	if read == nil {
		return fault.New(fault.Setting, "%s has no document to read", d.Kind.Title)
	}
	files, err := b.documents(c, d)
	if err != nil {
		return err
	}
	t, err := read(d.ID, files)
	if err != nil {
		return err
	}
	n, err := b.Designer().AddOperations(c, d.Connection, t.operations, t.schemas)
	if err != nil {
		return err
	}
	if err := b.suggest(c, d, t.settings); err != nil {
		return err
	}
	said := fmt.Sprintf("%s with their schemas", count(n, "operation"))
	if len(t.notes) > 0 {
		said += ". Left out: " + strings.Join(t.notes[:min(len(t.notes), 5)], "; ")
	}
	c.Redirect(303, connectionAt(d.ID, d.In, said))
	return nil
}

// documents are the files that were brought, or the one at an address below the connection's.
func (b bench) documents(c *gin.Context, d *connectionPage) ([]file, error) {
	at := strings.TrimSpace(c.PostForm("at"))
	if at == "" {
		files, err := brought(c)
		if err == nil && len(strings.TrimSpace(string(files[0].content))) == 0 {
			err = fault.New(fault.Required, "bring a document, or say where it is")
		}
		return outermost(files), err
	}
	ctx, cancel := context.WithTimeout(c, probeTime)
	defer cancel()
	text, err := b.Outside.Fetch(ctx, d.ID, at)
	if err != nil {
		return nil, fault.From(err, fault.Outside)
	}
	return []file{{name: FileName(at), content: text}}, nil
}

// suggest fills in settings that the document says, where nothing is chosen yet.
func (b bench) suggest(c *gin.Context, d *connectionPage, settings map[string]string) error {
	if d.Version != 0 {
		return nil
	}
	chosen := map[string]string{}
	for name, v := range settings {
		known := slices.ContainsFunc(d.Kind.Settings, func(s setting.Setting) bool { return s.Name == name && s.Type != setting.Secret })
		if known && v != "" {
			chosen[name] = v
		}
	}
	return store.SaveSetting(c, b.DB, b.Project, d.In, store.Setting{Connection: d.ID, Kind: d.Kind.Name, Chosen: chosen, Page: d.StandIn}, 0, b.Person.ID)
}
