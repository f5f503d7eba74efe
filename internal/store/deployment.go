package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Deployment is the release of a flow that an environment runs.
type Deployment struct {
	Scope
	Flow   string
	Number int // of the release
	MadeBy string
	MadeAt time.Time
}

const deploymentColumns = "project, environment, flow, release, made_by, made_at"

// Deploy makes a release of a flow the one that new runs take in an environment, in place of the one before.
func Deploy(ctx context.Context, db DB, s Scope, flow string, number int, by string) error {
	_, err := db.Exec(ctx, `insert into deployment (project, environment, flow, release, made_by) values ($1, $2, $3, $4, $5)
		on conflict (project, environment, flow) do update set release = excluded.release, made_by = excluded.made_by, made_at = now()`,
		s.Project, s.Environment, flow, number, by)
	if err != nil {
		return err
	}
	return Publish(ctx, db, "deployment "+s.String()+" "+flow)
}

// Deployments lists what an environment runs of a project, by flow.
func Deployments(ctx context.Context, db DB, s Scope) ([]Deployment, error) {
	rows, _ := db.Query(ctx, "select "+deploymentColumns+" from deployment where project = $1 and environment = $2 order by flow", s.Project, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Deployment])
}

// AllDeployments lists what an environment runs of all projects, by project and flow.
func AllDeployments(ctx context.Context, db DB, environment string) ([]Deployment, error) {
	rows, _ := db.Query(ctx, "select "+deploymentColumns+" from deployment where environment = $1 order by project, flow", environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Deployment])
}

// DeploymentOf is the release of a flow that an environment runs; ErrNotFound where it runs none.
func DeploymentOf(ctx context.Context, db DB, s Scope, flow string) (Deployment, error) {
	rows, _ := db.Query(ctx, "select "+deploymentColumns+" from deployment where project = $1 and environment = $2 and flow = $3", s.Project, s.Environment, flow)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Deployment]))
}
