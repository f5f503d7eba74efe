package draft

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// synonyms are words that stand for the same in the trade; a word may be in several groups.
var synonyms = [][]string{
	{"price", "fare", "amount", "cost", "charge", "fee", "sum", "total", "premium", "quote", "toll"},
	{"price", "rate", "tariff"},
	{"plate", "registration", "reg", "licence", "license", "numberplate"},
	{"vessel", "ship", "boat", "ferry"},
	{"vehicle", "car", "automobile"},
	{"customer", "client", "buyer", "shopper", "patron", "party"},
	{"supplier", "vendor", "seller"},
	{"phone", "telephone", "mobile", "tel"},
	{"zip", "postcode", "postalcode", "postal"},
	{"city", "town", "locality", "place"},
	{"person", "employee", "staff", "worker", "crew", "member", "people"},
	{"lastname", "surname", "familyname", "family"},
	{"firstname", "forename", "given", "givenname"},
	{"begin", "start", "valid", "effective", "since"},
	{"estimated", "expected", "planned", "due"},
	{"arrival", "delivery"},
	{"match", "fixture", "game"},
	{"borrower", "member", "reader"},
	{"end", "until", "expiry", "expire", "expiration", "valid", "finish"},
	{"quantity", "count", "piece", "number", "unit"},
	{"departure", "depart", "leave", "etd", "sail", "sailing", "departing"},
	{"arrival", "arrive", "eta", "due", "arriving"},
	{"origin", "from", "source", "start"},
	{"destination", "to", "target"},
	{"weight", "mass", "gross"},
	{"id", "key", "identifier", "uid"},
	{"id", "number", "code"},
	{"consignment", "shipment", "parcel", "freight", "cargo", "load"},
	{"container", "box", "unit"},
	{"invoice", "bill"},
	{"order", "purchase"},
	{"product", "article", "item", "goods", "material"},
	{"site", "location", "place", "position"},
	{"port", "harbour", "harbor", "quay", "pier", "berth", "terminal"},
	{"duration", "time", "period"},
	{"discount", "rebate", "reduction"},
	{"tax", "vat"},
	{"mail", "email", "inbox"},
	{"company", "organisation", "firm", "business"},
	{"department", "division", "team"},
	{"description", "text", "title", "label", "name", "caption"},
	{"status", "state", "condition"},
	{"class", "category", "kind", "type", "group"},
	{"length", "long", "size"},
	{"station", "gauge", "stop"},
	{"level", "height", "depth"},
	{"owner", "keeper", "holder"},
	{"booking", "reservation"},
	{"route", "line", "connection", "crossing"},
	{"voyage", "trip", "sailing", "journey"},
	{"balance", "credit", "outstanding"},
	{"wind", "gust"},
	{"temperature", "degree"},
	{"account", "iban", "bankaccount"},
	{"delivery", "ship", "dispatch"},
	{"street", "road", "address"},
	{"currency", "money"},
	{"country", "nation", "land"},
	{"available", "free", "stock", "remaining", "left"},
	{"date", "day", "when"},
	{"timestamp", "time", "when", "date"},
	{"percent", "share", "rate"},
	{"driver", "chauffeur"},
	{"permit", "licence", "authorisation"},
	{"reference", "number", "id"},
	{"coordinate", "position"},
	{"image", "picture", "photo"},
	{"remark", "comment", "note"},
	{"language", "locale"},
	{"manager", "supervisor", "boss", "head"},
	{"salary", "wage", "pay"},
}

// groupsOf are the groups in which a word stands.
var groupsOf = func() map[string][]int {
	m := map[string][]int{}
	for i, group := range synonyms {
		for _, w := range group {
			m[w] = append(m[w], i)
		}
	}
	return m
}()

// alike says how much two words have in common, from 0 to 1.
func alike(a, b string) float64 {
	if a == b {
		return 1
	}
	for _, g := range groupsOf[a] {
		if slices.Contains(groupsOf[b], g) {
			return 0.8
		}
	}
	short, long := a, b
	if len(short) > len(long) {
		short, long = long, short
	}
	if len(short) >= 4 && strings.HasPrefix(long, short) {
		return 0.75
	}
	if n := common(a, b); n >= 5 && n*4 >= len(long)*3 {
		return 0.75
	}
	return 0
}

// common is how many letters two words begin with in common.
func common(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

// weights say how much the words of names tell: what stands in every operation tells little.
type weights struct {
	of       map[string]float64
	wanted   []*Leaf
	currency bool // is wanted, too
}

func newWeights(q Question, ops []*Operation) *weights {
	in := map[string]int{}
	count := func(lists ...[]*Leaf) {
		seen := map[string]bool{}
		for _, list := range lists {
			for _, l := range list {
				for _, w := range l.own {
					seen[w] = true
				}
			}
		}
		for w := range seen {
			in[w]++
		}
	}
	for _, o := range ops {
		count(o.Needs, o.Gives)
	}
	count(q.Given, q.Want)
	w := &weights{of: make(map[string]float64, len(in)), wanted: q.Want}
	for _, l := range q.Want {
		w.currency = w.currency || slices.Contains(l.own, "currency")
	}
	for word, n := range in {
		w.of[word] = 1 + math.Log(float64(len(ops)+2)/float64(n+1))/2
	}
	for _, word := range []string{"id", "code", "number", "name", "type", "date", "time", "timestamp", "status", "key", "description"} {
		w.of[word] = min(w.word(word), 1) * 0.6
	}
	for _, word := range []string{"full", "current", "actual", "latest", "display", "own"} {
		w.of[word] = 0.3
	}
	return w
}

func (w *weights) word(word string) float64 {
	if x, there := w.of[word]; there {
		return x
	}
	return 1
}

// beside is how much a word counts that stands around a name, and not in it.
const beside = 0.85

// covered is the share of words that are found in a name, or around it.
func (w *weights) covered(list, own, around []string) float64 {
	sum, all := 0.0, 0.0
	for _, word := range list {
		best := 0.0
		for _, o := range own {
			best = max(best, alike(word, o))
		}
		for _, a := range around {
			best = max(best, beside*alike(word, a))
		}
		sum += w.word(word) * best
		all += w.word(word)
	}
	if all == 0 {
		return 0
	}
	return sum / all
}

// likeness says how sure it is that a value of one leaf is what another one wants, from 0 to 1. More are words that stand around the
// source, since it was asked for with them. Reasons are noted where they are asked for.
func (w *weights) likeness(to, from *Leaf, more []string, reasons *[]string) float64 {
	note := func(format string, args ...any) {
		if reasons != nil {
			*reasons = append(*reasons, fmt.Sprintf(format, args...))
		}
	}
	kind := kinds(to.Field, from.Field)
	if kind == 0 {
		return 0
	}
	score := w.names(to, from, more)
	if score == 0 {
		return 0
	}
	switch {
	case slices.Equal(to.own, from.own) && to.Path[len(to.Path)-1] == from.Path[len(from.Path)-1]:
		note("the same name")
	case slices.Equal(to.own, from.own):
		note("the same name in another form")
	default:
		note("names alike: %s and %s", strings.Join(to.own, " "), strings.Join(from.own, " "))
	}
	if kind < 1 {
		note("%s made a %s", from.Field.Kind, to.Field.Kind)
	}
	score *= kind
	score *= w.measured(to, from, note)
	score *= codes(to, from, note)
	score *= formats(to, from, note)
	if shared := sharedWords(to.about, from.about); shared >= 2 {
		score += 0.06 * min(float64(shared), 4) * (1 - score)
		note("descriptions have %d words in common", shared)
	}
	if from.InList && !to.InList {
		score *= 0.75
		note("one of several")
	}
	return min(score, 1)
}

// What a name is worth that says only of which kind a thing is, where the other says only which of them it is.
const (
	ofThing  = 0.75 // vehicle, for the id of a vehicle
	itsName  = 1.06 // the name of a thing, for the thing
	itsCode  = 0.75 // its code, for the thing
	onlyDate = 0.6  // the only time that there is
)

// names says how much the names of two leaves have in common, with what stands around them.
func (w *weights) names(to, from *Leaf, more []string) float64 {
	around := from.around
	if len(more) > 0 {
		around = append(slices.Clone(more), around...)
	}
	there := w.covered(to.own, from.own, around)
	back := w.covered(from.own, to.own, to.around)
	score := 0.0
	if there > 0 && back > 0 {
		score = 2 * there * back / (there + back)
	}
	if rest, is := beyond(from.own, to.own); is && to.Field.Kind == value.Text {
		score *= map[bool]float64{true: itsName, false: itsCode}[slices.Contains([]string{"name", "title", "description"}, rest)]
	}
	if allIn(to.own, generic) && !allIn(from.own, generic) {
		score = max(score, ofThing*w.covered(from.own, to.around, nil))
	}
	if allIn(from.own, generic) && !allIn(to.own, generic) {
		thing := ofThing * w.covered(to.own, around, nil)
		if !slices.Contains(from.own, "name") && !slices.Contains(from.own, "title") {
			thing *= itsCode
		}
		score = max(score, thing)
	}
	if isTime(to) && isTime(from) && allIn(from.own, begins) {
		score = max(score, ofThing*w.covered(to.own, around, nil))
	}
	score *= told(to.own, from.own)
	if score == 0 {
		return 0
	}
	if len(to.around) > 0 && len(around) > 0 { // what they are about
		about := max(w.covered(to.around, from.own, around), w.covered(around, to.own, to.around))
		score *= 0.86 + 0.14*about
	} else if len(around) > 0 || len(to.around) > 0 {
		score *= 0.95
	}
	return score
}

// begins are words of the time at which a thing is.
var begins = map[string]bool{"start": true, "begin": true, "date": true, "day": true, "time": true, "timestamp": true, "when": true, "at": true}

func isTime(l *Leaf) bool {
	return l.Field.Kind == value.Date || l.Field.Kind == value.Timestamp || l.Field.Kind == value.LocalTimestamp
}

// called are words of what a thing is called, for people; marked are those of what tells it apart, for programs, each in a way of its own.
var (
	called = []string{"name", "title", "description", "label"}
	marked = []string{"id", "number", "code", "key", "uid", "barcode", "badge", "iban", "bic", "vin", "mmsi", "imo"}
)

// told takes something off where the one is what a thing is called, and the other what tells it apart.
func told(to, from []string) float64 {
	in := func(list, words []string) bool {
		return slices.ContainsFunc(list, func(w string) bool { return slices.Contains(words, w) })
	}
	switch name, named := in(to, called), in(from, called); {
	case name && in(from, marked) && !named, named && in(to, marked) && !name:
		return 0.6
	case name && !named:
		return 0.85
	case in(to, marked) && in(from, marked) && !shared(to, from):
		return 0.75
	}
	return 1
}

// shared says whether two names mark a thing in the same way.
func shared(to, from []string) bool {
	for _, a := range to {
		for _, b := range from {
			if slices.Contains(marked, a) && slices.Contains(marked, b) && alike(a, b) > 0 {
				return true
			}
		}
	}
	return false
}

// beyond is the one generic word that a name has beside those of another one.
func beyond(longer, than []string) (rest string, is bool) {
	if len(longer) != len(than)+1 {
		return "", false
	}
	for _, w := range longer {
		switch {
		case slices.Contains(than, w):
		case generic[w] && rest == "", w == "description" && rest == "":
			rest = w
		default:
			return "", false
		}
	}
	return rest, rest != ""
}

// kinds says how well a value of one kind can be one of another; 0 where it cannot.
func kinds(to, from *schema.Field) float64 {
	a, b := to.Kind, from.Kind
	number := func(k value.Kind) bool { return k == value.Integer || k == value.Decimal }
	moment := func(k value.Kind) bool { return k == value.Date || k == value.Timestamp || k == value.LocalTimestamp }
	switch {
	case a == b, a == value.AnyKind, b == value.AnyKind:
		return 1
	case a == value.Decimal && b == value.Integer:
		return 1
	case a == value.Integer && b == value.Decimal:
		return 0.85
	case moment(a) && moment(b):
		return 0.92
	case a == value.Text && number(b), a == value.Text && moment(b), a == value.Text && b == value.Time:
		return 0.9
	case number(a) && b == value.Text, moment(a) && b == value.Text:
		return 0.7
	case a == value.Text && b == value.Boolean:
		return 0.6
	}
	return 0
}

// measured compares the units of two numbers.
func (w *weights) measured(to, from *Leaf, note func(string, ...any)) float64 {
	a, b := to.unit, from.unit
	switch {
	case a.of == "" && b.of == "":
		return 1
	case a.of == "" && b.of == "money" && b.scale == "1":
		note("in %s", b.name)
		if w.currency && slices.Contains(w.wanted, to) { // in which currency it is to be, is asked
			return 0.6
		}
		return 0.8
	case a.of == "" || b.of == "":
		return 0.93
	case a.of != b.of:
		return 0.1
	case a.of == "money" && a.name != b.name && a.scale == b.scale:
		note("in %s, not in %s", b.name, a.name)
		return 0.5
	case a.scale != b.scale:
		note("%s made %s", b.name, a.name)
		return 0.97
	}
	note("both in %s", a.name)
	return 1
}

// codes compares what is allowed of two texts.
func codes(to, from *Leaf, note func(string, ...any)) float64 {
	a, b := to.Field.Constraints.Codes, from.Field.Constraints.Codes
	if len(a) == 0 || len(b) == 0 {
		return 1
	}
	both := 0
	for _, c := range b {
		if slices.ContainsFunc(a, func(o schema.Code) bool { return o.Value == c.Value }) {
			both++
		}
	}
	switch {
	case both == 0:
		note("no codes in common")
		return 0.5
	case both == len(b):
		note("the same codes")
		return 1.1
	}
	note("%d of %d codes in common", both, len(b))
	return 0.9
}

// formats compares the forms of two texts: their formats, and whether examples of the one are as the other must be.
func formats(to, from *Leaf, note func(string, ...any)) float64 {
	a, b := to.Field.Constraints, from.Field.Constraints
	if a.Format != "" && b.Format != "" && a.Format != b.Format {
		note("a %s, not a %s", b.Format, a.Format)
		return 0.4
	}
	if a.Pattern != nil && len(from.Examples) > 0 {
		if e := from.Examples[0]; !a.Pattern.MatchString(e) {
			note("its example %s is not like %s", e, a.Pattern)
			return 0.45
		}
		note("its example is like %s", a.Pattern)
		return 1.1
	}
	if len(a.Codes) > 0 {
		for _, e := range from.Examples {
			if !slices.ContainsFunc(a.Codes, func(c schema.Code) bool { return c.Value == e }) {
				note("its example %s is none of the codes", e)
				return 0.6
			}
		}
	}
	if a.MaxLength > 0 && b.MinLength > a.MaxLength {
		return 0.3
	}
	return 1
}

// sharedWords counts the words that two descriptions have in common.
func sharedWords(a, b []string) (n int) {
	for _, w := range a {
		if slices.Contains(b, w) {
			n++
		}
	}
	return n
}
