package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Lead does something as the only process that does it under a name. It waits, without asking again, until no other process
// does. The context that do is given ends when the connection that holds the lead does; do must end then.
func Lead(ctx context.Context, db *pgxpool.Pool, name string, do func(ctx context.Context)) error {
	config := db.Config().ConnConfig
	config.RuntimeParams["application_name"] = "hollowreed: lead " + name
	for bound := range bounds {
		config.RuntimeParams[bound] = "0" // it waits for as long as another leads
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return err
	}
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		conn.Close(ending)
	}()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock(hashtextextended($1, 0))", "lead "+name); err != nil {
		return err
	}
	leading, end := context.WithCancel(ctx)
	defer end()
	done := make(chan struct{})
	go func() {
		defer close(done)
		do(leading)
	}()
	_, err = conn.WaitForNotification(ctx) // none comes: it ends with the connection
	end()
	<-done
	return err
}
