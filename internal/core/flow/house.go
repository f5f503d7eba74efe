package flow

import (
	"context"
	"io"
	"time"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// House is what a running flow asks of Hollow Reed itself. What it did for an item before it does not do again.
type House interface {
	Runs
	Memory
	Meeting
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
	Start(ctx context.Context, c Started, inputs []value.Value) ([]Answered, error)
	// Wait is a *Waiting error until the time has come.
	Wait(ctx context.Context, step string, items []*Item, until []time.Time) error
}

// Memory is what flows remember from run to run.
type Memory interface {
	// Seen notes keys and says which of them were there before, from other records.
	Seen(ctx context.Context, s Sight, keys []string) ([]bool, error)
	// Recall gives what is kept in a space under keys; what is not there, or not any more, is left out.
	Recall(ctx context.Context, space string, keys []string) (map[string]string, error)
	// Remember keeps texts in a space, in place of what is there.
	Remember(ctx context.Context, space string, notes []Noted) error
}

// Noted is a text that is kept under a key.
type Noted struct {
	Key, Text string
	Until     time.Time // zero: for ever
}

// Meeting is how runs meet: one hands over what another waits for, and many bring what one goes on with.
type Meeting interface {
	// Deliver hands messages over to whoever waits for them, or will.
	Deliver(ctx context.Context, step string, items []*Item, letters []Letter) error
	// Await gives the messages that were handed over for the items, nil where none came in time. It is a *Waiting error
	// while one may still come.
	Await(ctx context.Context, a Awaited, letters []Letter) ([]*string, error)
	// Gather keeps what the items bring, and gives it all to the one that goes on with it. It is a *Waiting error for one
	// that waits for others.
	Gather(ctx context.Context, g Gathering, keys, texts []string) ([]Gathered, error)
}

// Letter is a message by its kind and reference.
type Letter struct{ Kind, Reference, Text string }

// Awaited is a step that waits for messages.
type Awaited struct {
	Step   string
	Items  []*Item
	Within time.Duration
	Of     *schema.Schema // of the messages
}

// Gathering is a step that gathers.
type Gathering struct {
	Step   string
	Items  []*Item
	Count  int           // with which a group is whole; 0: any
	Within time.Duration // after the first, with which it is whole; 0: ever
}

// Gathered is what an item goes on with: all texts of its group, in the order in which they came; nil where another
// one goes on with them.
type Gathered struct{ Texts []string }
