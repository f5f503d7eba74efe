package running

import (
	"context"
	"io"
	"time"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Runtime is what a running flow asks of Hollow Reed itself. What it did for an item before it does not do again.
type Runtime interface {
	Runs
	StateStore
	Correlator
	// Now is the time of this try.
	Now() time.Time
	// Secret is one of the environment's secrets; empty where there is none of that name.
	Secret(ctx context.Context, name string) (string, error)
	// Random gives random bytes.
	Random() io.Reader
}

// Runs are the runs of other flows, and the time that this one rests.
type Runs interface {
	// Start runs another flow once for each input and says what it answered; without waiting it only begins.
	Start(ctx context.Context, c FlowCall, inputs []value.Value) ([]Response, error)
	// Wait is a *Waiting error until the time has come.
	Wait(ctx context.Context, step string, items []*Item, until []time.Time) error
}

// StateStore is what flows remember from run to run.
type StateStore interface {
	// MarkSeen notes keys and says which of them were there before, from other records.
	MarkSeen(ctx context.Context, s DuplicateCheck, keys []string) ([]bool, error)
	// Get gives what is kept in a space under keys; what is not there, or not any more, is left out.
	Get(ctx context.Context, space string, keys []string) (map[string]string, error)
	// Put keeps texts in a space, in place of what is there.
	Put(ctx context.Context, space string, notes []StateEntry) error
}

// StateEntry is a text that is kept under a key.
type StateEntry struct {
	Key, Text string
	ExpiresAt time.Time // zero: for ever
}

// Correlator is how runs meet: one hands over what another waits for, and many bring what one goes on with.
type Correlator interface {
	// Send hands messages over to whoever waits for them, or will.
	Send(ctx context.Context, step string, items []*Item, messages []CorrelatedMessage) error
	// Receive gives the messages that were handed over for the items, nil where none came in time. It is a *Waiting error
	// while one may still come.
	Receive(ctx context.Context, a ReceiveStep, messages []CorrelatedMessage) ([]*string, error)
	// Aggregate keeps what the items bring, and gives it all to the one that goes on with it. It is a *Waiting error for one
	// that waits for others.
	Aggregate(ctx context.Context, g AggregateStep, keys, texts []string) ([]AggregateGroup, error)
}

// CorrelatedMessage is a message by its kind and reference.
type CorrelatedMessage struct{ Name, CorrelationKey, Text string }

// ReceiveStep is a step that waits for messages.
type ReceiveStep struct {
	Step    string
	Items   []*Item
	Timeout time.Duration
	Of      *schema.Schema // of the messages
}

// AggregateStep is a step that gathers.
type AggregateStep struct {
	Step    string
	Items   []*Item
	Size    int           // with which a group is whole; 0: any
	Timeout time.Duration // after the first, with which it is whole; 0: ever
}

// AggregateGroup is what an item goes on with: all texts of its group, in the order in which they came; nil where another
// one goes on with them.
type AggregateGroup struct{ Texts []string }

// MaxGathered bounds one group.
const MaxGathered = 10_000
