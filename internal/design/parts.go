package design

import (
	"context"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// Duplicate adds a copy of a part beside it, and gives its path.
func (d Designer) Duplicate(ctx context.Context, path string) (string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	part, err := PartAt(p, path)
	if err != nil {
		return "", err
	}
	text := p.Texts[path]
	if key := project.TitleKey(part.Kind); key != "" {
		changed, err := partfile.Set([]byte(text), []any{key}, part.Title+" copy")
		if err != nil {
			return "", err
		}
		text = string(changed)
	}
	return d.AddNumbered(ctx, path, text)
}

// PartAt finds a part of a project by its path; store.ErrNotFound where there is none.
func PartAt(p *project.Project, path string) (project.Part, error) {
	for _, part := range p.Parts("") {
		if part.Path == path {
			return part, nil
		}
	}
	return project.Part{}, store.ErrNotFound
}

// Breaks are the parts that have faults which they would not have if some parts were there.
func Breaks(p *project.Project, without ...string) []project.Part {
	texts := maps.Clone(p.Texts)
	for _, path := range without {
		delete(texts, path)
	}
	after := project.Next(p, p.ID, texts)
	had, has := faultsOf(p), faultsOf(after)
	return slices.DeleteFunc(slices.Clone(after.Parts("")), func(part project.Part) bool { return has[part.Path] <= had[part.Path] })
}

// faultsOf counts the faults of each part, by its path.
func faultsOf(p *project.Project) map[string]int {
	n := map[string]int{}
	for _, f := range p.Faults {
		n[f.Place.Source]++
	}
	return n
}

// Along are the parts that have to go with a part for nothing to break: those that it breaks, and those that they do.
func Along(p *project.Project, path string) []project.Part {
	gone := []string{path}
	var all []project.Part
	for {
		more := Breaks(p, gone...)
		if len(more) == 0 {
			return all
		}
		for _, part := range more {
			gone, all = append(gone, part.Path), append(all, part)
		}
	}
}

// Deletion is what becomes of the parts that a deleted one leaves with faults.
type Deletion int

// What becomes of parts that would break.
const (
	DeleteUnused   Deletion = iota // nothing is deleted if any would
	DeleteAlong                    // they are deleted, too
	DeleteAndBreak                 // they stay with their faults
)

// Delete removes a part, from the revision at which it was looked at. A sample leaves the schemas that name it. It gives the
// paths of all that is gone.
func (d Designer) Delete(ctx context.Context, path string, from int64, how Deletion) ([]string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return nil, err
	}
	part, err := PartAt(p, path)
	if err != nil {
		return nil, err
	}
	gone := []string{path}
	if part.Kind != project.Samples {
		broken := Breaks(p, path)
		switch {
		case how == DeleteAlong:
			for _, part := range Along(p, path) {
				gone = append(gone, part.Path)
			}
		case len(broken) > 0 && how != DeleteAndBreak:
			return nil, fault.New(fault.Setting, "%s would break", titles(broken)).WithFix("Choose whether they go with it, or keep their faults")
		}
	}
	return gone, d.change(ctx, func(tx pgx.Tx) error {
		if part.Kind == project.Samples {
			if err := d.unnameSample(ctx, tx, p, part.ID); err != nil {
				return err
			}
		}
		for _, path := range gone {
			draft, err := store.LockDraft(ctx, tx, d.Project, path)
			if err != nil {
				return err
			}
			if path == gone[0] && draft.Revision != from {
				return store.ErrChanged
			}
			if err := store.RemovePart(ctx, tx, d.Project, path, draft.Revision); err != nil {
				return err
			}
		}
		return nil
	})
}

func titles(parts []project.Part) (names string) {
	for i, p := range parts {
		if i > 0 {
			names += ", "
		}
		names += p.Title
	}
	return names
}

// unnameSample takes a sample out of the lists of the schemas that name it.
func (d Designer) unnameSample(ctx context.Context, tx pgx.Tx, p *project.Project, name string) error {
	for _, part := range p.Parts(project.Schemas) {
		at := slices.Index(p.Schema(part.ID).Samples, name)
		if at < 0 {
			continue
		}
		draft, err := store.LockDraft(ctx, tx, d.Project, part.Path)
		if err != nil {
			return err
		}
		text, err := partfile.Remove([]byte(draft.Text), []any{"samples"}, at)
		if err != nil {
			return err
		}
		if err := d.save(ctx, tx, part.Path, string(text), draft.Revision); err != nil {
			return err
		}
	}
	return nil
}

// Restore brings a part back that was deleted.
func (d Designer) Restore(ctx context.Context, path string) error {
	return d.change(ctx, func(tx pgx.Tx) error { return store.RestorePart(ctx, tx, d.Project, path) })
}

// Import makes the drafts what texts say, by path. What is changed can be undone, what is removed restored.
func (d Designer) Import(ctx context.Context, texts map[string]string) (changes store.Changes, err error) {
	project.Load(d.Project, texts) // what takes long in it holds up nobody else
	err = d.change(ctx, func(tx pgx.Tx) error {
		changes, err = store.ReplaceParts(ctx, tx, d.Project, texts, d.Person)
		return err
	})
	return changes, err
}

// KeepsID is why a part keeps its id; empty where it may get another.
func (d Designer) KeepsID(ctx context.Context, p *project.Project, part project.Part) string {
	if part.Kind == project.Tables {
		if changed, err := store.ListState(ctx, d.DB, d.Scope, running.TableSpace(part.ID), 1); err == nil && len(changed) > 0 {
			return "flows have changed rows of it, which are kept under its id"
		}
	}
	return p.Stays(part.Path)
}

// AnyRevision is a revision for changes that do not depend on what somebody looked at.
const AnyRevision = -1

// Renamed is what a renaming came to.
type Renamed struct {
	Was    project.Part
	To     string // its path now
	Follow int    // the parts that name it, which follow
}

// Rename gives a part another title and another id, and all that name it the new one. It keeps its id where it must.
func (d Designer) Rename(ctx context.Context, path string, from int64, title, id string) (r Renamed, err error) {
	p, err := d.Load(ctx)
	if err != nil {
		return r, err
	}
	if r.Was, err = PartAt(p, path); err != nil {
		return r, err
	}
	if d.KeepsID(ctx, p, r.Was) != "" {
		id = r.Was.ID
	}
	if title == "" && project.TitleKey(r.Was.Kind) != "" {
		return r, fault.Expect(fault.Required, "a title", "none").InField("Title")
	}
	if id == "" {
		return r, fault.Expect(fault.Required, "an id", "none").InField("Id")
	}
	texts, to, err := p.Rename(path, title, id)
	if err != nil {
		return r, err
	}
	r.To, r.Follow = to, len(texts)-1
	return r, d.change(ctx, func(tx pgx.Tx) error { return d.saveRenamed(ctx, tx, p, path, to, from, texts) })
}

func (d Designer) saveRenamed(ctx context.Context, tx pgx.Tx, p *project.Project, path, to string, from int64, texts map[string]string) error {
	draft, err := store.LockDraft(ctx, tx, d.Project, path)
	if err != nil {
		return err
	}
	if from != AnyRevision && draft.Revision != from {
		return store.ErrChanged
	}
	if to != path {
		if err := store.MovePart(ctx, tx, d.Project, path, to, draft.Revision); err != nil {
			return err
		}
	}
	for _, at := range slices.Sorted(maps.Keys(texts)) {
		draft, err := store.LockDraft(ctx, tx, d.Project, at)
		if err != nil {
			return err
		}
		if old := p.Texts[at]; at != to && draft.Text != old {
			return store.ErrChanged
		}
		if draft.Text == texts[at] {
			continue
		}
		if err := d.save(ctx, tx, at, texts[at], draft.Revision); err != nil {
			return err
		}
	}
	return nil
}
