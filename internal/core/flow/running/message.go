package running

import (
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// MessageFacts is the shape of what a run knows of the message of a channel that has started it.
var MessageFacts = schema.Record("message",
	schema.Scalar("id", value.Text),
	schema.Scalar("channel", value.Text),
	schema.Scalar("key", value.Text).Optional(),
	schema.Scalar("media", value.Text),
	schema.Scalar("put_at", value.Timestamp),
	pairs("headers"),
)

// Message is what a run knows of a message.
type Message struct {
	ID, Channel, Key, Media string
	PutAt                   value.Value // timestamp
	Headers                 []Pair
}

// Facts are they as formulas see them.
func (m Message) Facts() value.Value {
	key := value.Value{}
	if m.Key != "" {
		key = value.NewText(m.Key)
	}
	of := MessageFacts.Field("headers")
	headers := make([]value.Value, len(m.Headers))
	for i, h := range m.Headers {
		headers[i] = value.NewRecord(of.Layout(), []value.Value{value.NewText(h.Name), value.NewText(h.Value)})
	}
	return value.NewRecord(MessageFacts.Layout(), []value.Value{value.NewText(m.ID), value.NewText(m.Channel), key, value.NewText(m.Media), m.PutAt, value.ListOf(headers...)})
}

// keptMessage is how the facts of a message are kept with its run.
var keptMessage = KeptOf(RecordOf("message", Described("message", MessageFacts), RequestSlot))

// WriteStarted writes what has started a run as it is kept with it.
func (p *Plan) WriteStarted(v value.Value) []byte {
	if p.Channel == nil {
		return WriteRequest(v)
	}
	return []byte(keptMessage.Write(v))
}

// ReadStarted reads what is kept with a run of the request, or the message, that has started it; absent where there is none.
func (p *Plan) ReadStarted(text []byte) value.Value {
	if p.Channel == nil || text == nil {
		return ReadRequest(text)
	}
	return keptMessage.Read(string(text))
}

// TriedMessage are the facts of the message of a try.
func TriedMessage(c *channel.Channel, at value.Value) value.Value {
	return Message{ID: "try", Channel: c.ID, Media: "application/json", PutAt: at}.Facts()
}

// Published is a message that a step puts into a channel, once what its batch has come to is recorded.
type Published struct {
	Item    *Item
	Step    string
	Channel string
	Key     string
	Headers []Pair
	Media   string
	Body    []byte
}
