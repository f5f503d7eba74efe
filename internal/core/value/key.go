package value

import "time"

// Key tells scalars apart in a map, so that large lists are compared in linear time; ok is false for
// records and lists, which are compared one by one.
func Key(v Value) (key string, ok bool) {
	switch {
	case v.Kind() >= RecordKind:
		return "", false
	case v.Kind() == Timestamp: // one instant may be written in several zones
		return "t" + v.GoTime().UTC().Format(time.RFC3339Nano), true
	case v.Kind() == ZonedTime:
		return "z" + time.Duration(v.num-int64(v.exp)*60e9).String(), true
	case v.Kind() == Duration:
		months, nanos := v.durationParts()
		return "d" + Int(months).String() + " " + Int(nanos).String(), true
	case v.Kind().Numeric():
		if rounded, err := Add(v, Int(0)); err == nil {
			v = rounded
		}
		return "n" + plainNumber(v.String()), true
	}
	return string(rune('a'+v.Kind())) + v.String(), true
}

// plainNumber is a number's text without zeros at its end: 1.50 is 1.5.
func plainNumber(s string) string {
	point := false
	for i := range s {
		point = point || s[i] == '.'
	}
	for point && (s[len(s)-1] == '0' || s[len(s)-1] == '.') {
		if point = s[len(s)-1] == '0'; !point {
			return s[:len(s)-1]
		}
		s = s[:len(s)-1]
	}
	return s
}
