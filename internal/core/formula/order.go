package formula

import (
	"slices"

	"hollowreed/internal/core/value"
)

// SortKey is one value for each item by which they are put in order.
type SortKey struct {
	Values     []value.Value
	Descending bool
}

// Order gives the positions of n items in the order of their keys, the first key first. Items that
// are equal stay as they are; what is absent or null comes last. It fails for values that cannot be
// compared.
func Order(n int, keys ...SortKey) ([]int, error) {
	order := make([]int, n)
	for i := range order {
		order[i] = i
	}
	var failed error
	slices.SortStableFunc(order, func(a, b int) int {
		for _, k := range keys {
			c, err := k.compare(a, b)
			if err != nil {
				failed = err
			}
			if c != 0 {
				return c
			}
		}
		return 0
	})
	return order, failed
}

func (k *SortKey) compare(a, b int) (int, error) {
	x, y := k.Values[a], k.Values[b]
	switch {
	case x.IsMissing() && y.IsMissing():
		return 0, nil
	case x.IsMissing():
		return 1, nil
	case y.IsMissing():
		return -1, nil
	}
	c, err := value.Compare(x, y)
	if k.Descending {
		c = -c
	}
	return c, err
}
