package schema

import "strings"

// marked says whether numbers are written otherwise than with a decimal point and no grouping.
func (w *WireFormat) marked() bool { return w.Mark != "" || w.Grouping != "" }

func (w *WireFormat) decimalMark() string {
	if w.Mark == "" {
		return "."
	}
	return w.Mark
}

// plainNumber is a number in standard form; ok is false where its groups are not of three digits, or where it has another
// decimal mark than the field's.
func (w *WireFormat) plainNumber(s string) (plain string, ok bool) {
	whole, places, hasPlaces := strings.Cut(s, w.decimalMark())
	if w.decimalMark() != "." && w.Grouping != "." && strings.Contains(s, ".") {
		return "", false
	}
	if w.Grouping != "" && strings.Contains(whole, w.Grouping) {
		groups := strings.Split(whole, w.Grouping)
		first := strings.TrimLeft(groups[0], "+-")
		if first == "" || len(first) > 3 {
			return "", false
		}
		for _, g := range groups[1:] {
			if len(g) != 3 {
				return "", false
			}
		}
		whole = strings.Join(groups, "")
	}
	if !hasPlaces {
		return whole, true
	}
	return whole + "." + places, !strings.Contains(places, ".")
}

// localNumber is a number in standard form as the field writes it.
func (w *WireFormat) localNumber(s string) string {
	whole, places, hasPlaces := strings.Cut(s, ".")
	if w.Grouping != "" {
		sign := ""
		if strings.HasPrefix(whole, "-") {
			sign, whole = "-", whole[1:]
		}
		for at := len(whole) - 3; at > 0; at -= 3 {
			whole = whole[:at] + w.Grouping + whole[at:]
		}
		whole = sign + whole
	}
	if !hasPlaces {
		return whole
	}
	return whole + w.decimalMark() + places
}
