package draft

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestASentenceIsTakenApart: into what is wanted and what is given.
func TestASentenceIsTakenApart(t *testing.T) {
	for text, want := range map[string]string{
		"the price for a plate and a route, in kroner": "price currency | plate route",
		"The price for a plate and a route.":           "price | plate route",
		"vehicle class, length and owner by plate":     "vehicle_class length owner | plate",
		"Give me the departure time of a sailing":      "departure_time | sailing",
		"the weather":               "weather | ",
		"price in euro for plateNo": "price_in_euro | plate_number",
		"What is the height of the tide, given a slip; a date? ": "height | tide slip date",
		"": " | ",
	} {
		s := ReadSentence(text)
		require.Equal(t, want, strings.Join(s.Want, " ")+" | "+strings.Join(s.Given, " "), text)
	}
}
