package engine

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"hollowreed/internal/connector/file"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/shared"
	"hollowreed/internal/outfile"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// writeFiles writes the files of a run's write steps. It may be done again: a file is written beside its name and
// renamed, and its name and content are the same each time.
func (x *execution) writeFiles(ctx context.Context) error {
	for _, ps := range x.plan.Steps {
		if ps.File == nil {
			continue
		}
		if err := x.writeFilesOf(ctx, ps.File); err != nil {
			return err
		}
	}
	return nil
}

func (x *execution) writeFilesOf(ctx context.Context, t *running.FileTarget) error {
	// A record that was mended belongs beside those of the run that it was set aside in.
	family, err := store.RelatedRuns(ctx, x.engine.db, x.run.ID)
	if err != nil {
		return err
	}
	set, files, err := x.engine.files(ctx, t, family)
	if err != nil {
		return err
	}
	defer set.Close(nil)
	for _, f := range files {
		name, size, err := set.Write(ctx, x.outside(), f, x.run.ID.String())
		if err == nil {
			err = store.AddRunFile(ctx, x.engine.db, x.run.ID, store.RunFile{Step: t.Step.ID, Name: name, Size: size, Records: f.Records})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// files are those of the records that a step has collected in some runs.
func (e *Engine) files(ctx context.Context, t *running.FileTarget, runs []uuid.UUID) (*outfile.Set, []*outfile.File, error) {
	return outfile.Of(t, func(use func(content []byte) error) error {
		return store.Collected(ctx, e.db, runs, t.Step.ID, use)
	})
}

// RunFile is a file as a run has written it: its content once more, made of the records that were collected for it.
func (e *Engine) RunFile(ctx context.Context, r store.Run, t *running.FileTarget, name string) (*spool.Spool, error) {
	family, err := store.RelatedRuns(ctx, e.db, r.ID)
	if err != nil {
		return nil, err
	}
	set, files, err := e.files(ctx, t, family)
	if err != nil {
		return nil, err
	}
	packed := strings.TrimSuffix(strings.TrimSuffix(name, ".gz"), ".zip")
	for _, f := range files {
		if f.Name == name || f.Name == packed && t.Step.Setting("compress") != "no" {
			set.Close(f)
			return f.Spool, nil
		}
	}
	set.Close(nil)
	return nil, store.ErrNotFound
}

// MoveDone moves a recorded run's file out of the watched folder, unless that is done. Trouble is
// noted with the run; the file then stays, and moving it is tried again with every look.
func (e *Engine) MoveDone(ctx context.Context, r store.Run) error {
	if r.InputPath == "" || r.InputPath == r.DonePath {
		return nil
	}
	identity, err := store.PickupIdentity(ctx, e.db, r.ID)
	if err == nil {
		err = file.Move(r.InputPath, r.DonePath, identity)
	}
	warning := ""
	if err != nil {
		warning = fmt.Sprintf("%s stays where it was dropped: it cannot be moved to %s: %s", r.File, filepath.Dir(r.DonePath), shared.PlainError(err))
	}
	e.changed(r)
	return errors.Join(err, store.Warn(ctx, e.db, r, warning))
}
