package xsd

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// FuzzLoad: a document is either a schema or has faults; what is a schema checks documents, and what becomes of its elements is a
// part that can be read.
func FuzzLoad(f *testing.F) {
	files, err := filepath.Glob("testdata/*.xsd")
	if err != nil || len(files) == 0 {
		f.Fatal("no documents to begin with", err)
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text, "<a>1</a>")
	}
	f.Add([]byte(`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="a" type="t"/><xs:simpleType name="t"><xs:restriction base="xs:decimal"><xs:pattern value="[0-9]+"/></xs:restriction></xs:simpleType></xs:schema>`), "<a>1</a>")
	f.Fuzz(func(t *testing.T, text []byte, document string) {
		s, err := Load("x.xsd", text, nil)
		if (s == nil) == (err == nil) {
			t.Fatal("neither a schema nor faults, or both")
		}
		if err != nil {
			return
		}
		s.Validate("x.xml", strings.NewReader(document), func(*fault.Fault) bool { return true })
		for name := range s.elements {
			made, err := s.Import("x", name.Local)
			if err != nil {
				continue
			}
			d := partfile.Parse("x.yaml", schema.Write(made))
			if len(d.Faults) > 0 || schema.Parse("x", d) == nil { // it may have faults of its own, as a record without fields
				t.Fatalf("%s of %s: %s", name.Local, text, d.Faults)
			}
		}
	})
}
