package value

import (
	"errors"
	"fmt"
	"strings"
)

// ErrNotComparable is returned when two values have no order between them.
var ErrNotComparable = errors.New("not comparable")

// Compare orders two values of like kind: -1, 0 or 1. Numbers compare by their exact value,
// whatever their scale; text by Unicode code point; false before true.
func Compare(a, b Value) (int, error) {
	if a.kind.Numeric() && b.kind.Numeric() {
		return compareNumbers(a, b)
	}
	if a.kind != b.kind {
		return 0, fmt.Errorf("%w: %s with %s", ErrNotComparable, a.kind, b.kind)
	}
	switch a.kind {
	case Text, Binary:
		return strings.Compare(a.str(), b.str()), nil
	case Boolean, Date, Time, YearMonth:
		return order(a.num, b.num), nil
	case ZonedTime:
		return order(a.num-int64(a.exp)*60e9, b.num-int64(b.exp)*60e9), nil
	case Duration:
		return compareDurations(a, b)
	case Timestamp, LocalTimestamp:
		if c := order(a.num, b.num); c != 0 {
			return c, nil
		}
		return order(int64(a.exp), int64(b.exp)), nil
	}
	return 0, fmt.Errorf("%w: %s with %s", ErrNotComparable, a.kind, b.kind)
}

// compareDurations orders two durations; a month lies between 28 and 31 days, and where that leaves the order open there is none.
func compareDurations(a, b Value) (int, error) {
	am, an := a.durationParts()
	bm, bn := b.durationParts()
	months, nanos := am-bm, an-bn
	least, most := months*28*86400e9+nanos, months*31*86400e9+nanos
	switch {
	case months == 0:
		return order(nanos, 0), nil
	case least > 0 && most > 0:
		return 1, nil
	case least < 0 && most < 0:
		return -1, nil
	}
	return 0, fmt.Errorf("%w: %s with %s", ErrNotComparable, a, b)
}

func order(a, b int64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

func compareNumbers(a, b Value) (int, error) {
	a, b, err := operands(a, b)
	if err != nil {
		return 0, err
	}
	if x, y, _, ok := aligned(a, b); ok {
		return order(x, y), nil
	}
	return a.apd().Cmp(b.apd()), nil
}

// Equal says whether two values are the same: numbers by value, records by the same fields with
// equal values (absent fields do not count), lists item by item.
func Equal(a, b Value) bool {
	switch {
	case a.IsMissing() || b.IsMissing():
		return a.kind == b.kind
	case a.kind == RecordKind && b.kind == RecordKind:
		return equalRecords(a.Record(), b.Record())
	case a.kind == ListKind && b.kind == ListKind:
		return equalLists(a.Items(), b.Items())
	}
	c, err := Compare(a, b)
	return err == nil && c == 0
}

func equalRecords(a, b *Record) bool {
	return within(a, b) && within(b, a)
}

// within says whether every present field of a stands in b with an equal value.
func within(a, b *Record) bool {
	for i, v := range a.Fields {
		if v.kind == Absent {
			continue
		}
		j := b.Layout.Slot(a.Layout.Names[i])
		if j < 0 || !Equal(v, b.Fields[j]) {
			return false
		}
	}
	return true
}

func equalLists(a, b []Value) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if !Equal(a[i], b[i]) {
			return false
		}
	}
	return true
}
