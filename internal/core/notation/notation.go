// Package notation says what all notations have in common: each has a reader that streams bytes
// to values with their places, and a writer that streams values to bytes. Each notation is a Kind in a
// folder below; package all has the list of them.
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

// Splitter is a reader that can cut a message into the texts of its records, which are then decoded beside it.
type Splitter interface {
	Reader
	// Piece gives the text of the next record. Its errors are those of Next.
	Piece() (Piece, error)
	// Decoder makes what reads pieces, for one goroutine, and Decoded is told when it has read its last.
	Decoder() Decoder
	Decoded(Decoder)
}

// Piece is the text of one record, and where it stands.
type Piece struct {
	Text string
	Line int
	Byte int64
}

// Decoder reads records out of their texts.
type Decoder interface {
	value.Borrower
	// Decode gives the record of a piece, or the faults for which it cannot be read.
	Decode(Piece) (value.Value, error)
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
	Exact     bool           // XML that no schema describes: values of JSON come back as they were, and so do elements
	Envelope  *Envelope      // writers: what stands around the records
	Ignored   *Ignored       // readers: what is told of fields that nobody named and that were passed over; may be nil
}

// Envelope is what stands around the records of a document that is one record by itself, as a root
// element around a list: { Root: { attributes…, List: [ records ] } }. With it such a document can
// be passed on record by record, however large it is.
type Envelope struct {
	Root       string
	Attributes value.Value // a record of fields named @…
	List       string
}

// EnvelopeReader is a reader that knows its shell, after the first Next.
type EnvelopeReader interface{ Envelope() *Envelope }

// Message is one document of a file.
type Message struct {
	Type     string      // of the document; empty where all documents of a file are of one type
	Envelope value.Value // the facts of the envelopes around it, as a record; absent where there are none
	Record   value.Value
}

// Enveloped is a reader of files that hold documents of several types, inside envelopes.
type Enveloped interface {
	Reader
	// Message gives the type of the record that Next dealt with, and the facts of the envelopes around it.
	Message() (typ string, envelope value.Value)
}

// Next reads the next document of any reader. Its error is that of Reader.Next; of a record that cannot be read, the type and
// the envelope are known all the same.
func Next(r Reader) (Message, error) {
	record, err := r.Next()
	m := Message{Record: record}
	if e, is := r.(Enveloped); is {
		m.Type, m.Envelope = e.Message()
	}
	return m, err
}

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

// Kind is one notation: what schemas know of it, how it is read, written and recognised.
type Kind struct {
	*schema.Notation
	About string
	// Reader and Writer are given the schema as it is for this notation; NewReader and NewWriter take any.
	Reader func(io.Reader, Options) (Reader, error)
	Writer func(io.Writer, Options) (Writer, error)
	// Recognise says whether the beginning of a message, without white space before it, is written so. It is nil where only
	// the lines as a whole tell.
	Recognise func(text []byte) bool
	// CopyDocument passes a document on that no schema describes, in constant memory; nil where a reader and a writer do that.
	CopyDocument func(io.Writer, io.Reader, Options) error
	// OpenList opens a document that no schema describes as the list of records that stands in it. The reader is nil where
	// there is no such list; the input is then where it was. Nil for notations whose readers do that.
	OpenList func(io.ReadSeeker, Options) (Reader, error)
	Excerpt  Excerpt
}

// Excerpt says how one record is taken out of a message as text that a person can change, and read again by itself.
type Excerpt struct {
	Raw bool // readers give the text of each record
	// Text reads the record with which the message goes on, as text; nil where Raw is set.
	Text func(message io.Reader) (string, error)
	// Framed says whether a record needs what stands around it to be read; nil is never.
	Framed func(*schema.Schema) bool
	// Frame reads what stands around the records of a message.
	Frame func(*schema.Schema, io.Reader) (Frame, error)
	// Alone makes of a record's text a message of another notation; nil where the text with its frame is a message.
	Alone func(text string) (content []byte, as *schema.Notation, err error)
}

// NewReader reads messages of any schema: one of another notation is taken as it is for this one.
func (k *Kind) NewReader(r io.Reader, o Options) (Reader, error) { return k.Reader(r, k.own(o)) }

// NewWriter writes messages of any schema: one of another notation is taken as it is for this one. What has no value is
// written as the schema's settings say.
func (k *Kind) NewWriter(w io.Writer, o Options) (Writer, error) {
	o = k.own(o)
	out, err := k.Writer(w, o)
	if err != nil || o.Schema == nil || o.Schema.Settings.Missing.IsDefault() {
		return out, err
	}
	return &expressing{Writer: out, schema: o.Schema}, nil
}

func (k *Kind) own(o Options) Options {
	if o.Schema != nil {
		o.Schema = o.Schema.As(k.Notation)
	}
	return o
}

type expressing struct {
	Writer
	schema *schema.Schema
}

func (e *expressing) Write(v value.Value) error {
	return e.Writer.Write(e.schema.Settings.Missing.Express(e.schema.Root, v))
}

// Frame is what stands around a record for it to be read by itself, in UTF-8.
type Frame struct{ Before, After string }
