package design

import (
	"context"
	"slices"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/trigger"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// AddChannel adds a channel of a kind, and gives its id.
func (d Designer) AddChannel(ctx context.Context, title, kind string) (string, error) {
	if title == "" {
		return "", fault.Expect(fault.Required, "a title", "none").InField("title")
	}
	if kind != string(channel.Topic) {
		kind = string(channel.Queue)
	}
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	id, err := FreshID(p, project.Channels, title)
	if err != nil {
		return "", err
	}
	text := partfile.Encode(partfile.Ordered{{Key: "channel", Value: title}, {Key: "kind", Value: kind}})
	return id, d.Add(ctx, project.Path(project.Channels, id), string(text))
}

// SetCopy lets a channel be copied to another one, where a formula says so; or not any more.
func (d Designer) SetCopy(ctx context.Context, id, to, where string, remove bool, from int64) error {
	p, err := d.Load(ctx)
	if err != nil {
		return err
	}
	c := p.Channel(id)
	if c == nil || p.Channel(to) == nil {
		return store.ErrNotFound
	}
	at := slices.IndexFunc(c.Copies, func(k *channel.Copy) bool { return k.To.Value == to })
	return d.Edit(ctx, project.Path(project.Channels, id), from, func(text []byte) ([]byte, error) {
		switch {
		case remove && at < 0:
			return text, nil
		case remove:
			return partfile.Remove(text, []any{"copies"}, c.Copies[at].Index)
		case at >= 0:
			return partfile.Set(text, []any{"copies", c.Copies[at].Index, "where"}, where)
		case where == "":
			return partfile.Append(text, []any{"copies"}, "to", to)
		}
		return partfile.Append(text, []any{"copies"}, "to", to, "where", where)
	})
}

// AddBridge adds a flow that moves the messages of a channel to another one, and gives its id. A mapping and a filter can be added later:
// it is a flow as any other.
func (d Designer) AddBridge(ctx context.Context, from, to string) (string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	a, b := p.Channel(from), p.Channel(to)
	if a == nil || b == nil {
		return "", store.ErrNotFound
	}
	title := a.Title + " to " + b.Title
	id, err := FreshID(p, project.Flows, title)
	if err != nil {
		return "", err
	}
	if a.Message().Root.SameLayout(b.Message().Root) {
		text := partfile.Encode(partfile.Ordered{{Key: "flow", Value: title}, {Key: "from", Value: from}, {Key: "to", Value: to}})
		return id, d.Add(ctx, project.Path(project.Flows, id), string(text))
	}
	publish := partfile.Ordered{{Key: "step", Value: "publish"}, {Key: "id", Value: "publish"}, {Key: "name", Value: "To " + b.Title}, {Key: "channel", Value: to}}
	text := partfile.Encode(partfile.Ordered{
		{Key: "flow", Value: title},
		{Key: "trigger", Value: partfile.Ordered{{Key: "kind", Value: trigger.Message.Name}, {Key: "channel", Value: from}}},
		{Key: "steps", Value: []partfile.Ordered{publish}},
	})
	return id, d.Add(ctx, project.Path(project.Flows, id), string(text))
}
