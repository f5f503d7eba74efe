package operate

import (
	"context"
	"fmt"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
)

// released is the number of a channel that the environment runs; ErrNotFound where it runs none of the name.
func (o Operator) released(ctx context.Context, channel string) (int, error) {
	c, id, err := o.Engine.Channel(ctx, o.Scope, channel)
	if err == nil && c == nil {
		err = store.ErrNotFound
	}
	return id, err
}

// readerOf finds a reader of a channel of the scope.
func (o Operator) readerOf(ctx context.Context, channel string, reader int) (store.ChannelReader, error) {
	id, err := o.released(ctx, channel)
	if err != nil {
		return store.ChannelReader{}, err
	}
	list, err := store.Readers(ctx, o.DB, id)
	if err != nil {
		return store.ChannelReader{}, err
	}
	for _, r := range list {
		if r.ID == reader {
			return r, nil
		}
	}
	return store.ChannelReader{}, store.ErrNotFound
}

// readerName is how people speak of a reader.
func readerName(channel string, r store.ChannelReader) string {
	if r.Name == "" {
		return channel
	}
	return channel + ", " + r.Name
}

// PauseReader hands a reader no messages until somebody lets it have them again.
func (o Operator) PauseReader(ctx context.Context, channel string, reader int, reason string) error {
	r, err := o.readerOf(ctx, channel, reader)
	if err != nil {
		return err
	}
	if err := store.PauseReader(ctx, o.DB, reader, &o.Person, reason[:min(len(reason), maxNote)]); err != nil {
		return err
	}
	return o.audit(ctx, "paused the reader", nil, readerName(channel, r))
}

// ResumeReader lets a paused reader have messages again.
func (o Operator) ResumeReader(ctx context.Context, channel string, reader int) error {
	r, err := o.readerOf(ctx, channel, reader)
	if err != nil {
		return err
	}
	if err := store.PauseReader(ctx, o.DB, reader, nil, ""); err != nil {
		return err
	}
	o.Engine.ChannelChanged(o.Scope, channel)
	return o.audit(ctx, "resumed the reader", nil, readerName(channel, r))
}

// MoveReader lets a reader go on with the first message of a time or later. What it has out or set aside is let go: it comes again where
// it is behind that.
func (o Operator) MoveReader(ctx context.Context, channel string, reader int, to time.Time) error {
	r, err := o.readerOf(ctx, channel, reader)
	if err != nil {
		return err
	}
	at, err := store.PlaceAt(ctx, o.DB, r.Channel, to)
	if err != nil {
		return err
	}
	if err := store.ClearClaims(ctx, o.DB, reader); err != nil {
		return err
	}
	if err := store.MoveReader(ctx, o.DB, reader, at); err != nil {
		return err
	}
	o.Engine.ChannelChanged(o.Scope, channel)
	return o.audit(ctx, "moved the reader", nil, fmt.Sprintf("%s to %s", readerName(channel, r), to.UTC().Format(time.DateTime)))
}

// SkipMessage lets a reader go on behind the next message that it has before it, which is set aside with the reason.
func (o Operator) SkipMessage(ctx context.Context, channel string, reader int, reason string) error {
	r, err := o.readerOf(ctx, channel, reader)
	if err != nil {
		return err
	}
	if reason == "" {
		return fault.Expect(fault.Required, "a reason", "none").InField("reason")
	}
	list, err := store.NextMessages(ctx, o.DB, r.Channel, r.At, 1)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return fault.New(fault.NotFound, "it has no message before it")
	}
	if err := store.SetMessageAside(ctx, o.DB, reader, list[0].ChannelPlace, "skipped by "+o.Person+": "+reason); err != nil {
		return err
	}
	if err := store.MoveReader(ctx, o.DB, reader, list[0].ChannelPlace); err != nil {
		return err
	}
	return o.audit(ctx, "skipped a message", nil, readerName(channel, r)+": "+reason[:min(len(reason), maxNote)])
}

// AgainMessages hands a reader out again what it has set aside: one message, or all of them.
func (o Operator) AgainMessages(ctx context.Context, channel string, reader int, p store.ChannelPlace) (int, error) {
	r, err := o.readerOf(ctx, channel, reader)
	if err != nil {
		return 0, err
	}
	n, err := store.AgainMessages(ctx, o.DB, reader, p)
	if err != nil {
		return 0, err
	}
	o.Engine.ChannelChanged(o.Scope, channel)
	return n, o.audit(ctx, fmt.Sprintf("handed %d messages out again", n), nil, readerName(channel, r))
}

// RemoveReader removes a subscription with its place; a flow that still reads with it begins anew.
func (o Operator) RemoveReader(ctx context.Context, channel string, reader int) error {
	r, err := o.readerOf(ctx, channel, reader)
	if err != nil {
		return err
	}
	if r.Name == "" {
		return fault.New(fault.Setting, "the place of a queue is not removed")
	}
	if err := store.RemoveReader(ctx, o.DB, reader); err != nil {
		return err
	}
	return o.audit(ctx, "removed the subscription", nil, readerName(channel, r))
}

// PutMessage puts a message into a channel by hand.
func (o Operator) PutMessage(ctx context.Context, channel string, m engine.NewMessage) error {
	if _, err := o.released(ctx, channel); err != nil {
		return err
	}
	m.Origin = "person " + o.Person
	done, err := o.Engine.PutMessages(ctx, o.Scope, channel, []engine.NewMessage{m})
	if err != nil {
		return err
	}
	if done[0].Fault != nil {
		return done[0].Fault
	}
	return o.audit(ctx, "put a message", nil, channel+": "+done[0].ID)
}

// PutAgain puts a message that stands in a channel into the same or another one, once more.
func (o Operator) PutAgain(ctx context.Context, from, to string, p store.ChannelPlace) error {
	id, err := o.released(ctx, from)
	if err != nil {
		return err
	}
	m, err := store.MessageAt(ctx, o.DB, id, p)
	if err != nil {
		return err
	}
	headers := append(o.Engine.MessageHeaders(m.Headers), running.Pair{Name: "put-again-of", Value: m.MessageID})
	return o.PutMessage(ctx, to, engine.NewMessage{Key: m.Key, Headers: headers, Media: m.Media, Body: m.Body})
}
