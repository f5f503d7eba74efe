package design

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/draft"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// PartSchema begins the name of a schema in a drawn operation that is a part of the project, and is put into the contract.
const PartSchema = "part:"

// DrawOperation writes an operation of an API into its contract, from the revision that the contract was shown in. A new one is
// answered by its examples; where it gets another id, what answers it goes along.
func (d Designer) DrawOperation(ctx context.Context, apiID string, o *contract.Drawn, from int64) error {
	p, err := d.Load(ctx)
	if err != nil {
		return err
	}
	a := p.API(apiID)
	if a == nil || a.Contract == nil {
		return store.ErrNotFound
	}
	schemas, err := partSchemas(p, o)
	if err != nil {
		return err
	}
	path := project.Path(project.Contracts, a.File.Value)
	text, err := o.Write([]byte(p.Texts[path]), a.Contract, schemas)
	if err != nil {
		return err
	}
	texts := map[string]string{path: string(text)}
	switch at := project.Path(project.APIs, a.ID); {
	case o.Was == "":
		text, err := SetWay(a, []byte(p.Texts[at]), o.ID, api.Examples.Name)
		if err == store.ErrNotFound { // the API does not know it yet
			text, err = partfile.Append([]byte(p.Texts[at]), []any{"operations"}, "operation", o.ID, "answered by", api.Examples.Name)
		}
		if err != nil {
			return err
		}
		texts[at] = string(text)
	case o.Was != o.ID:
		if err := renameOperation(p, a, o.Was, o.ID, texts); err != nil {
			return err
		}
	}
	return d.saveAll(ctx, texts, path, from)
}

// partSchemas are the schemas of parts that a drawn operation names, by the names that they get in the contract.
func partSchemas(p *project.Project, o *contract.Drawn) (map[string][]byte, error) {
	schemas := map[string][]byte{}
	named := func(name *string) error {
		id, is := strings.CutPrefix(*name, PartSchema)
		if !is {
			return nil
		}
		text := p.SchemaDocument(id)
		if text == nil {
			return fault.New(fault.Unknown, "there is no schema %s", fault.Quote(id))
		}
		*name, schemas[id] = id, text
		return nil
	}
	if err := named(&o.Body); err != nil {
		return nil, err
	}
	for i := range o.Answers {
		if err := named(&o.Answers[i].Schema); err != nil {
			return nil, err
		}
	}
	return schemas, nil
}

// renameOperation gives an operation another id in what answers it: ways, caching, flows and cases.
func renameOperation(p *project.Project, a *api.API, was, now string, texts map[string]string) error {
	set := func(path string, at ...any) (err error) {
		text, there := texts[path]
		if !there {
			text = p.Texts[path]
		}
		out, err := partfile.Set([]byte(text), at, now)
		texts[path] = string(out)
		return err
	}
	own := project.Path(project.APIs, a.ID)
	for _, w := range a.Ways {
		if w.Name.Value == was {
			if err := set(own, "operations", w.Index, "operation"); err != nil {
				return err
			}
		}
	}
	for _, c := range a.Caches {
		if c.Name.Value == was {
			if err := set(own, "caching", c.Index, "operation"); err != nil {
				return err
			}
		}
	}
	for _, flow := range p.AnsweredBy(a.ID)[was] {
		if err := set(flow.Path, "trigger", "api operation"); err != nil {
			return err
		}
	}
	for _, c := range p.CasesOfAPI(a.ID) {
		if c.Call.Operation == was {
			if err := set(project.Path(project.Cases, c.ID), "operation"); err != nil {
				return err
			}
		}
	}
	return nil
}

// RemoveOperation takes an operation out of a contract. One that a flow answers stays: the flow would answer nothing.
func (d Designer) RemoveOperation(ctx context.Context, apiID, operation string, from int64) error {
	p, err := d.Load(ctx)
	if err != nil {
		return err
	}
	a := p.API(apiID)
	o := a.Operation(operation)
	if o == nil {
		return store.ErrNotFound
	}
	if by := p.AnsweredBy(apiID)[o.ID]; len(by) > 0 {
		return fault.New(fault.Setting, "the flow %s answers it", by[0].Title).WithFix("Delete the flow first, or let it answer another operation")
	}
	path := project.Path(project.Contracts, a.File.Value)
	text, err := contract.Without([]byte(p.Texts[path]), o)
	if err != nil {
		return err
	}
	texts, own := map[string]string{path: string(text)}, project.Path(project.APIs, a.ID)
	changed := []byte(p.Texts[own])
	if w := a.Way(o); w != nil {
		if changed, err = partfile.Remove(changed, []any{"operations"}, w.Index); err != nil {
			return err
		}
	}
	for _, c := range slices.Backward(a.Caches) {
		if c.Operation == o {
			if changed, err = partfile.Remove(changed, []any{"caching"}, c.Index); err != nil {
				return err
			}
		}
	}
	if string(changed) != p.Texts[own] {
		texts[own] = string(changed)
	}
	return d.saveAll(ctx, texts, path, from)
}

// saveAll saves several parts, or none of them: the one of a path from the revision that it was shown in.
func (d Designer) saveAll(ctx context.Context, texts map[string]string, path string, from int64) error {
	return d.change(ctx, func(tx pgx.Tx) error {
		for _, at := range slices.Sorted(maps.Keys(texts)) {
			draft, err := store.LockDraft(ctx, tx, d.Project, at)
			if err != nil {
				return err
			}
			if at == path && draft.Revision != from {
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
	})
}

// AddWantedAPI adds an API that gives a wanted answer, with the flow of one of the proposals for it, counted from 1. It gives the API's id
// and its operation.
func (d Designer) AddWantedAPI(ctx context.Context, w *project.Wanted, number int, caches bool) (id, operation string, err error) {
	if strings.TrimSpace(w.Title) == "" {
		return "", "", fault.Expect(fault.Required, "a title", "none").InField("title")
	}
	p, err := d.Load(ctx)
	if err != nil {
		return "", "", err
	}
	list, err := p.ProposeWanted(w, number)
	if err != nil {
		return "", "", err
	}
	if len(list) < number {
		return "", "", store.ErrNotFound
	}
	document, operation, err := p.ContractFor(w, list[number-1])
	if err != nil {
		return "", "", err
	}
	if id, err = d.AddAPI(ctx, w.Title, document); err != nil {
		return "", "", err
	}
	if p, err = d.Load(ctx); err != nil {
		return id, operation, err
	}
	again, err := p.ProposeFlows(id, operation, mostAgain)
	if err != nil {
		return id, operation, err
	}
	at := slices.IndexFunc(again, func(pr draft.Proposal) bool { return project.SameCalls(pr, list[number-1]) })
	if at < 0 {
		return id, operation, nil // it is answered by its examples, until somebody drafts a flow
	}
	part, err := store.PartDraft(ctx, d.DB, d.Project, project.Path(project.APIs, id))
	if err != nil {
		return id, operation, err
	}
	_, err = d.AddDraftedFlow(ctx, id, operation, at+1, caches, part.Revision)
	return id, operation, err
}

// mostAgain is among how many proposals for the contract that of the wanted answer is looked for.
const mostAgain = 20
