package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// Bounds on the messages of channels.
const (
	maxMessages    = 1000     // that are put at once
	maxHeaders     = 64       // of one message
	maxHeaderBytes = 16 << 10 // together
	maxMessageID   = 200      // bytes of an id or a key
)

// NewMessage is a message that is put into a channel.
type NewMessage struct {
	ID      string // empty: it gets one, and is taken for no double
	Key     string // empty: as the channel says
	Headers []running.Pair
	Media   string
	Body    []byte
	Origin  string
}

// PutMessage is what became of one.
type PutMessage struct {
	ID     string       `json:"id"`
	Double bool         `json:"double,omitempty"` // it was there before
	Fault  *fault.Fault `json:"-"`                // for which it is refused
}

// channelIDs are the numbers of channels, which never change.
type channelIDs struct{ sync.Map }

func (c *channelIDs) of(ctx context.Context, db store.DB, s store.Scope, name string) (int, error) {
	key := s.String() + " " + name
	if id, there := c.Load(key); there {
		return id.(int), nil
	}
	id, err := store.ChannelID(ctx, db, s, name)
	if err == nil {
		c.Store(key, id)
	}
	return id, err
}

// Channel is a channel as an environment runs it, with its number; nil where none of the name is released.
func (e *Engine) Channel(ctx context.Context, s store.Scope, name string) (*channel.Channel, int, error) {
	c, err := e.releasedChannel(ctx, s, name)
	if err != nil || c == nil {
		return nil, 0, err
	}
	id, err := e.channelIDs.of(ctx, e.front(), s, name)
	return c, id, err
}

func (e *Engine) releasedChannel(ctx context.Context, s store.Scope, name string) (*channel.Channel, error) {
	list, _, err := e.deployments.All(ctx)
	if err != nil {
		return nil, err
	}
	id := project.ReleaseID(project.Channels, name)
	i := slices.IndexFunc(list, func(d store.Deployment) bool { return d.Scope == s && d.Flow == id })
	if i < 0 {
		return nil, nil
	}
	p, err := e.Release(ctx, s.Project, id, list[i].Number)
	if err != nil {
		return nil, err
	}
	return p.Channel(name), nil
}

// Channels are the channels that an environment runs of a project, by id.
func (e *Engine) Channels(ctx context.Context, s store.Scope) (list []*channel.Channel, err error) {
	deployments, _, err := e.deployments.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range deployments {
		kind, id, _ := project.Kind(project.ReleasedPath(d.Flow))
		if d.Scope != s || kind != project.Channels {
			continue
		}
		c, err := e.releasedChannel(ctx, s, id)
		if err != nil {
			return nil, err
		}
		if c != nil {
			list = append(list, c)
		}
	}
	slices.SortFunc(list, func(a, b *channel.Channel) int { return strings.Compare(a.ID, b.ID) })
	return list, nil
}

// PutMessages puts messages into a channel, those that are not refused, and says what became of each.
func (e *Engine) PutMessages(ctx context.Context, s store.Scope, name string, list []NewMessage) ([]PutMessage, error) {
	c, err := e.releasedChannel(ctx, s, name)
	switch {
	case err != nil:
		return nil, err
	case c == nil:
		return nil, refused(404, fault.New(fault.Unknown, "there is no channel %s that is released", fault.Quote(name)))
	case len(list) > maxMessages:
		return nil, refused(413, fault.Expect(fault.Limit, fmt.Sprintf("at most %d messages at once", maxMessages), fmt.Sprint(len(list))))
	}
	done := make([]PutMessage, len(list))
	var into []string
	err = pgx.BeginFunc(ctx, e.front(), func(tx pgx.Tx) (err error) {
		into, err = e.put(ctx, tx, s, c, list, done)
		return err
	})
	if err == nil {
		e.messagesCame(s, into)
	}
	return done, err
}

// put puts messages into a channel and its copies in a transaction, and gives the channels that have got some.
func (e *Engine) put(ctx context.Context, tx pgx.Tx, s store.Scope, c *channel.Channel, list []NewMessage, done []PutMessage) (into []string, err error) {
	id, err := e.channelIDs.of(ctx, e.front(), s, c.ID)
	if err != nil {
		return nil, err
	}
	var ids []string
	for i, m := range list {
		if done[i].ID = m.ID; m.ID == "" {
			done[i].ID = uuid.Must(uuid.NewV7()).String()
		} else {
			ids = append(ids, m.ID)
		}
	}
	known, err := store.KnownMessages(ctx, tx, id, ids, c.Deduplicate)
	if err != nil {
		return nil, err
	}
	var kept []keptMessage
	for i, m := range list {
		if known[m.ID] {
			done[i].Double = true
			continue
		}
		k, f := e.kept(s, c, m)
		if done[i].Fault = f; f != nil {
			continue
		}
		if m.ID != "" && c.Deduplicate > 0 {
			known[m.ID] = true
		}
		k.MessageID, k.Known = done[i].ID, m.ID != ""
		kept = append(kept, k)
	}
	return e.keep(ctx, tx, s, c, id, kept)
}

// keptMessage is a message as it is kept, with its value where that was read.
type keptMessage struct {
	store.ChannelMessage
	value value.Value
}

// kept checks a message.
func (e *Engine) kept(s store.Scope, c *channel.Channel, m NewMessage) (k keptMessage, f *fault.Fault) {
	switch {
	case len(m.Body) > c.MaxBody:
		return k, fault.Expect(fault.Limit, fmt.Sprintf("a message of at most %d KB", c.MaxBody>>10), fmt.Sprintf("%d KB", len(m.Body)>>10))
	case len(m.ID) > maxMessageID || len(m.Key) > maxMessageID || !plain(m.ID) || !plain(m.Key):
		return k, fault.Expect(fault.Limit, fmt.Sprintf("an id and a key of at most %d bytes without control characters", maxMessageID), "another one")
	}
	headers, f := headersOf(m.Headers)
	if f != nil {
		return k, f
	}
	k.ChannelMessage = store.ChannelMessage{Key: m.Key, Headers: headers, Media: m.Media, Body: m.Body, Origin: m.Origin}
	var broken fault.List
	if k.value, broken = e.MessageOf(c, m.Body); len(broken) > 0 && c.Check != channel.Off {
		if c.Check == channel.Refuse {
			return k, broken[0]
		}
		e.tallies.Counted(s, "channel broken", c.ID, 0, true)
	}
	if k.Key == "" && len(broken) == 0 {
		if k.Key, f = c.KeyOf(k.value); f != nil {
			return k, f.InField("key")
		}
	}
	now := time.Now()
	if c.Delay > 0 {
		at := now.Add(c.Delay)
		k.DueAt = &at
	}
	if c.TTL > 0 {
		at := now.Add(c.Delay + c.TTL)
		k.ExpiresAt = &at
	}
	return k, nil
}

// plain says whether a text has neither control characters nor bytes that are no text.
func plain(text string) bool {
	return utf8.ValidString(text) && !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// headersOf writes the headers of a message as they are kept.
func headersOf(list []running.Pair) (string, *fault.Fault) {
	if len(list) == 0 {
		return "", nil
	}
	size := 0
	for _, h := range list {
		size += len(h.Name) + len(h.Value)
		if !plain(h.Name) || !plain(h.Value) || h.Name == "" {
			return "", fault.Expect(fault.Syntax, "headers of text without control characters", fault.Quote(h.Name))
		}
	}
	if len(list) > maxHeaders || size > maxHeaderBytes {
		return "", fault.Expect(fault.Limit, fmt.Sprintf("at most %d headers and %d KB of them", maxHeaders, maxHeaderBytes>>10), fmt.Sprintf("%d with %d KB", len(list), size>>10))
	}
	pairs := make([][2]string, len(list))
	for i, h := range list {
		pairs[i] = [2]string{h.Name, h.Value}
	}
	text, err := json.Marshal(pairs)
	if err != nil {
		return "", fault.From(err, fault.Setting)
	}
	return string(text), nil
}

// MessageHeaders reads the headers of a message as they are kept.
func (e *Engine) MessageHeaders(text string) (list []running.Pair) {
	var pairs [][2]string
	if json.Unmarshal([]byte(text), &pairs) != nil {
		return nil
	}
	for _, p := range pairs {
		list = append(list, running.Pair{Name: p[0], Value: p[1]})
	}
	return list
}

// MessageOf reads the body of a message as steps see it.
func (e *Engine) MessageOf(c *channel.Channel, body []byte) (value.Value, fault.List) {
	if c.Schema != nil {
		return readBody(c.Schema, body, nil)
	}
	text := value.Value{}
	if utf8.Valid(body) && !slices.Contains(body, 0) {
		text = value.NewText(string(body))
	}
	return value.NewRecord(channel.Raw.Root.Layout(), []value.Value{text}), nil
}

// keep writes messages, and copies of them, and gives the channels that have got some.
func (e *Engine) keep(ctx context.Context, tx pgx.Tx, s store.Scope, c *channel.Channel, id int, kept []keptMessage) (into []string, err error) {
	if len(kept) == 0 {
		return nil, nil
	}
	list := make([]store.ChannelMessage, len(kept))
	for i, k := range kept {
		list[i] = k.ChannelMessage
	}
	if err := store.PutMessages(ctx, tx, id, list); err != nil {
		return nil, err
	}
	into = []string{c.ID}
	for _, copied := range c.Copies {
		more, err := e.copied(ctx, tx, s, copied, kept)
		if err != nil {
			return nil, err
		}
		into = append(into, more...)
	}
	return into, nil
}

// copied puts copies of messages into another channel: as they are, with their ids and headers. What is wrong with that channel keeps no
// message from its own.
func (e *Engine) copied(ctx context.Context, tx pgx.Tx, s store.Scope, k *channel.Copy, kept []keptMessage) ([]string, error) {
	to, err := e.releasedChannel(ctx, s, k.To.Value)
	if err != nil || to == nil {
		return nil, err
	}
	id, err := e.channelIDs.of(ctx, e.front(), s, to.ID)
	if err != nil {
		return nil, err
	}
	var taken []keptMessage
	for _, m := range kept {
		takes, f := k.Takes(m.value)
		if f != nil {
			e.tallies.Counted(s, "channel broken", to.ID, 0, true)
			continue
		}
		if takes {
			m.DueAt, m.ExpiresAt = nil, nil
			taken = append(taken, m)
		}
	}
	return e.keep(ctx, tx, s, to, id, taken)
}

// publish puts what steps of a run have published into its channels, in the transaction that records it, and gives the channels that have
// got some.
func (e *Engine) publish(ctx context.Context, tx pgx.Tx, r store.Run, list []running.Published) (into []string, err error) {
	for from := 0; from < len(list); {
		to := from + 1
		for to < len(list) && list[to].Channel == list[from].Channel {
			to++
		}
		more, err := e.publishTo(ctx, tx, r, list[from].Channel, list[from:to])
		if err != nil {
			return nil, err
		}
		into = append(into, more...)
		from = to
	}
	return into, nil
}

func (e *Engine) publishTo(ctx context.Context, tx pgx.Tx, r store.Run, name string, list []running.Published) ([]string, error) {
	c, err := e.releasedChannel(ctx, r.Scope, name)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, fault.New(fault.Setting, "the channel %s is not released in this environment", name).WithFix("Release it; then resume the run")
	}
	id, err := e.channelIDs.of(ctx, e.front(), r.Scope, name)
	if err != nil {
		return nil, err
	}
	kept := make([]keptMessage, 0, len(list))
	for _, m := range list {
		k, f := e.kept(r.Scope, c, NewMessage{Key: m.Key, Headers: m.Headers, Media: m.Media, Body: m.Body, Origin: "run " + r.ID.String() + " " + m.Step})
		if f != nil { // the channel may say something else than when the flow was released
			return nil, f.InField("channel " + name)
		}
		k.MessageID = fmt.Sprintf("%s-%s-%d%s", r.ID, m.Step, m.Item.Record, m.Item.Path)
		kept = append(kept, k)
	}
	return e.keep(ctx, tx, r.Scope, c, id, kept)
}

// releaseChannels brings into an environment what a release does with channels: of a channel for how long its messages are kept, and the
// queue that is read from its beginning; with anything else the channels that it needs and that are not there yet.
func (e *Engine) releaseChannels(ctx context.Context, tx pgx.Tx, s store.Scope, p *project.Project, id, note, by string) error {
	for _, path := range p.Uses(id) {
		kind, name, _ := project.Kind(path)
		if kind != project.Channels {
			continue
		}
		of := project.ReleaseID(kind, name)
		if of != id {
			if _, err := store.DeploymentOf(ctx, tx, s, of); err == nil {
				continue
			} else if !errors.Is(err, store.ErrNotFound) {
				return err
			}
			if err := addRelease(ctx, tx, s, p, of, note, by); err != nil {
				return err
			}
		}
		if err := e.readyChannel(ctx, tx, s, p.Channel(name)); err != nil {
			return err
		}
	}
	return nil
}

// addRelease releases a part beside another one.
func addRelease(ctx context.Context, tx pgx.Tx, s store.Scope, p *project.Project, id, note, by string) error {
	part, _ := p.Releasable(id)
	files := map[string]string{}
	for _, path := range p.Uses(id) {
		files[path] = p.Texts[path]
	}
	number, err := store.AddRelease(ctx, tx, store.Release{Project: s.Project, Flow: id, Title: part.Title, Note: note, MadeBy: by}, files)
	if err != nil {
		return err
	}
	return store.Deploy(ctx, tx, s, id, number, by)
}

func (e *Engine) readyChannel(ctx context.Context, tx pgx.Tx, s store.Scope, c *channel.Channel) error {
	id, err := e.channelIDs.of(ctx, e.front(), s, c.ID)
	if err != nil {
		return err
	}
	if err := store.SetRetention(ctx, tx, id, c.Retention); err != nil || c.Kind == channel.Topic {
		return err
	}
	_, err = store.AddReader(ctx, tx, id, "", store.FromBeginning)
	return err
}

// ChannelChanged makes the flows that read a channel look at it: its messages, or a reader's place, have changed.
func (e *Engine) ChannelChanged(s store.Scope, name string) { e.triggers.Stir(s, name) }
