package apis

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/store"
)

// Span is for how long a limit holds. Spans begin on the clock, in UTC.
type Span struct {
	Name   string
	Length time.Duration
}

// The spans.
var (
	Minute = Span{"minute", time.Minute}
	Day    = Span{"day", 24 * time.Hour}
)

// Quotas count calls against limits that hold over all workers together. A worker takes a piece of a limit from the database and
// gives it out: never is more let in than the limit; what a worker has taken and not given out, at most a piece, is lacking to others.
type Quotas struct {
	db   *pgxpool.Pool
	mu   sync.Mutex
	have map[quotaKey]*piece
	last time.Time // when pieces of spans that are over were let go
}

type quotaKey struct {
	scope store.Scope
	name  string
	span  Span
}

// piece is what a worker has of a limit.
type piece struct {
	mu     sync.Mutex
	begins time.Time
	left   int64
	gone   bool // there is no more in this span
	limit  int64
}

// pieces is into how many pieces a limit is cut: the error of the limit is a piece for each worker but one.
const pieces = 50

// NewQuotas has taken nothing.
func NewQuotas(db *pgxpool.Pool) *Quotas { return &Quotas{db: db, have: map[quotaKey]*piece{}} }

// Take counts one call against a limit of a name in a span. Where there is none left it says in how long there is again.
func (q *Quotas) Take(ctx context.Context, s store.Scope, name string, span Span, limit int64, now time.Time) (ok bool, again time.Duration, err error) {
	p := q.piece(quotaKey{s, name, span}, now)
	p.mu.Lock()
	defer p.mu.Unlock()
	begins := now.UTC().Truncate(span.Length)
	if !p.begins.Equal(begins) || p.limit != limit {
		p.begins, p.left, p.gone, p.limit = begins, 0, false, limit
	}
	again = begins.Add(span.Length).Sub(now)
	if p.left == 0 && !p.gone {
		got, err := store.TakeQuota(ctx, q.db, s, name, span.Name, begins, min(max(limit/pieces, 1), 1000), limit)
		if err != nil {
			return false, 0, err
		}
		p.left, p.gone = got, got == 0
	}
	if p.left == 0 {
		return false, again, nil
	}
	p.left--
	return true, 0, nil
}

func (q *Quotas) piece(key quotaKey, now time.Time) *piece {
	q.mu.Lock()
	defer q.mu.Unlock()
	if now.Sub(q.last) > time.Hour {
		q.last = now
		for k, p := range q.have {
			if p.mu.TryLock() {
				over := now.Sub(p.begins) > 2*k.span.Length
				p.mu.Unlock()
				if over {
					delete(q.have, k)
				}
			}
		}
	}
	p := q.have[key]
	if p == nil {
		p = &piece{}
		q.have[key] = p
	}
	return p
}
