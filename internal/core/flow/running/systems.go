package running

import (
	"context"
	"strings"
	"time"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Systems is how a running flow reaches other systems. An error that is a *fault.Fault with code
// Setting is final; every other error means that the system cannot be reached now and the batch
// is to be tried again.
type Systems interface {
	// Lookup finds one row for each key; Absent where there is none.
	Lookup(ctx context.Context, l Lookup, keys [][]value.Value) ([]value.Value, error)
	// Upsert writes rows by key and says for each what it did.
	Upsert(ctx context.Context, u Upsert, rows []value.Value) ([]WriteResult, error)
	// Call asks a system once for each request and says what it answered, or why it refused.
	Call(ctx context.Context, c Call, requests []value.Value) ([]Response, error)
}

// Call is a step that asks a system.
type Call struct {
	Op    *connection.Operation
	Flow  string
	Step  string
	Items []*Item                               // to which the requests belong
	Done  func(from int, done []Response) error // told of answers as they come; may be nil
	Rows  Rows                                  // of an operation that gives any number of records: which are wanted
}

// Rows says which records of the answer of an operation that reads a step wants.
type Rows string

// One record and no more: others are a fault. The first of however many. All, as a list.
const (
	OneRow   Rows = "one record"
	FirstRow Rows = "the first record"
	AllRows  Rows = "all, as a list"
)

// MaxRows bounds the records of one answer that a step takes as a list.
const MaxRows = 10_000

// AnswerOf describes the answers of a call, as they are kept and read back.
func (c Call) AnswerOf() *Kept { return answerOf(c.Op.Response, c.Rows == AllRows) }

// answerOf describes answers that are records of a schema, or lists of them; nil where there are none.
func answerOf(s *schema.Schema, list bool) *Kept {
	if s == nil {
		return nil
	}
	n := RecordOf("answer", s, 0)
	n.List = list
	k := KeptOf(n)
	return &k
}

// RowOf describes the rows of a look-up, as they are kept and read back.
func (l Lookup) RowOf() *Kept { return answerOf(l.Row, false) }

// Response is the outcome of one request: an answer, absent where there is none, or a fault.
type Response struct {
	Answer  value.Value
	Fault   *fault.Fault
	NotDone bool           // a try: nothing was asked
	Aside   int            // of a run that was called: the records that it has set aside
	Turns   []Turn         // what was said, where it is known
	Ignored map[string]int // fields of the answer that were passed over because its schema lacks them, by path; nil: none
	MadeUp  bool           // nobody answered so, and no sample is kept: it only has the right shape
}

// Lookup asks for rows of a table by key columns.
type Lookup struct {
	Connection string
	Table      string
	Columns    []string
	Row        *schema.Schema
	Flow       string
	Step       string
	Items      []*Item // to which the keys belong
}

// Upsert inserts rows or updates those whose key exists.
type Upsert struct {
	Connection string
	Table      string
	Key        []string
	Row        *schema.Schema
	Flow       string
	Step       string
	Items      []*Item // to which the rows belong
}

// UpsertOf is the upsert that an operation does; nil where it does another thing.
func UpsertOf(op *connection.Operation) *Upsert {
	if op.Kind == nil || !op.Kind.Upserts || op.Request == nil {
		return nil
	}
	u := &Upsert{Connection: op.Connection, Table: op.Setting("table"), Row: op.Request}
	for k := range strings.SplitSeq(op.Setting("key"), ",") {
		if k = strings.TrimSpace(k); k != "" {
			u.Key = append(u.Key, k)
		}
	}
	return u
}

// Effect is what writing did.
type Effect string

// The effects of an upsert. Not done is what a try reports.
const (
	Inserted  Effect = "inserted"
	Updated   Effect = "updated"
	Unchanged Effect = "unchanged"
	Called    Effect = "called"
	ForFile   Effect = "collected" // for a file that is written when the run ends
	NotDone   Effect = "not done"
)

// WriteResult is the outcome for one row: an effect, or the fault for which the system refused it.
type WriteResult struct {
	Effect Effect
	Fault  *fault.Fault
}

// FlowCall is a step that runs another flow.
type FlowCall struct {
	Flow  *Contract
	From  string // the flow whose step it is
	Step  string
	Wait  bool
	Items []*Item
}

// DuplicateCheck is a step that looks for keys that were there before.
type DuplicateCheck struct {
	Step   string
	Items  []*Item
	Within time.Duration // 0: ever
}

// AnswerOf describes the answers of a flow that is called, as they are kept and read back.
func (c *Contract) AnswerOf() *Kept { return answerOf(c.Output, false) }

// Contract is what a flow is given by who calls it, and what it answers. Either schema may be nil.
type Contract struct {
	ID, Title     string
	Input, Output *schema.Schema
}

// FileTarget is where a write step's files go.
type FileTarget struct {
	Connection string
	Schema     *schema.Schema
	Step       *flow.Step
}

// Collected is a record that is to stand in a file.
type Collected struct {
	Item   *Item
	Step   string
	Name   string
	Record value.Value
}
