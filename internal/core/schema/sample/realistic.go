package sample

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// What typical values look like is told from the words of a field's name: those of its unit, or of what it is about. The world is that
// of a shipping line in the north.

// wordsOf are the words of a name, in small letters: customerName, customer_name and "Customer name" are customer and name.
func wordsOf(name string) (found []string) {
	var word []rune
	end := func() {
		if len(word) > 0 {
			found, word = append(found, strings.ToLower(string(word))), nil
		}
	}
	runes := []rune(name)
	for i, r := range runes {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			end()
			continue
		case unicode.IsUpper(r) && i > 0 && (unicode.IsLower(runes[i-1]) || i+1 < len(runes) && unicode.IsLower(runes[i+1])):
			end()
		}
		word = append(word, r)
	}
	end()
	return found
}

// speaks says whether a name has one of the words, alone or in the plural.
func speaks(of []string, words string) bool {
	for _, w := range strings.Fields(words) {
		if slices.Contains(of, w) || slices.Contains(of, w+"s") {
			return true
		}
	}
	return false
}

// suggestions are tried in order; the first of which a word stands in the field's name is taken.
var suggestions = []struct {
	words string
	make  func(*maker) string
}{
	{"mail email", func(m *maker) string { return strings.ToLower(m.person()) + "@skerry.example" }},
	{"url uri link href", func(m *maker) string {
		return "https://skerry.example/" + strings.ToLower(among("bookings", "sailings", "notices")(m))
	}},
	{"phone mobile fax telephone", func(m *maker) string { return "+47 555 " + m.digits(4) }},
	{"country nation", among("NO", "IS", "FO", "DK")},
	{"currency", among("NOK", "EUR", "DKK", "ISK")},
	{"language locale", among("nb", "da", "is", "en")},
	{"vessel ship boat ferry", among("Ling Castle", "Orma Light", "Havra Star", "Tern")},
	{"port city town place station harbour harbor location destination origin from to berth terminal", among("Ling", "Skerry Holm", "Kelp Haven", "Orma", "Havra")},
	{"street address road", among("Pier Road 4", "Rope Walk 17", "Harbour Street 2")},
	{"zip postal postcode", func(m *maker) string { return m.digits(4) }},
	{"iban account", func(m *maker) string { return "NO93" + m.digits(11) }},
	{"bic swift", among("SKERNO22", "LINGFO22")},
	{"plate registration", func(m *maker) string { return m.capitals(2) + " " + m.digits(5) }},
	{"unit uom", among("pcs", "kg", "m")},
	{"status state", among("open", "confirmed", "closed")},
	{"type kind class category", among("standard", "express", "return")},
	{"reason cause", among("bad weather", "late arrival", "technical fault")},
	{"note remark comment message text description body info details", among("Please call on arrival.", "Two pallets, one of them fragile.", "Keep below 4 degrees.", "The driver has the papers.")},
	{"title subject", among("Change of berth", "Delay of the morning sailing", "New opening hours")},
	{"product article goods cargo item commodity", among("Salmon, chilled", "Empty pallets", "Paint", "Fresh bread", "Spare parts")},
	{"color colour", among("red", "blue", "white")},
	{"company firm carrier supplier vendor sender receiver consignee shipper", among("Orrin Transport", "Lind & Haar", "Skov Seafood")},
	{"surname lastname last", among("Orrin", "Lind", "Haar", "Skov")},
	{"firstname first given", (*maker).person},
	{"name person driver customer contact owner user author by captain", func(m *maker) string {
		return m.person() + " " + among("Orrin", "Lind", "Haar", "Skov", "Berg")(m)
	}},
	{"booking order invoice shipment consignment delivery ticket", func(m *maker) string { return m.capitals(1) + "-" + m.digits(5) }},
	{"sailing voyage departure", func(m *maker) string { return m.capitals(2) + m.digits(3) }},
	{"sku", func(m *maker) string { return "SKU" + m.digits(5) }},
	{"code key", func(m *maker) string { return m.capitals(2) + m.digits(2) }},
	{"id no number nr ref reference", func(m *maker) string { return m.capitals(2) + "-" + m.digits(5) }},
}

// person is the given name of the person whom the record at hand is about.
func (m *maker) person() string {
	if m.given == "" || m.givenIn != m.records {
		m.given, m.givenIn = among("Mira", "Tove", "Jon", "Ada", "Eli")(m), m.records
	}
	return m.given
}

// named are records whose name is none of a person.
const named = "vessel ship boat ferry port city town place station harbour harbor location terminal berth product article goods cargo item company firm carrier supplier vendor"

// phrases are texts of fields whose names say nothing, by how long they may be.
var phrases = []string{"Salmon, chilled, 20 boxes", "Spare parts for the winch", "Harbour office, first floor", "Morning sailing", "Empty pallets", "Fresh bread", "Ling Sound", "North pier", "Paint", "Tern", "Ice", "No"}

// realistic makes a text that the field's name suggests, of no more characters than it may have.
func (m *maker) realistic(f *schema.Field) string {
	words := wordsOf(f.Name)
	if id := m.known(words); id != "" {
		return id
	}
	if around := wordsOf(m.around); slices.Equal(words, []string{"name"}) && speaks(around, named) {
		words = around
	}
	for _, s := range suggestions {
		if speaks(words, s.words) {
			return s.make(m)
		}
	}
	most := longest(f)
	fitting := slices.DeleteFunc(slices.Clone(phrases), func(p string) bool { return len(p) > most })
	if len(fitting) == 0 {
		return m.capitals(most)
	}
	return fitting[m.rand.IntN(len(fitting))]
}

// ranges are those in which numbers of a name or a unit lie.
var ranges = []struct {
	words     string
	low, high int64
}{
	{"percent pct discount vat tax", 0, 25},
	{"qty quantity count pieces pcs units seats passengers", 1, 24},
	{"price amount total cost fee rate sum fare charge value balance", 20, 950},
	{"line position pos index seq sequence row priority level", 1, 9},
	{"year", 2030, 2032},
	{"month", 1, 12},
	{"week", 1, 52},
	{"day", 1, 28},
	{"hour hours h", 0, 23},
	{"minute minutes min second seconds sec", 0, 59},
	{"age", 18, 75},
	{"latitude lat", 58, 64},
	{"longitude lon lng", 4, 11},
	{"temperature temp celsius c", -4, 18},
	{"kg weight mass", 5, 900},
	{"t tonnes tons", 1, 40},
	{"m metres meters length width height depth distance", 1, 18},
	{"cm level", 5, 480},
	{"mm", 10, 990},
	{"km", 2, 160},
	{"knots speed", 4, 22},
	{"l litres liters volume", 1, 300},
	{"id no number nr ref code key", 10_000, 99_999},
}

// usual is the range of numbers that a field's name suggests, in units of the last decimal place.
func usual(f *schema.Field, places int) (low, high int64) {
	low, high = 1, 500
	words := wordsOf(f.Name)
	for _, r := range ranges {
		if speaks(words, r.words) {
			low, high = r.low, r.high
			break
		}
	}
	for range places {
		low, high = low*10, high*10
	}
	return low, high
}

// Later and earlier dates are told by these words; the others lie about the day of the message.
const (
	laterWords   = "until due end ends expire expires expiry arrive arrives arrival deliver delivery closes return valid changed updated departs departure sails"
	earlierWords = "created made ordered booked placed start starts begin since issued registered received"
	birthWords   = "birth born birthday"
)

// moment makes a day and a time of day that lie near those of the other fields of the message.
func (m *maker) moment(f *schema.Field) (date, clock value.Value) {
	if m.day == 0 {
		m.day = 20 + m.rand.IntN(300)
	}
	day := m.day
	switch words := wordsOf(f.Name); {
	case speaks(words, birthWords):
		return value.DateOf(1955+m.rand.IntN(50), 1+m.rand.IntN(12), 1+m.rand.IntN(28)), value.TimeOf(12, 0, 0, 0)
	case speaks(words, laterWords):
		day += 2 + m.rand.IntN(12)
	case speaks(words, earlierWords):
		day -= m.rand.IntN(3)
	default:
		day += m.rand.IntN(2)
	}
	days, _ := value.ParseDuration(fmt.Sprintf("P%dD", day))
	date, _ = value.AddDuration(value.DateOf(2031, 1, 1), days)
	return date, value.TimeOf(6+m.rand.IntN(14), 5*m.rand.IntN(12), 0, 0)
}

// idWords name what tells a thing from others.
const idWords = "id no number nr ref reference code key"

// about is the thing whose id a field is: that of its name, as in customer_id, or the record around it.
func about(words []string, around string) string {
	if len(words) == 0 || !speaks(words[len(words)-1:], idWords) {
		return ""
	}
	if len(words) > 1 {
		return strings.TrimSuffix(words[len(words)-2], "s")
	}
	if of := wordsOf(around); len(of) > 0 {
		return strings.TrimSuffix(of[len(of)-1], "s")
	}
	return ""
}

// thing is what stands in a message with an id: its own field has said it, or only one that refers to it.
type thing struct {
	id  string
	own bool
}

// known is the id of a thing that stands in the message already, for a field that refers to it, or for its own where one did so
// before; empty where there is none.
func (m *maker) known(words []string) string {
	of := about(words, m.around)
	if m.fresh {
		return ""
	}
	if t := m.things[of]; !t.own || of != about(idOnly, m.around) {
		return t.id
	}
	return ""
}

var idOnly = []string{"id"}

// keep remembers the id of a thing. Each item of a list is another thing.
func (m *maker) keep(f *schema.Field, v value.Value) {
	of := about(wordsOf(f.Name), m.around)
	if of == "" || v.Kind() != value.Text && v.Kind() != value.Integer {
		return
	}
	if m.things == nil {
		m.things = map[string]thing{}
	}
	m.things[of] = thing{v.String(), of == about(idOnly, m.around)}
}
