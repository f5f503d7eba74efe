// Package tries takes samples through drafts: a whole flow at once, or step by step; and it makes cases of samples and of runs.
package tries

import (
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/compiled"
	"hollowreed/internal/engine/shared"
)

// Tries are the tries of drafts: whole, and step by step.
type Tries struct {
	db       *pgxpool.Pool
	compiled *compiled.Cache
	outside  *shared.Connections
	env      string
	walks    walks
	awaiting awaiting
}

// New makes what tries drafts in an environment.
func New(db *pgxpool.Pool, c *compiled.Cache, outside *shared.Connections, env string) *Tries {
	return &Tries{db: db, compiled: c, outside: outside, env: env}
}
