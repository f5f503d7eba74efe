package json

import (
	"bytes"
	"io"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

const family = "json"

var settings = setting.List{schema.MaxRecordSetting, schema.NullAsSetting, schema.EmptyAsSetting, schema.AbsentAsSetting, schema.OthersSetting}

func fieldSettings(_ *schema.Schema, f *schema.Field) (list setting.List) {
	if f.List() {
		list = setting.List{{Name: "single", Label: "A value by itself is a list of one", Type: setting.Flag}}
	}
	return slices.Concat(list, schema.DateSettings(f), schema.PlaceSettings(f))
}

// Kind is JSON (RFC 8259).
var Kind = notation.Kind{
	Notation: &schema.Notation{
		Name: "json", Ending: "json", Media: "application/json", Suffix: "+json", Family: family,
		Bytes: true, Tree: true, Types: true, Document: true, Settings: settings, Field: fieldSettings,
	},
	About:  "JSON (RFC 8259)",
	Reader: NewReader, Writer: NewWriter, CopyDocument: CopyDocument,
	Recognise: func(text []byte) bool { return text[0] == '[' || text[0] == '{' && !severalLines(text) },
	Excerpt:   notation.Excerpt{Text: recordText, Alone: alone},
}

// LinesKind is one JSON value a line.
var LinesKind = notation.Kind{
	Notation: &schema.Notation{
		Name: "ndjson", Ending: "ndjson", Media: "application/x-ndjson", Family: family,
		Bytes: true, Tree: true, Types: true, Settings: settings, Field: fieldSettings,
	},
	About:  "one JSON value a line",
	Reader: NewLinesReader, Writer: NewLinesWriter,
	Recognise: severalLines,
	Excerpt:   notation.Excerpt{Raw: true},
}

// severalLines says whether a text begins with an object on a line of its own and goes on with another.
func severalLines(text []byte) bool {
	first, rest, more := bytes.Cut(text, []byte("\n"))
	return more && text[0] == '{' && bytes.HasSuffix(bytes.TrimSpace(first), []byte("}")) && bytes.HasPrefix(bytes.TrimSpace(rest), []byte("{"))
}

// recordText reads the value with which a document goes on, behind the comma before it, and indents it.
func recordText(in io.Reader) (string, error) {
	var one [1]byte
	for {
		if _, err := io.ReadFull(in, one[:]); err != nil {
			return "", err
		}
		if !strings.ContainsRune(" \t\r\n,", rune(one[0])) {
			break
		}
	}
	dec := jsontext.NewDecoder(io.MultiReader(bytes.NewReader(one[:]), in), jsontext.AllowDuplicateNames(true))
	v, err := dec.ReadValue()
	if err != nil {
		return "", err
	}
	if err := v.Indent(jsontext.WithIndent("  ")); err != nil {
		return "", err
	}
	return string(v), nil
}

// Line makes one line of a JSON text.
func Line(text string) ([]byte, error) {
	v := jsontext.Value(text)
	if err := v.Compact(); err != nil {
		return nil, fault.New(fault.Syntax, "the text is no JSON: %s", err).WithFix("Mend it, or take what stood there before")
	}
	return append([]byte(v), '\n'), nil
}

func alone(text string) ([]byte, *schema.Notation, error) {
	content, err := Line(text)
	return content, LinesKind.Notation, err
}
