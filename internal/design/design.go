// Package design holds the use cases of designing: what a person does to the parts of a project. Each is a function with a
// name and one transaction: all of it is done, or nothing. Pages and commands call them; none of them knows HTML.
package design

import (
	"context"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/compiled"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
)

// Workspace is the drafts of a project, for all who work on them, with the environment in which they are tried.
type Workspace struct {
	DB *pgxpool.Pool
	store.Scope
	Compiled *compiled.Cache
	Engine   *engine.Engine // which tries and releases
}

// Load gives the drafts compiled. Only parts that have changed, and those that depend on them, are compiled again.
func (w *Workspace) Load(ctx context.Context) (*project.Project, error) {
	return w.Compiled.Draft(ctx, w.DB, w.Project)
}

// As is the workspace in the hands of a person, by whose id the changes are kept.
func (w *Workspace) As(person string) Designer { return Designer{w, person} }

// Designer is a person who works on a project.
type Designer struct {
	*Workspace
	Person string
}

func (d Designer) change(ctx context.Context, do func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, d.DB, do)
}

// Edit changes the text of a part, from the revision that the change was made from. It is store.ErrChanged when the part has
// another one by now; nothing is overwritten then.
func (d Designer) Edit(ctx context.Context, path string, from int64, edit func(text []byte) ([]byte, error)) error {
	draft, err := d.at(ctx, path, from)
	if err != nil {
		return err
	}
	text, err := edit([]byte(draft.Text))
	if err != nil {
		return err
	}
	if string(text) == draft.Text {
		return nil
	}
	if err := d.compileScripts(ctx, path, string(text)); err != nil {
		return err
	}
	return d.change(ctx, func(tx pgx.Tx) error { return d.save(ctx, tx, path, string(text), from) })
}

// at is the draft of a part that must be at a revision.
func (d Designer) at(ctx context.Context, path string, revision int64) (store.Draft, error) {
	draft, err := store.PartDraft(ctx, d.DB, d.Project, path)
	if err == nil && draft.Revision != revision {
		err = store.ErrChanged
	}
	draft.Text = string(project.Upgraded(path, []byte(draft.Text))) // what is edited is found by the names of today
	return draft, err
}

// compileScripts compiles a part that has scripts before it is kept. One that takes long to compile holds up who writes it:
// for all others, what that came to is known.
func (d Designer) compileScripts(ctx context.Context, path, text string) error {
	if !strings.Contains(text, "script:") {
		return nil
	}
	p, err := d.Load(ctx)
	if err != nil {
		return err
	}
	p.With(path, text)
	return nil
}

// Add adds a part. It is store.ErrExists when there is one of that path.
func (d Designer) Add(ctx context.Context, path, text string) error {
	return d.change(ctx, func(tx pgx.Tx) error { return d.add(ctx, tx, path, text) })
}

// AddNumbered adds a part, under its path with a number where there is one of that path. It gives the path.
func (d Designer) AddNumbered(ctx context.Context, path, text string) (to string, err error) {
	err = d.change(ctx, func(tx pgx.Tx) error {
		to, err = store.AddNumbered(ctx, tx, d.Project, path, text, d.Person)
		return err
	})
	return to, err
}

// AddBeside adds a part and changes another one that is to name it.
func (d Designer) AddBeside(ctx context.Context, path, text, other, changed string, from int64) error {
	return d.change(ctx, func(tx pgx.Tx) error {
		if err := d.add(ctx, tx, path, text); err != nil {
			return err
		}
		return d.save(ctx, tx, other, changed, from)
	})
}

// Undo takes the last change of a part back.
func (d Designer) Undo(ctx context.Context, path string, from int64) error {
	return d.change(ctx, func(tx pgx.Tx) error { return store.Undo(ctx, tx, d.Project, path, from) })
}

// Redo does again what Undo took back.
func (d Designer) Redo(ctx context.Context, path string, from int64) error {
	return d.change(ctx, func(tx pgx.Tx) error { return store.Redo(ctx, tx, d.Project, path, from) })
}

func (d Designer) add(ctx context.Context, tx pgx.Tx, path, text string) error {
	return store.AddPart(ctx, tx, d.Project, path, text, d.Person)
}

func (d Designer) save(ctx context.Context, tx pgx.Tx, path, text string, from int64) error {
	return store.SavePart(ctx, tx, d.Project, path, text, from, d.Person)
}

var noID = regexp.MustCompile(`[^A-Za-z0-9]+`)

// maxID is how long an id that is made of a title may be, in characters.
const maxID = 60

// ID makes an id of a title: small letters, digits, and hyphens between. It is empty where the title has none of them.
func ID(title string) string {
	id := strings.Trim(strings.ToLower(noID.ReplaceAllString(title, "-")), "-")
	return id[:min(len(id), maxID)]
}

// FreshID makes the id of a new part of its title.
func FreshID(p *project.Project, kind, title string) (string, error) {
	id := ID(title)
	if id == "" {
		return "", fault.Expect(fault.Required, "a title", "none").InField("Title")
	}
	if _, there := p.Texts[project.Path(kind, id)]; there {
		return "", fault.New(fault.Setting, "there is one of that title already").InField("Title").WithFix("Choose another title")
	}
	return id, nil
}
