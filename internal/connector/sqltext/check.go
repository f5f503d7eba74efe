package sqltext

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
)

// Check says what an upsert and its table have against each other: columns that are not there, and a key that does not tell
// rows apart. unique are the columns of each unique constraint or index; nil where the system needs none.
func Check(u running.Upsert, columns []string, unique [][]string, same func(a, b string) bool) (faults fault.List) {
	for _, f := range u.Row.Root.Fields {
		if !slices.ContainsFunc(columns, func(c string) bool { return same(c, f.Name) }) {
			faults = append(faults, fault.New(fault.Unknown, "the table %s has no column %q", u.Table, f.Name).
				WithFix("It has %s", strings.Join(columns[:min(len(columns), 30)], ", ")))
		}
	}
	if faults != nil || unique == nil || slices.ContainsFunc(unique, func(set []string) bool { return sameSet(set, u.Key) }) {
		return faults
	}
	f := fault.New(fault.Setting, "the key %s of the table %s has no unique constraint", strings.Join(u.Key, ", "), u.Table)
	if len(unique) == 0 {
		return fault.List{f.WithFix("Give the table one on these columns: without it nothing tells its rows apart")}
	}
	var has []string
	for _, set := range unique {
		has = append(has, "("+strings.Join(set, ", ")+")")
	}
	return fault.List{f.WithFix("Give the table one, or choose as key %s", strings.Join(has, " or "))}
}

func sameSet(a, b []string) bool {
	x, y := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(x, y)
}
