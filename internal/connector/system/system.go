// Package system says what all kinds of outside system have in common: what can be done with one
// once it is open, the settings that it is opened with, and the bounds within which it is reached.
// The kinds themselves are in the folders beside this one.
package system

import (
	"context"
	"io"
	"iter"
	"strconv"
	"time"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
)

// System is one outside system with the settings of an environment. It is used by many at once.
type System interface {
	// Probe tries the system stage by stage.
	Probe(ctx context.Context, r *probe.Run)
	// Check says whether the system answers now.
	Check(ctx context.Context) error
	Close()
}

// Request is one call of an operation.
type Request struct {
	Op    *connection.Operation
	Value value.Value // of the operation's request schema; absent where it has none
	Key   string      // the same for every try of one record, so that a system can tell a repeated call

	Content *spool.Spool // what is to be in a file, in place of the request's own, however long; nil: that
}

// Caller is a system that does one thing at a time. An error that is a *fault.Fault is about the request:
// trying again would not mend it. Any other error means that the system cannot be reached now.
type Caller interface {
	Call(ctx context.Context, r Request) (value.Value, error)
}

// Previewer is a system that can tell what it would send for a request, and sends nothing.
type Previewer interface {
	Preview(ctx context.Context, r Request) (running.Turn, error)
}

// Reader is a system whose answer is any number of records, read as they are wanted. Errors are as
// those of Caller; the first ends the reading.
type Reader interface {
	Read(ctx context.Context, r Request) iter.Seq2[value.Value, error]
}

// CatalogueEntry is something that a system has: a table, an operation, a folder.
type CatalogueEntry struct {
	Name   string
	Kind   string // in a word: table, view, function
	About  string
	Detail string
}

// CatalogueReader is a system that can say what it has.
type CatalogueReader interface {
	Catalogue(ctx context.Context, find string) ([]CatalogueEntry, error)
}

// File is a file of a folder.
type File struct {
	Name     string
	Size     int64
	Changed  time.Time
	Identity string // tells it from another file of its name
}

// Folder is a system that has files.
type Folder interface {
	// List gives the files whose names fit a mask, in the order of the settings.
	List(ctx context.Context, mask string) ([]File, error)
	Open(ctx context.Context, name string) (io.ReadCloser, error)
}

// Fetched is a folder that moves or removes a file once a copy of it is recorded with its run.
type Fetched interface {
	MarkFetched(ctx context.Context, name string) error
}

// InPlace is a folder of this machine: a run reads its files where they stand, and they are moved rather than copied.
type InPlace interface {
	Folder
	// Path is where a file stands, DonePath where it goes once its run is recorded.
	Path(name string) string
	DonePath(name, run string) string
	// Settle deletes or moves the file of a run that has ended, well or not, as the settings say, and gives where it is then.
	Settle(at, name, run string, well bool) (to string, err error)
}

// Mail is a mail that waits in a mailbox.
type Mail struct {
	Identity string      // tells it from every other mail of the folder, for ever
	Value    value.Value // a record of connection.Letter
}

// Mailbox is a system that has mails.
type Mailbox interface {
	// FetchMails brings the mails that wait and fit, oldest first; those that take has taken are marked, moved or deleted there.
	FetchMails(ctx context.Context, from, subject string, take func(Mail) error) error
}

// Values are the settings of one system, by name, with secrets in place of their names.
type Values map[string]string

// Or reads a setting, or gives the default.
func (v Values) Or(name, def string) string {
	if s := v[name]; s != "" {
		return s
	}
	return def
}

// Int reads a number, or gives the default.
func (v Values) Int(name string, def int) int {
	if n, err := strconv.Atoi(v[name]); err == nil {
		return n
	}
	return def
}

// Timeout is how long one answer may take.
func (v Values) Timeout() time.Duration { return time.Duration(v.Int("timeout", 30)) * time.Second }

// Largest is the most bytes of one answer.
func (v Values) Largest() int64 { return int64(v.Int("largest", 64)) << 20 }

// Env is what a system is opened in.
type Env struct {
	ID      string // the connection's
	Values  Values
	Net     *Net
	Roots   []string    // folders of this machine that may be used; any where there are none
	Never   []string    // folders and files of it that may not, wherever they are
	Own     string      // the name of the product's own database, on the server that Net names
	Secrets SecretStore // keeps what a system learns while it is used
}

// SecretStore keeps a secret that changes while a system is used: refreshed tokens. Lock makes sure that of all
// processes one at a time refreshes.
type SecretStore interface {
	Get(ctx context.Context, name string) (string, error)
	Set(ctx context.Context, name, value string) error
	Lock(ctx context.Context, name string, do func(ctx context.Context) error) error
}

// Tables is a system in whose tables rows are looked up and written by key.
type Tables interface {
	Lookup(ctx context.Context, l running.Lookup, keys [][]value.Value) ([]value.Value, error)
	Upsert(ctx context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error)
	// CheckUpsert says why rows cannot be written so, whatever is in them: columns and constraints that the table does not have.
	CheckUpsert(ctx context.Context, u running.Upsert) (fault.List, error)
	// Describe gives the shape of a table's or a query's rows as the database tells it, and the first of them.
	Describe(ctx context.Context, id, what string, rows int) (*schema.Schema, []value.Value, error)
}

// Result is the outcome of one request of several: an answer, or the fault for which the system refused it.
type Result struct {
	Answer value.Value
	Fault  *fault.Fault
}

// Batcher is a system that does many requests of an operation at once, all or none of those that it does
// not refuse. ok is false where it does not do so for this operation.
type Batcher interface {
	CallAll(ctx context.Context, requests []Request) (done []Result, ok bool, err error)
}

// TokensOf is the name under which a connection's OAuth tokens are kept.
func TokensOf(id string) string { return id + " tokens" }

// Fetcher is a system that gives documents of itself, by an address or a path below its own.
type Fetcher interface {
	Fetch(ctx context.Context, at string) ([]byte, error)
}
