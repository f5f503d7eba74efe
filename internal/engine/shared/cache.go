// Package shared is what the parts of the engine have in common: the connections of each scope, what a process remembers of the
// database while it hears of changes, and what is said of errors.
package shared

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/connector"
	"hollowreed/internal/store"
)

// Remembered bounds how long what is kept in memory is believed, though the database tells of every change.
const Remembered = 5 * time.Minute

// Connections are those of each scope.
type Connections = connector.Pools[store.Scope]

// Hearing says whether a process hears of changes of the database now: while it does, what it has read is as it was.
type Hearing = atomic.Bool

// Deployments are the flows of all projects as an environment runs them, and which of their triggers are paused, kept in memory.
type Deployments struct {
	db      *pgxpool.Pool
	env     string
	hearing *Hearing
	mu      sync.Mutex
	changes int // how often something changed
	keptAt  int // of changes; what is kept is as it was then
	read    time.Time
	list    []store.Deployment
	paused  map[[2]string]bool
}

// NewDeployments remembers nothing yet.
func NewDeployments(db *pgxpool.Pool, env string, h *Hearing) *Deployments {
	return &Deployments{db: db, env: env, hearing: h}
}

// Forget lets them be read anew.
func (d *Deployments) Forget() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.changes++
	d.read = time.Time{}
}

// All gives the deployments, and which of the triggers are paused, by project and flow. The list is the same slice until it is read anew.
func (d *Deployments) All(ctx context.Context) ([]store.Deployment, map[[2]string]bool, error) {
	d.mu.Lock()
	list, paused, before := d.list, d.paused, d.changes
	known := d.hearing.Load() && d.keptAt == d.changes && time.Since(d.read) < Remembered
	d.mu.Unlock()
	if known {
		return list, paused, nil
	}
	read := time.Now()
	list, err := store.AllDeployments(ctx, d.db, d.env)
	if err != nil {
		return nil, nil, err
	}
	if paused, err = store.Paused(ctx, d.db, d.env); err != nil {
		return nil, nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.changes == before {
		d.list, d.paused, d.keptAt, d.read = list, paused, before, read
	}
	return list, paused, nil
}
