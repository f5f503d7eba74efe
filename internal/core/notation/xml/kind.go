package xml

import (
	"bufio"
	"bytes"
	stdxml "encoding/xml"
	"io"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// Kind is XML 1.0.
var Kind = notation.Kind{
	Notation: &schema.Notation{
		Name: "xml", Ending: "xml", Media: "application/xml", Suffix: "+xml", Family: "xml",
		Bytes: true, Tree: true, Elements: true, Document: true,
		Settings: setting.List{
			schema.MaxRecordSetting, schema.RootSetting, schema.RecordSetting, schema.NamespacesSetting,
			schema.NullAsSetting, schema.EmptyAsSetting, schema.AbsentAsSetting, schema.OthersSetting, schema.OrderSetting, schema.DoctypeSetting, schema.OtherNamesSetting,
		},
		Field: func(_ *schema.Schema, f *schema.Field) setting.List {
			return slices.Concat(schema.NumberSettings(f), schema.DateSettings(f), schema.PlaceSettings(f), schema.ElementSettings(f))
		},
	},
	About:  "XML 1.0",
	Reader: NewReader, Writer: NewWriter, OpenList: openList,
	Recognise: func(text []byte) bool { return text[0] == '<' },
	Excerpt: notation.Excerpt{
		Text: recordText, Frame: rootAround,
		Framed: func(s *schema.Schema) bool { return s.RecordElement() != "" },
	},
}

// rootAround is the root element, in which the records stand.
func rootAround(_ *schema.Schema, message io.Reader) (notation.Frame, error) {
	var begin bytes.Buffer
	dec := stdxml.NewDecoder(io.TeeReader(message, &begin))
	for {
		from := dec.InputOffset()
		t, err := dec.RawToken()
		if err != nil {
			return notation.Frame{}, fault.New(fault.Syntax, "the root element cannot be found: %s", err)
		}
		root, ok := t.(stdxml.StartElement)
		if !ok {
			continue
		}
		name := root.Name.Local
		if root.Name.Space != "" {
			name = root.Name.Space + ":" + name
		}
		return notation.Frame{Before: string(begin.Bytes()[from:dec.InputOffset()]), After: "</" + name + ">"}, nil
	}
}

// recordText reads the element with which a document goes on.
func recordText(in io.Reader) (string, error) {
	var text bytes.Buffer
	dec := stdxml.NewDecoder(io.TeeReader(in, &text))
	for depth := 0; ; {
		t, err := dec.RawToken()
		if err != nil {
			return "", err
		}
		switch t.(type) {
		case stdxml.StartElement:
			depth++
		case stdxml.EndElement:
			if depth--; depth <= 0 {
				return string(text.Bytes()[:dec.InputOffset()]), nil
			}
		}
	}
}

// openList reads a document that is a list below its root element, element by element. That it is one is found by passing
// over it once.
func openList(in io.ReadSeeker, o notation.Options) (notation.Reader, error) {
	list := ListName(bufio.NewReaderSize(in, 64<<10))
	if _, err := in.Seek(0, io.SeekStart); err != nil || list == "" {
		return nil, err
	}
	return NewListReader(bufio.NewReaderSize(in, 64<<10), o, list), nil
}
