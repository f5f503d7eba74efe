package notation

import (
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// numbers reads the numbers up to a limit, with a fault at one of them.
type numbers struct {
	n, limit, bad int
	end           error
}

func (r *numbers) Next() (value.Value, error) {
	if r.n == r.limit {
		return value.Value{}, r.end
	}
	r.n++
	if r.n == r.bad {
		return value.Value{}, fault.List{fault.New(fault.Type, "bad").At(r.Place()), fault.New(fault.Type, "worse")}
	}
	return value.Int(int64(r.n)), nil
}

func (r *numbers) Place() fault.Place { return fault.Place{Line: r.n} }
func (r *numbers) Raw() string        { return "" }
func (r *numbers) Many() bool         { return true }

// sink keeps what is written and refuses one value.
type sink struct {
	got    []int64
	refuse int64
	closed bool
}

func (s *sink) Write(v value.Value) error {
	n, _ := v.Int64()
	if n == s.refuse {
		return fault.New(fault.Type, "refused")
	}
	s.got = append(s.got, n)
	return nil
}

func (s *sink) Close() error {
	s.closed = true
	return nil
}

func copyTo(s *sink, r Reader, changes func() Change) (int, error) {
	return Copy(r, func(bool) (Writer, error) { return s, nil }, changes)
}

func TestCopyKeepsTheOrder(t *testing.T) {
	s := &sink{}
	n, err := copyTo(s, &numbers{limit: 10_000, end: io.EOF}, func() Change {
		return func(v value.Value, line int) (value.Value, error) {
			n, _ := v.Int64()
			if int64(line) != n {
				return v, errors.New("the line is not the record's")
			}
			return value.Int(-n), nil
		}
	})
	require.NoError(t, err)
	require.Equal(t, 10_000, n)
	require.True(t, s.closed)
	for i, got := range s.got {
		require.Equal(t, int64(-i-1), got)
	}
}

func TestCopyStopsAtTheFirstFaultWithAllBeforeItWritten(t *testing.T) {
	const bad = 1500
	for name, c := range map[string]struct {
		reader  *numbers
		refuse  int64
		changes func() Change
		want    string
	}{
		"a record that cannot be read":    {&numbers{limit: 5000, bad: bad, end: io.EOF}, 0, nil, "1500: bad"},
		"a message that breaks off":       {&numbers{limit: bad - 1, end: fault.New(fault.Outside, "broken")}, 0, nil, "broken"},
		"a record that cannot be written": {&numbers{limit: 5000, end: io.EOF}, bad, nil, "1500: refused"},
		"a record that cannot be changed": {&numbers{limit: 5000, end: io.EOF}, 0, func() Change {
			return func(v value.Value, line int) (value.Value, error) {
				if line >= bad {
					return v, fault.New(fault.Arith, "no change at %d", line)
				}
				return v, nil
			}
		}, "no change at 1500"},
	} {
		t.Run(name, func(t *testing.T) {
			s := &sink{refuse: c.refuse}
			n, err := copyTo(s, c.reader, c.changes)
			require.EqualError(t, err, c.want)
			require.Equal(t, bad-1, n)
			require.Len(t, s.got, bad-1)
			require.False(t, s.closed, "a document that is cut short is not ended")
		})
	}
}

func TestCopyOpensNothingForWhatCannotBeRead(t *testing.T) {
	_, err := Copy(&numbers{end: fault.New(fault.Syntax, "no JSON")}, func(bool) (Writer, error) {
		t.Error("opened")
		return nil, nil
	}, nil)
	require.EqualError(t, err, "no JSON")
	s := &sink{}
	n, err := copyTo(s, &numbers{end: io.EOF}, nil)
	require.NoError(t, err)
	require.Zero(t, n)
	require.True(t, s.closed, "an empty message is a message")
	_, err = Copy(&numbers{limit: 5000, end: io.EOF}, func(bool) (Writer, error) { return nil, errors.New("no room") }, nil)
	require.EqualError(t, err, "no room")
}
