// Package notation says what all notations have in common: each has a reader that streams bytes
// to values with their places, and a writer that streams values to bytes. The notations
// themselves are in the folders below; package all has their table.
package notation

import (
	"io"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// MaxRecord is the most bytes that one record may have, unless Options say otherwise.
const MaxRecord = 16 << 20

// MaxDepth is how deep a message may nest.
const MaxDepth = 512

// Reader reads the records of one message, one after another, in bounded memory.
type Reader interface {
	// Next gives the next record. At the end the error is io.EOF. A fault.List is a record that
	// cannot be read: the next call goes on behind it. Any other error ends the reading; it is a
	// *fault.Fault where the bytes are at fault.
	Next() (value.Value, error)
	// Place is where the record that Next dealt with begins.
	Place() fault.Place
	// Raw is the text of that record as it stands in the message; empty where a notation has none.
	Raw() string
	// Many says whether the message is a list of records, known after the first Next.
	Many() bool
}

// Writer writes the records of one message.
type Writer interface {
	Write(value.Value) error
	// Close ends the message. It does not close what is written to.
	Close() error
}

// Options for readers and writers.
type Options struct {
	Source    string         // name of the input, for faults
	Schema    *schema.Schema // nil where the notation can do without
	MaxRecord int            // bytes; 0 is MaxRecord
	Check     bool           // readers: check what is read against the schema, with exact places
	Many      bool           // writers: the message is a list, though it may have one record or none
	Shell     *Shell         // writers: what stands around the records
}

// Shell is what stands around the records of a document that is one record by itself, as a root
// element around a list: { Root: { attributes…, List: [ records ] } }. With it such a document can
// be passed on record by record, however large it is.
type Shell struct {
	Root       string
	Attributes value.Value // a record of fields named @…
	List       string
}

// Shelled is a reader that knows its shell, after the first Next.
type Shelled interface{ Shell() *Shell }

// Limit is the most bytes of one record: what the options or the schema say.
func (o Options) Limit() int { return o.LimitOr(MaxRecord) }

// LimitOr is Limit with another default.
func (o Options) LimitOr(most int) int {
	switch {
	case o.MaxRecord > 0:
		return o.MaxRecord
	case o.Schema != nil && o.Schema.Settings.MaxRecord > 0:
		return o.Schema.Settings.MaxRecord
	}
	return most
}

// Notation is one row of the table of notations.
type Notation struct {
	Name      string
	About     string
	Media     string // Internet media type
	NewReader func(io.Reader, Options) (Reader, error)
	NewWriter func(io.Writer, Options) (Writer, error)
}
