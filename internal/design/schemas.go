package design

import (
	"bytes"
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/store"
)

// Sample is a file that is kept with a schema. Without a name it gets that of the schema.
type Sample struct {
	Name    string
	Content []byte
}

// AddSchema adds a schema and the samples that it was made from; empty ones are left out.
func (d Designer) AddSchema(ctx context.Context, s *schema.Schema, samples []Sample) error {
	return d.change(ctx, func(tx pgx.Tx) error {
		for _, f := range samples {
			if len(bytes.TrimSpace(f.Content)) == 0 {
				continue
			}
			name := f.Name
			if name == "" {
				name = s.ID + "." + all.Of(s).Ending
			}
			name, err := d.addSample(ctx, tx, name, string(f.Content))
			if err != nil {
				return err
			}
			s.Samples = append(s.Samples, name)
		}
		return d.add(ctx, tx, project.Path(project.Schemas, s.ID), string(schema.Write(s)))
	})
}

// ReplaceSchema makes a schema what is given, and keeps its samples.
func (d Designer) ReplaceSchema(ctx context.Context, s *schema.Schema, samples []string) error {
	path := project.Path(project.Schemas, s.ID)
	s.Samples = samples
	return d.change(ctx, func(tx pgx.Tx) error {
		draft, err := store.LockDraft(ctx, tx, d.Project, path)
		if err != nil {
			return err
		}
		return d.save(ctx, tx, path, string(schema.Write(s)), draft.Revision)
	})
}

// AddSample adds a sample to the project and, as the first one, to a schema. It gives the name that it has got: one with a
// number where there is a sample of that name.
func (d Designer) AddSample(ctx context.Context, schemaID, name, text string) (string, error) {
	path := project.Path(project.Schemas, schemaID)
	err := d.change(ctx, func(tx pgx.Tx) error {
		draft, err := store.LockDraft(ctx, tx, d.Project, path)
		if err != nil {
			return err
		}
		if name, err = d.addSample(ctx, tx, name, text); err != nil {
			return err
		}
		part, err := partfile.InsertText([]byte(draft.Text), []any{"samples"}, 0, name)
		if err != nil {
			return err
		}
		return d.save(ctx, tx, path, string(part), draft.Revision)
	})
	return name, err
}

// addSample adds a sample under its name, or that with a number.
func (d Designer) addSample(ctx context.Context, tx pgx.Tx, name, text string) (string, error) {
	path, err := store.AddNumbered(ctx, tx, d.Project, project.Path(project.Samples, name), text, d.Person)
	return strings.TrimPrefix(path, project.Path(project.Samples, "")), err
}

// ShareRecord makes of a record inside of a schema a schema of its own, which the record is of from then on.
func (d Designer) ShareRecord(ctx context.Context, s *schema.Schema, at edit.Path) error {
	p, err := d.Load(ctx)
	if err != nil {
		return err
	}
	f := edit.Field(s, at)
	if f == nil {
		return store.ErrNotFound
	}
	id := ID(f.Name)
	if id == "" {
		return fault.New(fault.Setting, "no id can be made of the name %s", fault.Quote(f.Name)).WithFix("Give the record a name with a letter of a to z or a digit")
	}
	if p.Schema(id) != nil {
		return fault.New(fault.Setting, "there is a schema %s already", fault.Quote(id)).WithFix("Take its fields, or give the record another name first")
	}
	path := project.Path(project.Schemas, s.ID)
	draft, err := store.PartDraft(ctx, d.DB, d.Project, path)
	if err != nil {
		return err
	}
	changed, shared, err := edit.Share([]byte(draft.Text), s, at, id, schema.Titled(f.Name))
	if err != nil {
		return err
	}
	return d.AddBeside(ctx, project.Path(project.Schemas, id), string(shared), path, string(changed), draft.Revision)
}
