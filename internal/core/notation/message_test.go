package notation_test

import (
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
)

// parcels is a reader of documents of several types in an envelope.
type parcels struct {
	types []string
	at    int
}

func (p *parcels) Next() (value.Value, error) {
	if p.at++; p.at > len(p.types) {
		return value.Value{}, io.EOF
	}
	if p.types[p.at-1] == "torn" {
		return value.Value{}, fault.List{fault.New(fault.Syntax, "torn")}
	}
	return value.Int(int64(p.at)), nil
}

func (p *parcels) Message() (typ string, envelope value.Value) {
	if p.at > len(p.types) {
		return "", value.Value{}
	}
	return p.types[p.at-1], value.NewText("from Ormlet")
}

func (p *parcels) Place() fault.Place { return fault.Place{} }
func (p *parcels) Raw() string        { return "" }
func (p *parcels) Many() bool         { return true }

// plain is a reader whose documents are all of one type.
type plain struct{ notation.Reader }

// TestAFileMayHoldDocumentsOfSeveralTypes: each comes with its type and the facts of its envelope, one that cannot be read, too;
// a reader without envelopes is read in the same way.
func TestAFileMayHoldDocumentsOfSeveralTypes(t *testing.T) {
	r := &parcels{types: []string{"order", "torn", "notice"}}
	m, err := notation.Next(r)
	require.NoError(t, err)
	require.Equal(t, "order", m.Type)
	require.Equal(t, "from Ormlet", m.Envelope.Text())
	require.True(t, value.Equal(value.Int(1), m.Record))
	m, err = notation.Next(r)
	require.ErrorAs(t, err, new(fault.List))
	require.Equal(t, "torn", m.Type)
	m, err = notation.Next(r)
	require.NoError(t, err)
	require.Equal(t, "notice", m.Type)
	_, err = notation.Next(r)
	require.True(t, errors.Is(err, io.EOF))

	m, err = notation.Next(plain{&parcels{types: []string{"order"}}})
	require.NoError(t, err)
	require.Empty(t, m.Type)
	require.True(t, m.Envelope.IsMissing())
}
