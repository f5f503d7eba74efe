package xsd

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/validate"
	"hollowreed/internal/core/value"
)

// verdict is what a part says of a document: empty where it fits.
func verdict(t *testing.T, s *schema.Schema, document string) string {
	t.Helper()
	first := ""
	tally, err := validate.File(s, "x.yaml", all.Of(s), "in", strings.NewReader(document), func(f *fault.Fault) bool { first = f.Error(); return false })
	if err != nil {
		return err.Error()
	}
	if tally.OK() {
		return ""
	}
	return first
}

// TestThePartAgreesWithItsXMLSchema: on documents and on all that differ from them in one place, the part that was made of an XML
// Schema, that part read again, and the XML Schema that is exported from it say the same as the one it came from.
func TestThePartAgreesWithItsXMLSchema(t *testing.T) {
	for _, c := range []struct{ schema, document, root string }{
		{"order", "order-1", ""}, {"models", "models-1", ""}, {"models", "models-2", ""}, {"keys", "keys-1", ""}, {"shapes", "shapes-2", ""}, {"types", "types-1", ""}, {"standins", "standins-1", ""}, {"standins", "standins-2", ""},
	} {
		t.Run(c.document, func(t *testing.T) {
			set := load(t, c.schema+".xsd")
			imported, err := set.Import("x", c.root)
			require.NoError(t, err)
			d := partfile.Parse("x.yaml", schema.Write(imported))
			s := schema.Parse("x", d)
			require.Empty(t, d.Faults, string(schema.Write(imported)))
			require.Equal(t, string(schema.Write(imported)), string(schema.Write(s)))
			again, err := Load("again.xsd", Export(s), nil)
			require.NoError(t, err, string(Export(s)))
			text, err := os.ReadFile(filepath.Join("testdata", c.document+".xml"))
			require.NoError(t, err)
			agreed, refused := 0, 0
			documents := mutants(t, text)
			judged := judgedBy(t, Export(s), documents)
			for i, m := range documents {
				if strings.Contains(m, "<dbl>INF") || strings.Contains(m, "<money>1.500") || strings.Contains(m, "24:00:00") {
					continue // no decimal, as the import says; a pattern of a number, as it says, too; and of an end of the day nothing is known
				}
				found := faults(set, m)
				said := verdict(t, s, m)
				if (said == "") != (len(found) == 0) {
					t.Errorf("the XML Schema says %q, the part %q of %s", found, said, m)
				}
				if back := faults(again, m); (said == "") != (len(back) == 0) {
					t.Errorf("the part says %q, the exported XML Schema %q of %s", said, back, m)
				}
				if judged != nil && (said == "") != judged[i] && explained(judged[i], []string{said}) == "" {
					t.Errorf("the part says %q, xmllint valid=%v by the exported XML Schema of %s", said, judged[i], m)
				}
				agreed++
				if said != "" {
					refused++
				}
			}
			require.Greater(t, agreed, 50)
			require.Greater(t, refused, 20)
			t.Logf("%d documents, %d of them refused", agreed, refused)
		})
	}
}

// TestHandMadePartsAgreeWithWhatTheyExport: choices, options, groups that repeat, any order, a text between elements.
func TestHandMadePartsAgreeWithWhatTheyExport(t *testing.T) {
	for _, c := range []struct{ name, part, document string }{
		{
			"choice and option", `  content model: "no, (card | (iban, bic?)), line+"
  fields:
    - {name: "no", type: integer}
    - {name: card, type: text, occurs: 0..1}
    - {name: iban, type: text, occurs: 0..1}
    - {name: bic, type: text, occurs: 0..1}
    - {name: line, type: record, occurs: 1..n, fields: [{name: sku, type: text}, {name: qty, type: integer, occurs: 0..1}]}
`, "<m><no>1</no><iban>N</iban><bic>D</bic><line><sku>a</sku></line><line><sku>b</sku><qty>2</qty></line></m>",
		},
		{
			"a group that repeats", `  fields:
    - {name: head, type: text}
    - name: pairs
      type: record
      occurs: 1..3
      group: true
      fields: [{name: key, type: text}, {name: value, type: integer, occurs: 1..2}]
    - {name: foot, type: text, occurs: 0..1}
`, "<m><head>h</head><key>a</key><value>1</value><key>b</key><value>2</value><value>3</value><foot>f</foot></m>",
		},
		{
			"a choice that repeats", `  fields:
    - name: moves
      type: record
      occurs: 0..n
      group: true
      content model: up | down
      fields: [{name: up, type: integer, occurs: 0..1}, {name: down, type: integer, occurs: 0..1}]
`, "<m><up>1</up><down>2</down><down>3</down><up>4</up></m>",
		},
		{
			"any order", `  content model: a & b? & c
  fields:
    - {name: a, type: integer}
    - {name: b, type: integer, occurs: 0..1}
    - {name: c, type: record, fields: [{name: d, type: text}]}
`, "<m><a>1</a><b>2</b><c><d>x</d></c></m>",
		},
		{
			"text between elements", `  fields:
    - name: said
      type: record
      occurs: 0..n
      group: true
      content model: text | b | pier
      fields:
        - {name: text, type: text, occurs: 0..1, content: true}
        - {name: b, type: text, occurs: 0..1}
        - {name: pier, type: record, occurs: 0..1, fields: [{name: code, type: text, attribute: true}]}
`, `<m>Berth <b>two</b> at <pier code="SK"/>, now</m>`,
		},
		{
			"an attribute and an element of one name", `  fields:
    - {name: id, type: integer, attribute: true}
    - {name: id_, type: text, xml name: id}
`, `<m id="1"><id>x</id></m>`,
		},
		{
			"a field at two places", `  content model: a, b, a
  fields:
    - {name: a, type: integer, occurs: "2"}
    - {name: b, type: text}
`, `<m><a>1</a><b>x</b><a>2</a></m>`,
		},
		{
			"times of every kind", `  fields:
    - {name: at, type: timestamp}
    - {name: either, type: timestamp, zone: optional}
    - {name: local, type: local timestamp}
    - {name: clock, type: time}
    - {name: zoned, type: zoned time}
    - {name: lasts, type: duration}
    - {name: raw, type: binary, encoding: hex}
`, `<m><at>2031-03-09T06:12:00Z</at><either>2031-03-09T06:12:00</either><local>2031-03-09T06:12:00</local><clock>06:12:00</clock><zoned>06:12:00+02:00</zoned><lasts>P1DT2H</lasts><raw>0AFF</raw></m>`,
		},
		{
			"keys of elements and attributes", `  keys: {song: song by no, title: song/name by . if present, played: play by text among song by no}
  fields:
    - name: song
      type: record
      occurs: 1..n
      fields: [{name: "no", type: integer, attribute: true}, {name: name, type: text, occurs: 0..1}]
    - {name: play, type: record, occurs: 0..n, fields: [{name: text, type: integer, constraints: {minimum: 1, maximum: 9}, content: true}]}
`, `<m><song no="1"><name>a</name></song><song no="2"><name>b</name></song><song no="3"/><play>1</play><play>3</play></m>`,
		},
		{
			"lists in one text", `  fields:
    - {name: at, type: list, attribute: true, in one text: true, fields: [{name: item, type: decimal, occurs: 0..n, constraints: {min entries: 2, max entries: 3}}]}
    - {name: tag, type: list, occurs: 0..n, in one text: true, fields: [{name: item, type: text, occurs: 0..n, constraints: {pattern: '[a-c]+'}}]}
`, `<m at="1.5 2"><tag>a b</tag><tag></tag></m>`,
		},
		{
			"what is empty", `  fields:
    - {name: a, type: integer, when empty: 7}
    - {name: b, type: record, fields: [{name: unit, type: text, attribute: true, occurs: 0..1}, {name: text, type: text, content: true, when empty: kg, constraints: {codes: {kg: "", t: ""}}}]}
`, `<m><a>1</a><b unit="x">t</b></m>`,
		},
		{
			"one of several types", `  fields:
    - {name: v, type: variant, fields: [{name: boolean, type: boolean}, {name: number, type: integer}]}
    - {name: w, type: decimal, constraints: {exclusive minimum: 0, exclusive maximum: 10}}
`, `<m><v>true</v><w>1.5</w></m>`,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			part := "schema: M\nnotation: xml\nnotation settings: {root: m, element order: as listed, other fields: fault}\n" + strings.ReplaceAll(c.part, "\n  ", "\n")[2:]
			d := partfile.Parse("x.yaml", []byte(part))
			s := schema.Parse("x", d)
			require.Empty(t, d.Faults, part)
			require.Empty(t, Unsaid(s))
			set, err := Load("x.xsd", Export(s), nil)
			require.NoError(t, err, string(Export(s)))
			require.Empty(t, verdict(t, s, c.document))
			require.Equal(t, c.document, strings.NewReplacer("\n", "", "  ", "").Replace(rewritten(t, s, c.document)))
			refused := 0
			documents := mutants(t, []byte(c.document))
			judged := judgedBy(t, Export(s), documents)
			for i, m := range documents {
				said, found := verdict(t, s, m), faults(set, m)
				if judged != nil && (said == "") != judged[i] && explained(judged[i], []string{said}) == "" {
					t.Errorf("the part says %q, xmllint valid=%v of %s\n%s", said, judged[i], m, Export(s))
				}
				require.Equal(t, len(found) == 0, said == "", "the part says %q, the XML Schema %q of %s\n%s", said, found, m, Export(s))
				if said != "" {
					refused++
				}
			}
			require.Greater(t, refused, 5)
			for _, kind := range sample.Kinds {
				for seed := range uint64(8) {
					v, ft := sample.Make(s, kind, seed)
					require.Nil(t, ft, "%s %d", kind, seed)
					document := written(t, s, v)
					require.Empty(t, verdict(t, s, document), document)
					require.Empty(t, faults(set, document), document)
				}
			}
			back, err := set.Import("x", "")
			require.NoError(t, err)
			require.Empty(t, back.NotImported)
			require.Equal(t, string(Export(s)), string(Export(back)), "what is exported is imported as it was")
		})
	}
}

// judgedBy is xmllint's verdict on documents by a schema; nil where it is not installed.
func judgedBy(t *testing.T, schema []byte, documents []string) []bool {
	t.Helper()
	if _, err := exec.LookPath("xmllint"); err != nil {
		return nil
	}
	path := filepath.Join(t.TempDir(), "s.xsd")
	require.NoError(t, os.WriteFile(path, schema, 0o600))
	return judge(t, path, documents)
}

func options(s *schema.Schema) notation.Options { return notation.Options{Schema: s, Check: true} }

// rewritten reads a document and writes it again, without the line on top.
func rewritten(t *testing.T, s *schema.Schema, document string) string {
	t.Helper()
	k := all.Of(s)
	r, err := k.NewReader(strings.NewReader(document), options(s))
	require.NoError(t, err)
	v, err := r.Next()
	require.NoError(t, err)
	s.Check(v, func(f *fault.Fault) { require.Fail(t, f.Error()) })
	return written(t, s, v)
}

func written(t *testing.T, s *schema.Schema, v value.Value) string {
	t.Helper()
	var b strings.Builder
	w, err := all.Of(s).NewWriter(&b, options(s))
	require.NoError(t, err)
	require.NoError(t, w.Write(v))
	require.NoError(t, w.Close())
	_, text, _ := strings.Cut(b.String(), "\n")
	return text
}
