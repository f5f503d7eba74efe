package engine

import (
	"context"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/engine/apis"
	"hollowreed/internal/store"
)

// Bounds on taking messages.
const (
	maxTaken = 1000
	maxHold  = time.Hour
	maxWait  = 30 * time.Second
	lookWait = 500 * time.Millisecond // between two looks of who waits: what is told wakes nobody who was not there yet
)

// ChannelCaller lets a program use a channel, or says as a *Rejected why not. The name is empty where anybody may.
func (e *Engine) ChannelCaller(ctx context.Context, s store.Scope, c *channel.Channel, key string) (string, error) {
	if c.Settings.Get("callers") == channel.Anybody {
		return "", nil
	}
	if key == "" {
		return "", unknownCaller("ApiKey", fault.Expect(fault.Required, "a key in the header Api-Key", "none"))
	}
	caller, reason, err := e.apiCallers.Of(ctx, s, key, "channels/"+c.ID, e.now())
	switch {
	case err != nil:
		return "", err
	case reason == apis.NotForAPI:
		return "", refused(403, fault.New(fault.Setting, "the caller may not use this channel"))
	case reason != "":
		return "", unknownCaller("ApiKey", fault.New(fault.Setting, "%s", string(reason)))
	}
	return caller.Name, nil
}

// Take is what a program wants to be handed out.
type Take struct {
	Subscription string        // of a topic
	From         string        // where a new one begins: now or beginning
	Most         int           // messages
	Hold         time.Duration // for which they are its own
	Wait         time.Duration // for the first of them
}

// TakeMessages hands messages of a channel out to a program. They come again when it does not acknowledge them in time. It waits for the
// first for a while.
func (e *Engine) TakeMessages(ctx context.Context, s store.Scope, c *channel.Channel, t Take) (token uuid.UUID, list []store.Taken, err error) {
	r, err := e.readerFor(ctx, s, c, t.Subscription, t.From)
	if err != nil {
		return token, nil, err
	}
	token = uuid.New()
	t.Most, t.Hold, t.Wait = min(max(1, t.Most), maxTaken), min(max(time.Second, t.Hold), maxHold), min(max(0, t.Wait), maxWait)
	until := time.Now().Add(t.Wait)
	for {
		heard := e.arrivals.next(s.String() + " " + c.ID)
		if list, err = e.take(ctx, c, r.ID, t, token); err != nil || len(list) > 0 || !time.Now().Before(until) {
			return token, list, err
		}
		select {
		case <-heard:
		case <-time.After(min(lookWait, time.Until(until))):
		case <-ctx.Done():
			return token, nil, ctx.Err()
		}
	}
}

func (e *Engine) take(ctx context.Context, c *channel.Channel, reader int, t Take, token uuid.UUID) (list []store.Taken, err error) {
	if err := store.Exhausted(ctx, e.front(), reader, c.MaxDeliveries); err != nil {
		return nil, err
	}
	return store.TakeMessages(ctx, e.front(), reader, t.Most, t.Hold, token, c.Order != channel.NoOrder)
}

// readerFor is the reader that programs read with.
func (e *Engine) readerFor(ctx context.Context, s store.Scope, c *channel.Channel, subscription, from string) (store.ChannelReader, error) {
	id, err := e.channelIDs.of(ctx, e.front(), s, c.ID)
	if err != nil {
		return store.ChannelReader{}, err
	}
	switch {
	case c.Kind == channel.Queue && subscription != "":
		return store.ChannelReader{}, refused(404, fault.New(fault.Setting, "a queue has no subscriptions"))
	case c.Kind == channel.Queue:
		from = store.FromBeginning
	case subscription == "" || len(subscription) > maxMessageID || !plain(subscription):
		return store.ChannelReader{}, refused(404, fault.Expect(fault.Required, "the name of a subscription", fault.Quote(subscription)))
	}
	return store.AddReader(ctx, e.front(), id, subscription, from)
}

// Acknowledge ends that messages are out. It says how many were.
func (e *Engine) Acknowledge(ctx context.Context, s store.Scope, c *channel.Channel, subscription string, token uuid.UUID, list []store.ChannelPlace) (int, error) {
	r, err := e.readerFor(ctx, s, c, subscription, store.FromNow)
	if err != nil {
		return 0, err
	}
	return store.Acknowledge(ctx, e.front(), r.ID, token, list)
}

// ReturnMessages lets messages be handed out again after a time, or sets those aside that were handed out too often.
func (e *Engine) ReturnMessages(ctx context.Context, s store.Scope, c *channel.Channel, subscription string, token uuid.UUID, list []store.ChannelPlace, after time.Duration, reason string) (int, error) {
	r, err := e.readerFor(ctx, s, c, subscription, store.FromNow)
	if err != nil {
		return 0, err
	}
	if reason == "" {
		reason = "returned"
	}
	return store.ReturnMessages(ctx, e.front(), r.ID, token, list, min(max(0, after), maxHold), c.MaxDeliveries, textOf(reason))
}
