package mappings

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
)

// mendRow is a proposed change, with the name by which it is chosen.
type mendRow struct {
	mapping.Fix
	Key string
}

// orphanRow is a rule for a field that the target does not have.
type orphanRow struct {
	Field, Rule string
	Index       int
}

// mends proposes changes for what a changed schema broke.
func (b pages) mends(ctx context.Context, p *project.Project, plan *mapping.Plan) ([]mendRow, error) {
	if len(plan.Faults) == 0 {
		return nil, nil
	}
	moves, err := b.moves(ctx, p, plan)
	if err != nil {
		return nil, err
	}
	var rows []mendRow
	for _, m := range plan.SuggestFixes(moves) {
		rows = append(rows, mendRow{Fix: m, Key: fmt.Sprint(m.At)})
	}
	return rows, nil
}

// moves finds the fields of the mapping's schemas that were renamed or moved since an earlier state of
// them, the newest first in which that is so.
func (b pages) moves(ctx context.Context, p *project.Project, plan *mapping.Plan) ([]mapping.Move, error) {
	ids := []string{plan.Mapping.To.Value}
	for _, src := range plan.Mapping.From {
		ids = append(ids, src.Schema.Value)
	}
	slices.Sort(ids)
	var out []mapping.Move
	for _, id := range slices.Compact(ids) {
		now := p.Schema(id)
		if now == nil {
			continue
		}
		path := project.Path(project.Schemas, id)
		edits, err := store.PartEdits(ctx, b.DB, p.ID, path, base.MaxEdits)
		if err != nil {
			return nil, err
		}
		for _, e := range edits {
			files, err := b.FilesBefore(ctx, p, path, "edit", int(e.ID))
			if err != nil {
				return nil, err
			}
			old := project.Load(p.ID, schemasOf(files)).Schema(id)
			if old == nil {
				continue
			}
			if moves := mapping.Moves(old, now); len(moves) > 0 {
				out = append(out, moves...)
				break
			}
		}
	}
	return out, nil
}

// schemasOf are the schemas among the files of a project: the others need not be read to know them.
func schemasOf(files map[string]string) map[string]string {
	out := map[string]string{}
	for path, text := range files {
		if kind, _, _ := project.Kind(path); kind == project.Schemas {
			out[path] = text
		}
	}
	return out
}

// orphansOf lists the rules for fields that are gone and for which no mend is proposed.
func orphansOf(plan *mapping.Plan, mends []mendRow) []orphanRow {
	var rows []orphanRow
	for _, i := range plan.Orphans {
		r := plan.Mapping.Rules[i]
		if slices.ContainsFunc(mends, func(m mendRow) bool { return m.Was == r.Field.Value }) {
			continue
		}
		rows = append(rows, orphanRow{Field: r.Field.Value, Rule: r.Words(), Index: i})
	}
	return rows
}

// mend makes the chosen changes, or takes out a rule for a field that is gone.
func (b pages) mend(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	rows, err := b.mends(c, p, plan)
	if err != nil {
		return err
	}
	chosen := c.PostFormArray("mend")
	out, asked := strconv.Atoi(c.PostForm("out"))
	err = b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		if asked == nil && slices.Contains(plan.Orphans, out) {
			return partfile.Remove(text, []any{"rules"}, out)
		}
		for _, m := range rows {
			if !slices.Contains(chosen, m.Key) {
				continue
			}
			if text, err = partfile.Set(text, m.At, m.Now); err != nil {
				return nil, err
			}
		}
		return text, nil
	})
	if err != nil {
		return err
	}
	return b.redrawn(c, id)
}
