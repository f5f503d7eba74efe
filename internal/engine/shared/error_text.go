package shared

import (
	"errors"
	"io/fs"
	"net"
	"os"

	"github.com/jackc/pgx/v5/pgconn"
)

// PlainError says what went wrong without addresses or passwords: only what the operating system
// or the database server said.
func PlainError(err error) string {
	var path *fs.PathError
	var link *os.LinkError
	var op *net.OpError
	var pg *pgconn.PgError
	switch {
	case errors.As(err, &path):
		return path.Err.Error()
	case errors.As(err, &link):
		return link.Err.Error()
	case errors.As(err, &op):
		return op.Err.Error()
	case errors.As(err, &pg):
		return pg.Message
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) {
		return "no connection to the database"
	}
	return err.Error()
}
