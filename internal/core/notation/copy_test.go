package notation

import (
	"errors"
	"io"
	"strings"
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

// changed is a change by a function.
type changed func(v value.Value, line int) (value.Value, error)

func (changed) Begin(*value.Memory) {}

func (c changed) Change(v value.Value, line int) (value.Value, error) { return c(v, line) }

func copyTo(s *sink, r Reader, changes func() Change) (n int, told []string, err error) {
	n, err = Copy(r, func(bool) (Writer, error) { return s, nil }, changes, func(err error) { told = append(told, err.Error()) })
	return n, told, err
}

func TestCopyKeepsTheOrder(t *testing.T) {
	s := &sink{}
	n, _, err := copyTo(s, &numbers{limit: 10_000, end: io.EOF}, func() Change {
		return changed(func(v value.Value, line int) (value.Value, error) {
			n, _ := v.Int64()
			if int64(line) != n {
				return v, errors.New("the line is not the record's")
			}
			return value.Int(-n), nil
		})
	})
	require.NoError(t, err)
	require.Equal(t, 10_000, n)
	require.True(t, s.closed)
	for i, got := range s.got {
		require.Equal(t, int64(-i-1), got)
	}
}

// TestCopyKeepsWhatIsGood: a record at fault is told in its place and left out; those behind it are copied.
func TestCopyKeepsWhatIsGood(t *testing.T) {
	const bad = 1500
	for name, c := range map[string]struct {
		reader  *numbers
		refuse  int64
		changes func() Change
		want    string
	}{
		"a record that cannot be read":    {&numbers{limit: 5000, bad: bad, end: io.EOF}, 0, nil, "1500: bad"},
		"a record that cannot be written": {&numbers{limit: 5000, end: io.EOF}, bad, nil, "1500: refused"},
		"a record that cannot be changed": {&numbers{limit: 5000, end: io.EOF}, 0, func() Change {
			return changed(func(v value.Value, line int) (value.Value, error) {
				if line == bad {
					return v, fault.New(fault.Arithmetic, "no change at %d", line)
				}
				return v, nil
			})
		}, "no change at 1500"},
	} {
		t.Run(name, func(t *testing.T) {
			s := &sink{refuse: c.refuse}
			n, told, err := copyTo(s, c.reader, c.changes)
			require.NoError(t, err)
			require.Len(t, told, 1)
			require.True(t, strings.HasPrefix(told[0], c.want), told[0])
			require.Equal(t, 4999, n)
			require.Len(t, s.got, 4999)
			require.NotContains(t, s.got, int64(bad))
			require.True(t, s.closed)
		})
	}
	s := &sink{}
	_, told, err := copyTo(s, &numbers{limit: 3, bad: 1, end: io.EOF}, func() Change {
		return changed(func(v value.Value, line int) (value.Value, error) {
			return v, fault.New(fault.Arithmetic, "at %d", line)
		})
	})
	require.NoError(t, err)
	require.Equal(t, []string{"at 2", "at 3"}, told[1:], "in their order")
	require.Empty(t, s.got)
}

func TestCopyStopsAtWhatBreaksOff(t *testing.T) {
	s := &sink{}
	n, told, err := copyTo(s, &numbers{limit: 1499, end: fault.New(fault.Outside, "broken")}, nil)
	require.EqualError(t, err, "broken")
	require.Empty(t, told)
	require.Equal(t, 1499, n)
	require.Len(t, s.got, 1499)
	require.False(t, s.closed, "a document that is cut short is not ended")
}

func TestCopyOpensNothingForWhatCannotBeRead(t *testing.T) {
	_, err := Copy(&numbers{end: fault.New(fault.Syntax, "no JSON")}, func(bool) (Writer, error) {
		t.Error("opened")
		return nil, nil
	}, nil, nil)
	require.EqualError(t, err, "no JSON")
	s := &sink{}
	n, _, err := copyTo(s, &numbers{end: io.EOF}, nil)
	require.NoError(t, err)
	require.Zero(t, n)
	require.True(t, s.closed, "an empty message is a message")
	_, err = Copy(&numbers{limit: 5000, end: io.EOF}, func(bool) (Writer, error) { return nil, errors.New("no room") }, nil, nil)
	require.EqualError(t, err, "no room")
}
