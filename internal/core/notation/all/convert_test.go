package all

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

const events = `
schema: Events
notation: json
notation settings:
  root: ev:events
  record: ev:event
  namespace: urn:skerry:sailing
  namespaces: {ev: "urn:skerry:event"}
fields:
  - {name: "ev:id", type: text, attribute: true}
  - {name: "ev:kind", type: text}
  - {name: vessel, type: text, occurs: 0..1}
  - {name: note, type: text, occurs: 0..n}
`

// TestNamesStandForNamespaces: JSON with prefixed names becomes XML with namespaces, and XML comes
// back by its namespaces, whatever its prefixes are.
func TestNamesStandForNamespaces(t *testing.T) {
	s := parse(t, "events", events)
	const in = `{"ev:id":"1","ev:kind":"late","vessel":"Orma","note":["a"]}` + "\n"
	got, err := convert(t, "ndjson", "xml", s, in)
	require.NoError(t, err)
	require.Equal(t, `<?xml version="1.0" encoding="UTF-8"?>
<ev:events xmlns="urn:skerry:sailing" xmlns:ev="urn:skerry:event">
  <ev:event ev:id="1">
    <ev:kind>late</ev:kind>
    <vessel>Orma</vessel>
    <note>a</note>
  </ev:event>
</ev:events>
`, got)
	back, err := convert(t, "xml", "ndjson", s, got)
	require.NoError(t, err)
	require.Equal(t, in, back)
	other := `<events xmlns="urn:skerry:event"><event xmlns:q="urn:skerry:event" q:id="1"><kind>late</kind><s:vessel xmlns:s="urn:skerry:sailing">Orma</s:vessel><s:note xmlns:s="urn:skerry:sailing">a</s:note></event></events>`
	back, err = convert(t, "xml", "ndjson", s, other)
	require.NoError(t, err)
	require.Equal(t, in, back)
	_, err = convert(t, "xml", "ndjson", s, strings.Replace(other, "urn:skerry:event", "urn:other", 1))
	require.ErrorContains(t, err, "expected the root element ev:events")

	for wrong, want := range map[string]string{
		`namespaces: {xmlns: "u"}`:                "expected a prefix",
		`namespaces: {"a b": "u"}`:                "expected a prefix",
		`namespaces: {a: "u", b: "u"}`:            "has no prefix yet",
		`namespace: u` + "\n  namespaces: {b: u}": "has no prefix yet",
	} {
		d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: xml\nnotation settings:\n  "+wrong+"\nfields:\n  - {name: a, type: text}\n"))
		schema.Parse("x", d)
		require.Contains(t, d.Faults.Error(), want)
	}
}

// TestWhatHasNoValueIsWrittenAsChosen: null, empty and absent are three things, and each can be
// written as another.
func TestWhatHasNoValueIsWrittenAsChosen(t *testing.T) {
	const part = "schema: X\nnotation: json\nnotation settings: {root: r%s}\nfields:\n  - {name: a, type: text, occurs: 0..1, nullable: true}\n  - {name: b, type: text, occurs: 0..1}\n  - {name: c, type: text, occurs: 0..1}\n" +
		"  - {name: l, type: text, occurs: 0..n, nullable: true}\n  - name: r\n    type: record\n    occurs: 0..1\n    fields: [{name: x, type: text, occurs: 0..1}]\n"
	const in = `{"a":null,"b":"","l":[null,"","y"],"r":{"x":""}}`
	for settings, want := range map[string]string{
		"":                                             `{"a":null,"b":"","l":[null,"","y"],"r":{"x":""}}`,
		", null as: omitted, empty as: omitted":        `{"l":["y"],"r":{}}`,
		", null as: empty, absent as: \"null\"":        `{"a":"","b":"","c":null,"l":["","","y"],"r":{"x":""}}`,
		", empty as: \"null\", null as: omitted":       `{"b":null,"l":[null,"y"],"r":{"x":null}}`,
		", absent as: \"null\", empty as: omitted":     `{"a":null,"c":null,"l":[null,"y"],"r":{}}`,
		", absent as: \"null\", values as: attributes": `{"a":null,"b":"","c":null,"l":[null,"","y"],"r":{"x":""}}`,
	} {
		got, err := convert(t, "json", "json", parse(t, "x", strings.Replace(part, "%s", settings, 1)), in)
		require.NoError(t, err)
		require.Equal(t, want+"\n", got, settings)
	}
	got, err := convert(t, "json", "xml", parse(t, "x", strings.Replace(part, "%s", ", empty as: omitted", 1)), in)
	require.NoError(t, err)
	require.Contains(t, got, `<a xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/>`)
	require.NotContains(t, got, "<b")
}

// TestQuotesAreEscapedAsTheSchemaSays, in fields that hold anything.
func TestQuotesAreEscapedAsTheSchemaSays(t *testing.T) {
	s := parse(t, "x", "schema: X\nnotation: csv\nnotation settings: {escape: '\\'}\nfields:\n  - {name: a, type: text}\n  - {name: b, type: integer}\n")
	in := "a,b\r\n\"say \\\"hi\\\", \\\\ it\",1\r\nbare\\,2\r\n\"two\r\nlines\",3\r\n\"\",4\r\n"
	got, err := convert(t, "csv", "ndjson", s, in)
	require.NoError(t, err)
	require.Equal(t, `{"a":"say \"hi\", \\ it","b":1}`+"\n"+`{"a":"bare\\","b":2}`+"\n"+`{"a":"two\r\nlines","b":3}`+"\n"+`{"a":"","b":4}`+"\n", got)
	back, err := convert(t, "ndjson", "csv", s, got)
	require.NoError(t, err)
	require.Equal(t, strings.Replace(in, "\"\",4", ",4", 1), back)
	require.Equal(t, []string{`in:2:11: b: expected a whole number, found "x"`}, read(t, s, "a,b\n\"q\\\", \\\"\",x\n", notation.Options{}))
	alike(t, "csv", s, in)
}

// TestSingleValuesBecomeAttributes, and are read as such again.
func TestSingleValuesBecomeAttributes(t *testing.T) {
	s := parse(t, "x", "schema: X\nnotation: json\nnotation settings: {root: r, values as: attributes}\nfields:\n  - {name: a, type: integer}\n  - {name: l, type: text, occurs: 0..n}\n  - name: r\n    type: record\n    fields: [{name: x, type: text}, {name: t, type: text, content: true}]\n")
	const in = `{"a":1,"l":["y"],"r":{"x":"z","t":"text"}}` + "\n"
	got, err := convert(t, "json", "xml", s, in)
	require.NoError(t, err)
	require.Contains(t, got, `<r a="1">`)
	require.Contains(t, got, `<r x="z">text</r>`)
	back, err := convert(t, "xml", "json", s, got)
	require.NoError(t, err)
	require.Equal(t, in, back)
}

// TestWhiteSpaceBetweenElementsIsNoText, however much of it there is; anything else is a fault.
func TestWhiteSpaceBetweenElementsIsNoText(t *testing.T) {
	s := parse(t, "x", "schema: X\nnotation: xml\nnotation settings: {root: r}\nfields:\n  - {name: a, type: integer, occurs: 0..n}\n")
	in := "<r>" + strings.Repeat("\n  <a>1</a>", 50_000) + "\n</r>"
	require.Len(t, read(t, s, in, notation.Options{Check: true}), 1)
	require.Contains(t, read(t, s, strings.Replace(in, "</a>\n", "</a>x\n", 1), notation.Options{Check: true})[0], `expected elements only, found "x"`)
}
