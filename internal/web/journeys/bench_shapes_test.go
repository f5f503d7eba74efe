package journeys

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// crossing is a message of every shape: a map of prices, a payment that is one of two, a route of positions, a seat that is a text
// or a number, and fields that the schema lacks.
const crossing = `[
{"no":"LS-204","prices":{"EUR":{"adult":12.50,"child":6},"SEK":{"adult":140}},"pay":{"kind":"card","number":"4111222233334444"},"route":[[58.1,6.4],[58.2,6.9]],"seat":12,"wind":"NW","tide":{"at":"06:12:00","cm":412}},
{"no":"LS-205","prices":{"NOK":{"adult":139}},"pay":{"kind":"transfer","account":"NO93 8601"},"route":[],"seat":"A4"}
]
`

var crossingParts = map[string]string{
	"samples/crossings.json": crossing,
	"schemas/crossing.yaml": `schema: Crossing
notation: json
samples: [crossings.json]
fields:
  - {name: "no", type: text}
  - name: prices
    type: map
    constraints: {pattern: "[A-Z]{3}"}
    fields: [{name: price, type: record, fields: [{name: adult, type: decimal}, {name: child, type: decimal, occurs: 0..1}]}]
  - name: pay
    type: variant
    told by: kind
    fields:
      - {name: card, type: record, fields: [{name: kind, type: text, constraints: {codes: {card: ""}}}, {name: number, type: text}]}
      - {name: transfer, type: record, fields: [{name: kind, type: text, constraints: {codes: {transfer: ""}}}, {name: account, type: text}]}
  - {name: route, type: list, occurs: 0..n, fields: [{name: at, type: decimal, occurs: "2"}]}
  - {name: seat, type: variant, fields: [{name: label, type: text}, {name: number, type: integer}]}
`,
	"schemas/fare.yaml": `schema: Fare
notation: json
fields:
  - {name: sailing, type: text}
  - {name: fares, type: map, occurs: 0..1, fields: [{name: fare, type: decimal}]}
  - name: paid
    type: variant
    occurs: 0..1
    fields:
      - {name: card, type: record, fields: [{name: last4, type: text}]}
      - {name: bank, type: record, fields: [{name: account, type: text}]}
  - {name: points, type: list, occurs: 0..n, fields: [{name: value, type: decimal, occurs: 0..n}]}
`,
	"mappings/crossing-to-fare.yaml": `mapping: Crossing to fare
from: [{name: crossing, schema: crossing}]
to: fare
rules:
  - {field: sailing, formula: 'no'}
  - {field: paid/card, when: 'branch(pay) == "card"'}
  - {field: paid/card/last4, formula: 'right(pay.card.number, 4)'}
  - {field: paid/bank, when: 'branch(pay) == "transfer"'}
  - {field: paid/bank/account, formula: pay.transfer.account}
  - {field: points, formula: route}
`,
}

func (w *world) parts(parts map[string]string) {
	require.NoError(w.T, pgx.BeginFunc(w.T.Context(), w.DB, func(tx pgx.Tx) error {
		for path, text := range parts {
			if err := store.AddPart(w.T.Context(), tx, "skerry", path, text, "mira"); err != nil {
				return err
			}
		}
		return nil
	}))
}

// TestMessagesOfEveryShapeAreDescribedAndMapped: the tree shows maps, variants and lists of lists with what the record at hand has
// in them; a field that the partner added is taken into the schema with one click; a map is made of a map, and the branch that the
// message took is the one that is made.
func TestMessagesOfEveryShapeAreDescribedAndMapped(t *testing.T) {
	w := newWorld(t)
	w.parts(crossingParts)
	tb := w.tab()
	tb.open("/bench/schemas/crossing")
	tb.sees("#fits", "all 2 records fit")
	for field, value := range map[string]string{"1": "2 entries: EUR, SEK", "1.0.0": "12.50", "2": "card", "2.0.1": "4111222233334444", "3": "2 items", "4": "number", "4.1": "12"} {
		tb.sees("tr[data-field='"+field+"']", value)
	}
	tb.sees("#lacking", "wind, tide")
	tb.click("#take-in")
	tb.sees("tr.sel", "tide")
	tb.sees("tr[data-field='6.1']", "412")
	tb.sees("tr[data-field='5']", "wind")
	require.Contains(t, w.Text("schemas/crossing.yaml"), "name: wind\n    type: text\n    occurs: 0..1\n")
	tb.open("/bench/schemas/crossing?line=2")
	tb.sees("tr[data-field='2']", "transfer")
	tb.sees("tr[data-field='4']", "label")

	tb.open("/bench/mappings/crossing-to-fare?field=fares")
	tb.sees("[data-source='crossing.prices.price.adult']", "12.50")
	tb.fill("#formula", "prices")
	tb.sees("#verdict", "2 entries: EUR, SEK")
	tb.open("/bench/mappings/crossing-to-fare?field=fares/fare")
	tb.fill("#formula", "item.value.adult")
	tb.sees("#verdict", "12.50")
	require.Contains(t, w.Text("mappings/crossing-to-fare.yaml"), "each: prices")
	tb.sees("[data-target='paid/card/last4']", "4444")
	tb.open("/bench/mappings/crossing-to-fare?field=fares/fare&record=2")
	tb.sees("#verdict", "139")
	tb.sees("[data-target='paid/bank/account']", "NO93 8601")
	tb.sees("[data-target='points']", "0 items")
}

// arrivals reads messages of crossings as they arrive.
const arrivals = `flow: Crossings
trigger: {kind: file, connection: gauge-drop, glob: "*.crossings", interval: 1}
steps:
  - {step: read, id: read, schema: crossing, as: crossing}
  - {step: each, id: each, of: crossing, steps: [{step: reference, id: known, is: 'crossing.no'}]}
`

// TestAPartnerMayAddAField: the flow goes on, its run tells what it passed over, and one click takes it into the schema.
func TestAPartnerMayAddAField(t *testing.T) {
	w := newWorld(t)
	w.parts(crossingParts)
	w.Release("crossings", arrivals)
	w.Drop("one.crossings", `[{"no":"LS-206","prices":{},"pay":{"kind":"card","number":"4111222233334444"},"seat":1}]`)
	before := w.Ended("one.crossings")
	w.Drop("two.crossings", crossing)
	after := w.Ended("two.crossings")
	require.Equal(t, store.Done, before.State)
	require.Equal(t, store.Done, after.State)
	tb := w.tab()
	tb.open("/traffic/runs/" + before.ID.String())
	tb.sees("#references", "LS-206")
	require.NotContains(t, w.Shows("/traffic/runs/"+before.ID.String()), "passed-over")
	tb.open("/traffic/runs/" + after.ID.String())
	tb.sees("#passed-over", "2 fields that the schema lacks were passed over: tide (once), wind (once)")
	tb.click("#passed-over a")
	tb.sees("#lacking", "wind, tide")
	tb.click("#take-in")
	tb.sees("tr[data-field='6.1']", "412")
}

// choices is an XML Schema whose elements have an order, of which some are a choice and some stand in any order.
const choices = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:skerry:crossing" elementFormDefault="qualified">
  <xs:element name="crossing"><xs:complexType>
    <xs:sequence>
      <xs:element name="number" type="xs:string"/>
      <xs:choice>
        <xs:element name="card"><xs:complexType><xs:attribute name="last4" type="xs:string" use="required"/></xs:complexType></xs:element>
        <xs:sequence><xs:element name="bank" type="xs:string"/><xs:element name="account" type="xs:string"/></xs:sequence>
      </xs:choice>
      <xs:element name="remark" type="xs:string" minOccurs="0" maxOccurs="3"/>
    </xs:sequence>
  </xs:complexType></xs:element>
</xs:schema>`

// TestAnXMLSchemaWithChoicesIsDrawnCheckedAndMapped: the tree tells order and choice, samples in another order or with both choices
// do not fit, and a mapping makes the choice.
func TestAnXMLSchemaWithChoicesIsDrawnCheckedAndMapped(t *testing.T) {
	w := newWorld(t)
	w.parts(crossingParts)
	tb := w.tab()
	tb.open("/bench/schemas/new")
	tb.fill("#title", "Crossing note")
	tb.pick("#text", choices)
	tb.do(chromedp.Submit("#title"))
	tb.sees("#arrangement", "number, (card | (bank, account)), remark")
	tb.sees("tr[data-field='1.0']", "last4")
	for name, text := range map[string]string{
		"bank.xml":  `<c:crossing xmlns:c="urn:skerry:crossing"><c:number>1</c:number><c:bank>Tern</c:bank><c:account>86</c:account></c:crossing>`,
		"both.xml":  `<crossing xmlns="urn:skerry:crossing"><number>1</number><card last4="4444"/><bank>Tern</bank><account>86</account></crossing>`,
		"order.xml": `<crossing xmlns="urn:skerry:crossing"><card last4="4444"/><number>1</number></crossing>`,
	} {
		w.Part("samples/"+name, text)
	}
	w.Change("schemas/crossing-note.yaml", "notation: xml\n", "notation: xml\nsamples: [bank.xml, both.xml, order.xml]\n")
	tb.open("/bench/schemas/crossing-note?sample=bank.xml")
	tb.sees("#fits", "all 1 records fit")
	tb.open("/bench/schemas/crossing-note?sample=both.xml")
	tb.sees("#fits", "1 of 1 records do not fit")
	tb.open("/bench/schemas/crossing-note?sample=order.xml")
	tb.sees("#fits", "1 of 1 records do not fit")

	w.Part("mappings/note.yaml", "mapping: Note\nfrom: [{name: crossing, schema: crossing}]\nto: crossing-note\nrules:\n  - {field: number, formula: 'no'}\n"+
		"  - {field: card, when: 'branch(pay) == \"card\"'}\n  - {field: card/last4, formula: 'right(pay.card.number, 4)'}\n  - {field: bank, when: 'branch(pay) == \"transfer\"', formula: '\"Tern\"'}\n")
	tb.open("/bench/mappings/note?field=account&record=2")
	tb.fill("#formula", "pay.transfer.account")
	tb.sees("#verdict", "NO93 8601")
	tb.sees("[data-target='account']", "NO93 8601")
	tb.sees("[data-target='bank']", "Tern")
	tb.open("/bench/mappings/note?field=card/last4&record=1")
	tb.sees("#verdict", "4444")
}

// TestAListOfJSONBecomesXMLAndComesBack on the page for conversion, with lists of lists and empty lists in it.
func TestAListOfJSONBecomesXMLAndComesBack(t *testing.T) {
	w := newWorld(t)
	w.parts(map[string]string{"samples/legs.json": `[[58.1,6.4],[],[57.9]]`, "schemas/legs.yaml": "schema: Legs\nnotation: json\nsamples: [legs.json]\noccurs: 0..n\ntype: list\nfields: [{name: at, type: decimal, occurs: 0..n}]\n"})
	tb := w.tab()
	tb.open("/bench/schemas/legs")
	tb.sees("#fits", "all 3 records fit")
	tb.open("/bench/schemas/legs/convert?to=xml")
	tb.sees("#converted", "58.1")
	tb.sees("#verdict", "3 records")
	var document string
	tb.on("#converted", `return e.textContent`, &document)
	w.parts(map[string]string{"samples/legs.xml": document, "schemas/legs-in-xml.yaml": strings.Replace(strings.Replace(w.Text("schemas/legs.yaml"), "json", "xml", 1), "legs.json", "legs.xml", 1)})
	tb.open("/bench/schemas/legs-in-xml/convert?to=ndjson")
	tb.sees("#converted", "[58.1,6.4] [] [57.9]")
}

// berths is an XML Schema with keys, a reference, a list in one text and an element that says something when it is empty.
const berths = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">
  <xs:element name="berths"><xs:complexType>
    <xs:sequence>
      <xs:element name="berth" maxOccurs="unbounded"><xs:complexType>
        <xs:sequence><xs:element name="depth" type="xs:decimal" default="6.5"/><xs:element name="cranes" type="xs:NMTOKENS" minOccurs="0"/></xs:sequence>
        <xs:attribute name="code" type="xs:NMTOKEN" use="required"/>
      </xs:complexType></xs:element>
      <xs:element name="call" minOccurs="0" maxOccurs="unbounded"><xs:complexType>
        <xs:attribute name="ship" type="xs:string" use="required"/><xs:attribute name="berth" type="xs:NMTOKEN" use="required"/>
      </xs:complexType></xs:element>
    </xs:sequence></xs:complexType>
    <xs:key name="berth"><xs:selector xpath="berth"/><xs:field xpath="@code"/></xs:key>
    <xs:keyref name="moored" refer="berth"><xs:selector xpath="call"/><xs:field xpath="@berth"/></xs:keyref>
  </xs:element>
</xs:schema>`

// TestKeysOfAnXMLSchemaAreKept: nothing is left out, samples that break a key do not fit, and a person changes the keys in the form.
func TestKeysOfAnXMLSchemaAreKept(t *testing.T) {
	w := newWorld(t)
	w.parts(crossingParts)
	tb := w.tab()
	tb.open("/bench/schemas/new")
	tb.fill("#title", "Berth plan")
	tb.pick("#text", berths)
	tb.do(chromedp.Submit("#title"))
	tb.sees("#entry-keys dd:last-child", "call by berth among berth by code")
	require.NotContains(t, w.Shows("/bench/schemas/berth-plan"), "not imported")
	for name, text := range map[string]string{
		"good.xml":    `<berths><berth code="A1"><depth/><cranes>k1 k2</cranes></berth><berth code="A2"><depth>4</depth></berth><call ship="Aske" berth="A2"/></berths>`,
		"twice.xml":   `<berths><berth code="A1"><depth/></berth><berth code="A1"><depth>4</depth></berth></berths>`,
		"nowhere.xml": `<berths><berth code="A1"><depth/></berth><call ship="Aske" berth="B7"/></berths>`,
	} {
		w.Part("samples/"+name, text)
	}
	w.Change("schemas/berth-plan.yaml", "notation: xml\n", "notation: xml\nsamples: [good.xml, twice.xml, nowhere.xml]\n")
	tb.open("/bench/schemas/berth-plan?sample=good.xml")
	tb.sees("#fits", "all 1 records fit")
	tb.open("/bench/schemas/berth-plan?sample=nowhere.xml")
	tb.sees("#work", `expected one of berth by code, found "B7"`)
	tb.open("/bench/schemas/berth-plan?sample=twice.xml")
	tb.sees("#work", `expected values of berth that differ, found "A1" again`)
	tb.fill("#set-message-keys", "berth berth by hull")
	tb.sees("#work", "1 fault in the schema")
	tb.fill("#set-message-keys", "berth berth by code, depth")
	tb.sees("#entry-keys", "berth by code, depth")
	tb.sees("#fits", "all 1 records fit")
}

// TestAnAPIMayAddAField: what a service answers, and what a caller sends, may have fields that their schemas lack; the flow goes on,
// and its run and a try tell of each what it passed over.
func TestAnAPIMayAddAField(t *testing.T) {
	w := newWorld(t)
	answer := atomic.Pointer[string]{}
	says := func(text string) { answer.Store(&text) }
	says(`{"berth":"A2","depth":6.5}`)
	service := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		rw.Header().Set("Content-Type", "application/json")
		io.WriteString(rw, *answer.Load())
	}))
	t.Cleanup(service.Close)
	w.parts(map[string]string{
		"schemas/berth-wish.yaml":      "schema: Berth wish\nnotation: json\nsamples: [wish.json]\nfields: [{name: ship, type: text}]\n",
		"schemas/berth-offer.yaml":     "schema: Berth offer\nnotation: json\nfields: [{name: berth, type: text}, {name: depth, type: decimal}]\n",
		"samples/wish.json":            `{"ship": "Aske"}`,
		"connections/berth-board.yaml": "connection: Berth board\nkind: http\noperations:\n  - {operation: offer, name: Offer, kind: read, path: /offer, response: berth-offer}\n",
	})
	w.Reach("berth-board", "http", map[string]string{"address": service.URL})
	w.Release("wishes", "flow: Wishes\ntrigger: {kind: request, path: wishes, input: berth-wish, as: wish, output: berth-offer, wait: 30}\nsteps:\n"+
		"  - {step: call, id: offer, name: Ask for a berth, connection: berth-board, operation: offer, as: offer}\n  - {step: respond, id: answer, with: {berth: offer.berth, depth: offer.depth}}\n")
	run := func(body string) string {
		status, _ := w.Ask("POST", "/in/wishes", body, "Content-Type: application/json")
		require.Equal(t, 200, status.StatusCode)
		runs, err := store.Runs(t.Context(), w.DB, store.RunFilter{Scope: testkit.Skerry, Flow: "wishes", Most: 1})
		require.NoError(t, err)
		return "/traffic/runs/" + runs[0].ID.String()
	}
	require.NotContains(t, w.Shows(run(`{"ship":"Aske"}`)), "passed-over")
	says(`{"berth":"A2","depth":6.5,"cranes":{"k1":true},"tide":2}`)
	tb := w.tab()
	tb.open(run(`{"ship":"Aske","flag":"NO"}`))
	tb.sees("#passed-over p:first-child", "1 field that the schema lacks was passed over: flag (once). Open the schema Berth wish")
	tb.sees("#passed-over p:last-child", "Ask for a berth: 2 fields that the schema lacks were passed over: cranes (once), tide (once). Open the schema Berth offer")
	tb.open("/bench/flows/wishes?step=offer")
	tb.click("[data-key=try]")
	tb.sees("[data-passed-over]", "cranes (once), tide (once)")
}
