package app

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"
)

// The variables of the environment that hold secrets. They are taken out of it once they are read, so that nothing that is
// started later has them.
const (
	keyVariable      = "HOLLOWREED_KEY" // the key of the secrets, in place of a key file
	databaseVariable = "DATABASE_URL"
)

// maxAddress bounds the file with the address of the database, in bytes.
const maxAddress = 8 << 10

// named lets a command have the address of its database by a flag, a file or the environment.
func (f *flags) named(c *cobra.Command) {
	c.Flags().StringVar(&f.database, "database", "", "address of the PostgreSQL database; with a password rather in a file or in "+databaseVariable+", since all users of the machine see what commands are given")
	c.Flags().StringVar(&f.databaseFile, "database-file", "", "file with the address of the PostgreSQL database")
	c.PreRunE = func(*cobra.Command, []string) error { return f.read(c.ErrOrStderr()) }
}

// read finds the address of the database and the key of the secrets.
func (f *flags) read(told io.Writer) error {
	f.key = taken(keyVariable)
	fromEnvironment := taken(databaseVariable)
	switch {
	case f.database != "" && f.databaseFile != "":
		return errors.New("--database and --database-file name two databases: give one of them")
	case f.databaseFile != "":
		text, err := os.ReadFile(f.databaseFile)
		if err != nil {
			return fmt.Errorf("the address of the database: %w", err)
		}
		if f.database = strings.TrimSpace(string(text)); f.database == "" || len(text) > maxAddress {
			return fmt.Errorf("%s holds no address of a database", f.databaseFile)
		}
	case f.database == "":
		f.database = fromEnvironment
	default:
		if u, err := url.Parse(f.database); err == nil && u.User != nil {
			if _, has := u.User.Password(); has {
				fmt.Fprintln(told, "The password in --database is seen by all users of this machine: name a file with --database-file, or set "+databaseVariable)
			}
		}
	}
	return nil
}

// taken is a variable of the environment, which it is taken out of.
func taken(name string) string {
	text := os.Getenv(name)
	os.Unsetenv(name)
	return text
}
