package draft

import (
	"slices"
	"strings"

	"hollowreed/internal/core/value"
)

// unit is that of a number.
type unit struct {
	of    string // what is measured; empty: nothing is known
	scale string // in the base unit of that, as a decimal
	name  string
}

// units by the words that stand for them in names.
var units = map[string]unit{
	"mm": {"length", "0.001", "mm"}, "millimetre": {"length", "0.001", "mm"}, "millimeter": {"length", "0.001", "mm"}, "cm": {"length", "0.01", "cm"}, "m": {"length", "1", "m"}, "metre": {"length", "1", "m"}, "meter": {"length", "1", "m"}, "km": {"length", "1000", "km"}, "kilometre": {"length", "1000", "km"},
	"g": {"weight", "0.001", "g"}, "gram": {"weight", "0.001", "g"}, "kg": {"weight", "1", "kg"}, "kilo": {"weight", "1", "kg"}, "kilogram": {"weight", "1", "kg"}, "tonne": {"weight", "1000", "t"}, "ton": {"weight", "1000", "t"},
	"ms": {"time", "0.001", "ms"}, "second": {"time", "1", "s"}, "sec": {"time", "1", "s"}, "minute": {"time", "60", "min"}, "min": {"time", "60", "min"}, "hour": {"time", "3600", "h"},
	"cent": {"money", "0.01", "cents"}, "ore": {"money", "0.01", "øre"}, "penny": {"money", "0.01", "pence"}, "pence": {"money", "0.01", "pence"},
	"percent": {"share", "0.01", "%"}, "celsius": {"temperature", "1", "°C"}, "litre": {"volume", "1", "l"}, "liter": {"volume", "1", "l"}, "ml": {"volume", "0.001", "ml"},
}

// currencies are words that say in which money an amount is.
var currencies = map[string]string{"nok": "NOK", "krone": "NOK", "kroner": "NOK", "eur": "EUR", "euro": "EUR", "usd": "USD", "dollar": "USD", "gbp": "GBP", "isk": "ISK", "dkk": "DKK", "sek": "SEK"}

// unitOf finds the unit in the words of a name or of its description, and gives the words without it.
func unitOf(own []string, about string) (u unit, left []string) {
	for i, w := range own {
		if found, is := units[w]; is && len(own) > 1 {
			return found, slices.Delete(slices.Clone(own), i, i+1)
		}
		if c, is := currencies[w]; is && len(own) > 1 {
			return unit{"money", "1", c}, slices.Delete(slices.Clone(own), i, i+1)
		}
	}
	at := strings.ToLower(about)
	for _, w := range strings.Fields(strings.NewReplacer(",", " ", ".", " ", "(", " ", ")", " ").Replace(at)) {
		if found, is := units[strings.TrimSuffix(w, "s")]; is && len(w) > 1 && strings.Contains(at, "in "+w) {
			return found, own
		}
		if c, is := currencies[w]; is && strings.Contains(at, "in "+w) {
			return unit{"money", "1", c}, own
		}
	}
	return unit{}, own
}

// factorBetween is by what a number of one unit is multiplied to be one of another; empty where there is nothing to do.
func factorBetween(from, to unit) string {
	if from.of == "" || from.of != to.of || from.scale == to.scale {
		return ""
	}
	a, ok := value.ParseDecimal(from.scale)
	b, okB := value.ParseDecimal(to.scale)
	if !ok || !okB {
		return ""
	}
	q, err := value.Div(a, b)
	if err != nil {
		return ""
	}
	return q.String()
}
