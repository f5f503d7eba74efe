// Package channel is the part that describes a channel: a queue, of which each message goes to one reader, or a topic, of which each goes
// to every subscriber. It says what messages are, how long they are kept, in which order they are read, and where copies of them go.
package channel

import (
	"regexp"
	"slices"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Kind says who gets a message.
type Kind string

// The kinds of channel.
const (
	Queue Kind = "queue" // one reader
	Topic Kind = "topic" // every subscriber
)

// Verdict is what is done about a message that is not one of the schema.
type Verdict string

// The verdicts.
const (
	Refuse Verdict = "refuse"
	Report Verdict = "report" // it is kept and counted
	Off    Verdict = "off"
)

// Who may use a channel over HTTP.
const (
	WithKey = "with a key"
	Anybody = "anybody"
)

// Order is in which order messages are read.
type Order string

// The orders: any, of messages with the same key, of all.
const (
	NoOrder  Order = "none"
	ByKey    Order = "by key"
	AllOrder Order = "all"
)

// Channel is one part.
type Channel struct {
	ID, Title     string
	Kind          Kind
	Schema        *schema.Schema // of its messages; nil: they are bytes of whatever kind
	Check         Verdict
	Order         Order
	Key           *formula.Program // of a message that comes without one; nil: it has none
	Retention     time.Duration
	MaxMessages   int           // of which more than so many, the oldest are not read any more; 0: any number
	TTL           time.Duration // after which a message is not handed out any more; 0: never
	Delay         time.Duration // before which it is not handed out
	MaxDeliveries int           // after which it is set aside
	Deduplicate   time.Duration // within which a message id comes once; 0: ids are not looked at
	MaxBody       int           // bytes
	Copies        []*Copy
	Settings      setting.Values
	At            partfile.Text
}

// Copy is another channel that gets every message, too.
type Copy struct {
	To      partfile.Text
	Where   *formula.Program // over the message; nil: all of them
	Setting setting.Values
	Index   int // in the part
}

// Settings are those of a channel.
var Settings = setting.List{
	{Name: "kind", Label: "Kind", Type: setting.Choice, Default: string(Queue), Choices: []string{string(Queue), string(Topic)}, Redraw: true, Help: "Each message of a queue goes to one reader, of a topic to every subscriber"},
	{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", None: "none: any bytes", Redraw: true},
	{Name: "check", Label: "Messages that are not of the schema", Type: setting.Choice, Default: string(Refuse), Choices: []string{string(Refuse), string(Report), string(Off)}},
	{Name: "key", Label: "Key", Type: setting.Formula, Hint: "gate", Help: "Of a message that comes without one: a formula over its fields"},
	{Name: "order", Label: "Order", Type: setting.Choice, Default: string(NoOrder), Choices: []string{string(NoOrder), string(ByKey), string(AllOrder)}, Help: "In which messages are dealt with: by key, those with the same one after the other"},
	{Name: "callers", Label: "Programs", Type: setting.Choice, Default: WithKey, Choices: []string{WithKey, Anybody}, Help: "That put and take messages over HTTP: callers with a key in the header Api-Key, or anybody"},
	{Name: "retention days", Label: "Retention (days)", Type: setting.Number, Default: "7", Least: 1, Greatest: 3650, Help: "What no reader of a queue has taken stays in any case"},
	{Name: "max messages", Label: "Messages (at most)", Type: setting.Number, Least: 1, Greatest: 1_000_000_000, Rare: true, Help: "Of a topic; older ones are not read any more. Default: any number"},
	{Name: "ttl", Label: "Time to live (s)", Type: setting.Number, Least: 1, Greatest: 31_536_000, Rare: true, Help: "After that a message is passed over. Default: its retention"},
	{Name: "delay", Label: "Delay (s)", Type: setting.Number, Least: 1, Greatest: 604_800, Rare: true, Help: "After which a message can be read"},
	{Name: "max deliveries", Label: "Deliveries (at most)", Type: setting.Number, Default: "5", Least: 1, Greatest: 1000, Rare: true, Help: "To programs that take messages and do not acknowledge them; then it is set aside"},
	{Name: "deduplicate", Label: "Message ids are known for (s)", Type: setting.Number, Default: "3600", Greatest: 604_800, Rare: true, Help: "A message with an id that came within this time is taken as a repetition, and kept once"},
	{Name: "max body", Label: "Largest message (KB)", Type: setting.Number, Default: "1024", Least: 1, Greatest: 16384, Rare: true},
}

// CopySettings are those of a copy.
var CopySettings = setting.List{
	{Name: "to", Label: "Copied to", Type: setting.Part, Of: "channel", Required: true},
	{Name: "where", Label: "Where", Type: setting.Formula, Help: "A formula over the message. Default: every message"},
}

// Raw is the message of a channel without a schema, as steps see it.
var Raw = &schema.Schema{ID: "message", Title: "Message", Notation: json.Kind.Notation, Root: schema.Record("message", schema.Scalar("text", value.Text))}

// Message is the schema of the messages as steps see them.
func (c *Channel) Message() *schema.Schema {
	if c.Schema == nil {
		return Raw
	}
	return c.Schema
}

// Parts finds what a channel refers to.
type Parts interface {
	Schema(id string) *schema.Schema
	Formulas() formula.Env
}

// nameOK is what ids of channels look like in addresses.
var nameOK = regexp.MustCompile(`^[A-Za-z0-9._-]{1,100}$`)

// Parse reads the part. Its faults are noted in the document.
func Parse(id string, d *partfile.Doc, parts Parts) *Channel {
	n := d.Root()
	c := &Channel{ID: id, Title: n.Required("channel").Value, At: n.At()}
	v := Settings.Read(n)
	c.Settings, c.Kind, c.Check, c.Order = v, Kind(v.Get("kind")), Verdict(v.Get("check")), Order(v.Get("order"))
	c.Retention, c.TTL, c.Delay = time.Duration(v.Int("retention days"))*24*time.Hour, seconds(v, "ttl"), seconds(v, "delay")
	c.MaxMessages, c.MaxDeliveries, c.Deduplicate, c.MaxBody = v.Int("max messages"), v.Int("max deliveries"), seconds(v, "deduplicate"), v.Int("max body")<<10
	if !nameOK.MatchString(id) {
		d.Fault(c.At, fault.Expect(fault.Setting, "an id of letters, digits, . _ -", fault.Quote(id)))
	}
	if at := v.Text("schema"); at.Value != "" {
		if c.Schema = parts.Schema(at.Value); c.Schema == nil {
			d.Fault(at, fault.New(fault.Unknown, "there is no schema %s", fault.Quote(at.Value)).InField("schema"))
		} else if !c.Schema.Notation.Bytes {
			d.Fault(at, fault.Expect(fault.Setting, "a schema with a notation that can be sent", "rows").InField("schema"))
		}
	}
	scope := c.scope(parts)
	c.Key = compiled(d, v.Text("key"), scope, "key", value.AnyKind)
	for i, item := range n.List("copies") {
		c.Copies = append(c.Copies, c.copy(d, item, i, scope))
	}
	n.RejectUnknown()
	return c
}

func (c *Channel) copy(d *partfile.Doc, n partfile.Node, i int, scope *formula.Scope) *Copy {
	k := &Copy{Setting: CopySettings.Read(n), Index: i}
	n.RejectUnknown()
	k.To = k.Setting.Text("to")
	k.Where = compiled(d, k.Setting.Text("where"), scope, "where", value.Boolean)
	if k.To.Value == c.ID {
		d.Fault(k.To, fault.New(fault.Setting, "a channel is not copied to itself").InField("to"))
	}
	if slices.ContainsFunc(c.Copies, func(o *Copy) bool { return o.To.Value == k.To.Value }) {
		d.Fault(k.To, fault.New(fault.Setting, "it is copied to %s twice", k.To.Value).InField("to"))
	}
	return k
}

// scope is what formulas of the channel can name: the fields of a message.
func (c *Channel) scope(parts Parts) *formula.Scope {
	scope := parts.Formulas().Scope()
	scope.Define("message", formula.Of(c.Message().Root))
	scope.Open("message")
	return scope
}

func compiled(d *partfile.Doc, at partfile.Text, scope *formula.Scope, field string, kind value.Kind) *formula.Program {
	if at.Value == "" {
		return nil
	}
	prog, faults := formula.Compile(at.Value, scope)
	for _, f := range faults {
		d.Fault(at, f.InField(field))
	}
	if prog != nil && kind == value.Boolean && !prog.Type.Fits(kind) {
		d.Fault(at, fault.Expect(fault.Type, "true or false", prog.Type.String()).InField(field))
		return nil
	}
	return prog
}

func seconds(v setting.Values, name string) time.Duration {
	return time.Duration(v.Int(name)) * time.Second
}

// Programs are the formulas of the channel.
func (c *Channel) Programs() (list []*formula.Program) {
	if c.Key != nil {
		list = append(list, c.Key)
	}
	for _, k := range c.Copies {
		if k.Where != nil {
			list = append(list, k.Where)
		}
	}
	return list
}

// KeyOf is the key of a message; empty where it has none.
func (c *Channel) KeyOf(message value.Value) (string, *fault.Fault) {
	if c.Key == nil {
		return "", nil
	}
	v, f := c.Key.Eval(frame(message))
	if f != nil || v.IsMissing() {
		return "", f
	}
	return schema.ScalarText(v), nil
}

// Takes says whether a copy takes a message.
func (k *Copy) Takes(message value.Value) (bool, *fault.Fault) {
	if k.Where == nil {
		return true, nil
	}
	v, f := k.Where.Eval(frame(message))
	return f == nil && v.IsTrue(), f
}

func frame(message value.Value) *formula.Frame {
	return &formula.Frame{Slots: []value.Value{message}}
}
