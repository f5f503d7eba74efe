package design

import (
	"context"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/store"
)

// Configure keeps how a connection is reached in an environment, from the version that the change was made from.
func (d Designer) Configure(ctx context.Context, env string, s store.Setting, from int64) error {
	return store.SaveSetting(ctx, d.DB, d.In(env), s, from, d.Person)
}

// AddOperations adds operations to a connection, and the schemas that they need, as a service describes them. What is there
// already stays as it is. It gives the number of operations that are new.
func (d Designer) AddOperations(ctx context.Context, to *connection.Connection, operations []partfile.Ordered, schemas []*schema.Schema) (n int, err error) {
	p, err := d.Load(ctx)
	if err != nil {
		return 0, err
	}
	path := project.Path(project.Connections, to.ID)
	draft, err := store.PartDraft(ctx, d.DB, d.Project, path)
	if err != nil {
		return 0, err
	}
	text := []byte(draft.Text)
	for _, out := range operations {
		id, _ := out[0].Value.(string)
		if to.Operation(id) != nil {
			continue
		}
		if text, err = partfile.Insert(text, []any{"operations"}, len(to.Operations)+n, out); err != nil {
			return 0, err
		}
		n++
	}
	return n, d.change(ctx, func(tx pgx.Tx) error {
		for _, s := range schemas {
			if p.Schema(s.ID) != nil {
				continue
			}
			if err := d.add(ctx, tx, project.Path(project.Schemas, s.ID), string(schema.Write(s))); err != nil {
				return err
			}
		}
		if n == 0 {
			return nil
		}
		return d.save(ctx, tx, path, string(text), draft.Revision)
	})
}
