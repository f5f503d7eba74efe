package conformance

import (
	"bytes"
	"encoding/xml"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema/xsd"
	"hollowreed/internal/core/xmltext"
)

// testSet is a list of cases in the form of the W3C's suite for XML Schema.
type testSet struct {
	Groups []struct {
		Name      string          `xml:"name,attr"`
		Schemas   []schemaCase    `xml:"schemaTest"`
		Instances []instancesCase `xml:"instanceTest"`
	} `xml:"testGroup"`
}

type schemaCase struct {
	Documents []link   `xml:"schemaDocument"`
	Expected  expected `xml:"expected"`
}

type instancesCase struct {
	Document link     `xml:"instanceDocument"`
	Expected expected `xml:"expected"`
}

type link struct {
	Href string `xml:"http://www.w3.org/1999/xlink href,attr"`
}

type expected struct {
	Validity string `xml:"validity,attr"`
}

// xmlSchemas runs cases of XML Schema 1.0: schemas, documents checked by them, and documents checked by a part that is made of them.
// That a part with nothing left out says otherwise than its schema is a failure.
func xmlSchemas(t *testing.T, dir string, tally tallier) {
	for _, list := range []string{"Xerces.testSet", "XercesXML.testSet"} {
		text, err := os.ReadFile(filepath.Join(dir, list))
		require.NoError(t, err)
		var set testSet
		require.NoError(t, xml.Unmarshal(text, &set))
		for _, g := range set.Groups {
			var compiled *xsd.Set
			for _, c := range g.Schemas {
				compiled = schemaOf(t, dir, g.Name, c, tally)
			}
			for _, c := range g.Instances {
				if compiled != nil {
					document(t, dir, g.Name, compiled, c, tally)
				}
			}
		}
	}
}

func schemaOf(t *testing.T, dir, group string, c schemaCase, tally tallier) *xsd.Set {
	main := filepath.Join(dir, c.Documents[0].Href)
	text, err := os.ReadFile(main)
	require.NoError(t, err)
	others := map[string][]byte{}
	files, err := filepath.Glob(filepath.Join(filepath.Dir(main), "*"))
	require.NoError(t, err)
	for _, f := range files {
		if b, err := os.ReadFile(f); err == nil {
			others[filepath.Base(f)] = b
		}
	}
	set, err := xsd.Load(filepath.Base(main), text, others)
	tally(t, "XML Schema, schemas", (err == nil) == (c.Expected.Validity == "valid"), "%s: %v", group, err)
	if err != nil {
		return nil
	}
	return set
}

func document(t *testing.T, dir, group string, set *xsd.Set, c instancesCase, tally tallier) {
	text, err := os.ReadFile(filepath.Join(dir, c.Document.Href))
	require.NoError(t, err)
	valid := c.Expected.Validity == "valid"
	var first *fault.Fault
	n := set.Validate("in.xml", bytes.NewReader(text), func(f *fault.Fault) bool { first = f; return false })
	tally(t, "XML Schema, documents by the schema", (n == 0) == valid, "%s %s: %v", group, c.Document.Href, first)
	part, err := set.Import("x", rootOf(text))
	if err != nil {
		tally(t, "XML Schema, documents by a part", false, "%s: %v", group, err)
		return
	}
	s, err := reread(part)
	if err != nil {
		tally(t, "XML Schema, documents by a part", false, "%s: %v", group, err)
		return
	}
	ok, why := fits(s, text)
	tally(t, "XML Schema, documents by a part", ok == valid, "%s %s: %v, left out: %v", group, c.Document.Href, why, part.NotImported)
	if len(part.NotImported) == 0 && ok != (n == 0) {
		t.Errorf("%s %s: a part that holds its schema whole says otherwise than the schema: %v, %v", group, c.Document.Href, why, first)
	}
}

// rootOf is the name of a document's root element; empty where it is none.
func rootOf(text []byte) string {
	r := xmltext.New(bytes.NewReader(text), xmltext.Options{Namespaces: true})
	for {
		switch kind, err := r.Next(); {
		case err != nil:
			return ""
		case kind == xmltext.Start:
			return r.Name.Local
		}
	}
}
