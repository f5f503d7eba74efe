package conformance

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/xmltext"
)

// lists are the lists of the XML suite whose cases are for XML 1.0 and its namespaces.
var lists = []string{
	"xmltest/xmltest.xml", "japanese/japanese.xml", "sun/sun-valid.xml", "sun/sun-invalid.xml", "sun/sun-not-wf.xml", "sun/sun-error.xml", "oasis/oasis.xml",
	"ibm/ibm_oasis_valid.xml", "ibm/ibm_oasis_invalid.xml", "ibm/ibm_oasis_not-wf.xml", "eduni/errata-2e/errata2e.xml", "eduni/errata-3e/errata3e.xml",
	"eduni/errata-4e/errata4e.xml", "eduni/namespaces/1.0/rmt-ns10.xml", "eduni/namespaces/errata-1e/errata1e.xml", "eduni/misc/ht-bh.xml",
}

// xmlDocuments runs the suite of XML 1.0: documents that are not well-formed are refused, all others are read to their end.
// Validity by a document type is no concern of the reader, and what needs an external entity is not for it.
func xmlDocuments(t *testing.T, dir string, tally tallier) {
	for _, list := range lists {
		text, err := os.ReadFile(filepath.Join(dir, list))
		require.NoError(t, err)
		for _, c := range cases(t, text) {
			if c["RECOMMENDATION"] == "XML1.1" || c["RECOMMENDATION"] == "NS1.1" || !editions(c["EDITION"]) || c["TYPE"] == "error" {
				continue
			}
			document, err := os.ReadFile(filepath.Join(dir, filepath.Dir(list), c["URI"]))
			require.NoError(t, err)
			err = readAll(document, c["NAMESPACE"] != "no")
			switch external := c["ENTITIES"] != "" && c["ENTITIES"] != "none"; {
			case external && c["TYPE"] == "not-wf":
				continue // the fault may stand in what is not fetched
			case c["TYPE"] == "not-wf":
				tally(t, "XML, not well-formed", err != nil, "%s %s", list, c["URI"])
			case external:
				tally(t, "XML, with external entities", err == nil, "%s %s: %v", list, c["URI"], err)
			default:
				tally(t, "XML, well-formed", err == nil, "%s %s: %v", list, c["URI"], err)
			}
		}
	}
}

// editions says whether a case is one of the fifth edition; most are of all editions, and say nothing.
func editions(of string) bool {
	return of == "" || slices.Contains(bytesFields(of), "5")
}

func bytesFields(s string) (fields []string) {
	for _, f := range bytes.Fields([]byte(s)) {
		fields = append(fields, string(f))
	}
	return fields
}

// cases are the attributes of each TEST of a list.
func cases(t *testing.T, list []byte) (found []map[string]string) {
	d := xml.NewDecoder(bytes.NewReader(list))
	d.Strict = false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return found
		}
		require.NoError(t, err)
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "TEST" {
			continue
		}
		c := map[string]string{}
		for _, a := range start.Attr {
			c[a.Name.Local] = a.Value
		}
		found = append(found, c)
	}
}

func readAll(document []byte, namespaces bool) error {
	r := xmltext.New(bytes.NewReader(document), xmltext.Options{Source: "in", Namespaces: namespaces})
	for {
		if _, err := r.Next(); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
	}
}
