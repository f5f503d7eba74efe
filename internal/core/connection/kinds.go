package connection

import (
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

const (
	record  = value.RecordKind
	integer = value.Integer
	text    = value.Text
)

// Kind is one kind of system: all that the product knows of it, but for how it is reached.
type Kind struct {
	Name, Title    string
	About          string // what it is for, in a sentence
	Needs          string // what one needs to know to connect
	Settings       setting.List
	OperationKinds []OperationKind
	Watches        bool // new files in it can start a flow
	Mails          bool // new mails in it can start a flow
	Tables         bool // rows can be looked up and upserted by key
	Loose          bool // what it offers can be called without being described as an operation
}

// OperationKind is a kind of operation.
type OperationKind struct {
	Name, About       string
	Settings          setting.List
	Request, Response *schema.Schema // where they are the same for every operation
	Reads             bool           // gives any number of records: a run can read them
	Effect            bool           // changes the outside system
	NoRequest         bool
	NoResponse        bool
	Described         bool // the system says of what schema its result is, without doing it
	Upserts           bool // rows of a table by key
}

// HasRequest says whether what the verb is asked with is fixed.
func (v *OperationKind) HasRequest() bool { return v.Request != nil || v.NoRequest }

// HasResponse says whether what the verb answers is fixed.
func (v *OperationKind) HasResponse() bool { return v.Response != nil || v.NoResponse }

// Kinds is the table of kinds of system.
var Kinds = []*Kind{fileKind, sftpKind, sqlKind, httpKind, soapKind, mailKind, mailboxKind, directoryKind}

// KindOf finds a kind; nil when there is none.
func KindOf(name string) *Kind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Names lists the kinds.
func Names() []string {
	names := make([]string, len(Kinds))
	for i, k := range Kinds {
		names[i] = k.Name
	}
	return names
}

// OperationKind finds a kind of operation; the first when there is none of that name.
func (k *Kind) OperationKind(name string) *OperationKind {
	for i := range k.OperationKinds {
		if k.OperationKinds[i].Name == name {
			return &k.OperationKinds[i]
		}
	}
	return &k.OperationKinds[0]
}

// field makes an optional field of a fixed schema.
func field(name string, kind value.Kind, notes string) *schema.Field {
	f := schema.Scalar(name, kind).Optional()
	f.Notes = notes
	return f
}

// needed makes a required field of a fixed schema.
func needed(name string, kind value.Kind, notes string) *schema.Field {
	f := schema.Scalar(name, kind)
	f.Notes = notes
	return f
}

// listed makes a field that occurs any number of times.
func listed(f *schema.Field) *schema.Field {
	f.Min, f.Max = 0, schema.Many
	return f
}

// fixed makes the schema of a verb, which no part describes.
func fixed(id, title string, fields ...*schema.Field) *schema.Schema {
	return &schema.Schema{ID: id, Title: title, Notation: json.Kind.Notation, Root: schema.Record(id, fields...)}
}

// waits is the setting that all kinds have which wait for an answer.
var waits = setting.Setting{Name: "timeout", Rare: true, Label: "Timeout (s)", Type: setting.Number, Default: "30", Least: 1, Greatest: 600, Help: "Seconds for one answer; then it counts as not answered"}

// largest is the setting that all kinds have which read what a system sends.
var largest = setting.Setting{Name: "largest", Rare: true, Label: "Largest response (MB)", Type: setting.Number, Default: "64", Least: 1, Greatest: 4096, Help: "Megabytes; an answer that is longer, also when it is unpacked, is cut off and is a fault"}

// encryption are the settings of kinds that are reached over TLS.
func encryption(when string) setting.List {
	return setting.List{
		{Name: "authority", Rare: true, Label: "CA certificates", Type: setting.Lines, When: when, Help: "PEM certificates that are trusted beside those of this machine"},
		{Name: "certificate", Rare: true, Label: "Client certificate", Type: setting.Secret, Of: "certificate", When: when, Help: "Where the system asks who we are: certificate and key as PEM, as one secret"},
	}
}

// New is the text of a part of a kind, without operations.
func New(title string, k *Kind) []byte {
	return partfile.Encode(partfile.Ordered{{Key: "connection", Value: title}, {Key: "kind", Value: k.Name}, {Key: "about", Value: k.Title}})
}
