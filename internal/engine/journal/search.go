package journal

import (
	"bytes"
	"context"
	"io"
	"strings"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/store"
)

// Bounds of one search in messages.
const (
	maxSearched = 2000
	searchTime  = 3 * time.Second
	searchSlab  = 64 << 10
)

// SearchResult is what a search in messages has found, and how far it came.
type SearchResult struct {
	Runs   []uuid.UUID // the newest first
	Looked int         // runs that were looked into
	Last   *time.Time  // when the last of them began; nil where all were looked into
}

// Search looks for a text in the messages of runs, as the journal has them: large and small letters are the same. It
// stops after a time, or a number of runs; the rest is found by searching on from there.
func Search(ctx context.Context, db store.DB, f store.RunFilter, text string, most int) (SearchResult, error) {
	found := SearchResult{Runs: []uuid.UUID{}}
	f.Most = maxSearched
	runs, err := store.Runs(ctx, db, f)
	if err != nil {
		return found, err
	}
	deadline := time.Now().Add(searchTime)
	needle := []byte(strings.ToLower(text))
	for _, r := range runs {
		if time.Now().After(deadline) || len(found.Runs) == most {
			return found, nil
		}
		has, err := mentions(ctx, db, r, needle)
		if err != nil {
			return found, err
		}
		if has {
			found.Runs = append(found.Runs, r.ID)
		}
		found.Looked++
		began := r.CreatedAt
		found.Last = &began
	}
	if len(runs) < maxSearched {
		found.Last = nil
	}
	return found, nil
}

// mentions says whether a run's messages have a text in them.
func mentions(ctx context.Context, db store.DB, r store.Run, needle []byte) (bool, error) {
	for _, text := range [][]byte{[]byte(r.Reference), r.Input, r.Answer, r.Request} {
		if bytes.Contains(bytes.ToLower(text), needle) {
			return true, nil
		}
	}
	has := false
	err := store.JournalBatches(ctx, db, r.ID, func(entries []byte) (bool, error) {
		plain, err := unzipped(entries)
		if err != nil {
			return false, err
		}
		has, err = contains(plain, needle)
		return !has, err
	})
	return has, err
}

// contains looks for a text in what a reader gives, slab by slab.
func contains(r io.Reader, needle []byte) (bool, error) {
	buf := make([]byte, 0, searchSlab+len(needle))
	for {
		n, err := r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if bytes.Contains(bytes.ToLower(buf), needle) {
			return true, nil
		}
		if err == io.EOF {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		if keep := len(needle) - 1; len(buf) > keep { // a text may lie across two slabs
			copy(buf, buf[len(buf)-keep:])
			buf = buf[:keep]
		}
	}
}
