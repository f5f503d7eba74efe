package design

import (
	"context"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
)

// AddLibrary begins a library, under an id or one that is made of its title. It gives the id.
func (d Designer) AddLibrary(ctx context.Context, title, id string) (string, error) {
	if id == "" {
		id = title
	}
	id = strings.ReplaceAll(ID(id), "-", "_")
	if !formula.Name(id) {
		return "", fault.Expect(fault.Setting, "a title that begins with a letter", fault.Quote(title))
	}
	text := partfile.Encode(partfile.Ordered{{Key: "library", Value: title}, {Key: "version", Value: "1"}})
	return id, d.Add(ctx, project.Path(project.Libraries, id), string(text)+"functions: []\n")
}

// PublishLibrary keeps a library as it is under a number, for ever; the draft goes on with the next.
func (d Designer) PublishLibrary(ctx context.Context, id string, number int, from int64) error {
	path := project.Path(project.Libraries, id)
	draft, err := d.at(ctx, path, from)
	if err != nil {
		return err
	}
	frozen, err := partfile.Set([]byte(draft.Text), []any{"version"}, strconv.Itoa(number))
	if err != nil {
		return err
	}
	next, err := partfile.Set(frozen, []any{"version"}, strconv.Itoa(number+1))
	if err != nil {
		return err
	}
	return d.change(ctx, func(tx pgx.Tx) error {
		if err := d.save(ctx, tx, path, string(next), from); err != nil {
			return err
		}
		return d.add(ctx, tx, project.Path(project.Libraries, project.VersionID(id, number)), string(frozen))
	})
}
