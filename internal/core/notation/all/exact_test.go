package all

import (
	"bytes"
	stdjson "encoding/json"
	stdxml "encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/notation/xml"
	"hollowreed/internal/core/xmltext"
)

var (
	oddNames = []string{"a", "b", "item", "record", "@id", "@x y", "#text", "#content", "", "a b", "2x", "_x0020_", "_x_", "x:y:z", "é", "<&>"}
	oddTexts = []string{"", " ", "x", " a\tb\n", "1", "true", "null", "<b>&amp;", "ø😀", "]]>", "\r\n"}
)

// madeJSON is a random value of JSON.
func madeJSON(random *rand.Rand, depth int) any {
	switch kind := random.IntN(8); {
	case depth > 0 && kind < 3:
		m := map[string]any{}
		for range random.IntN(4) {
			m[oddNames[random.IntN(len(oddNames))]] = madeJSON(random, depth-1)
		}
		return m
	case depth > 0 && kind < 5:
		l := []any{}
		for range random.IntN(4) {
			l = append(l, madeJSON(random, depth-1))
		}
		return l
	case kind == 5:
		return stdjson.Number([]string{"0", "-1.50", "1e400", "12345678901234567890", "-0"}[random.IntN(5)])
	case kind == 6:
		return []any{true, false, nil}[random.IntN(3)]
	}
	return oddTexts[random.IntN(len(oddTexts))]
}

// TestEveryValueOfJSONComesBackFromXML, without a schema, and what is written is XML.
func TestEveryValueOfJSONComesBackFromXML(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 4_000 {
		v := madeJSON(random, 4)
		text, err := stdjson.Marshal(v)
		require.NoError(t, err)
		document := exactly(t, &json.Kind, &xml.Kind, string(text))
		back := exactly(t, &xml.Kind, &json.Kind, document)
		d := stdjson.NewDecoder(strings.NewReader(back))
		d.UseNumber()
		var now any
		require.NoError(t, d.Decode(&now), back)
		require.Equal(t, v, now, "%s became %s", text, document)
	}
}

// madeXML is a random element.
func madeXML(random *rand.Rand, depth int) string {
	name := []string{"a", "b", "item", "p:c", "_x0020_", "_x0041_"}[random.IntN(6)]
	var b strings.Builder
	fmt.Fprintf(&b, "<%s xmlns:p='urn:p'", name)
	if random.IntN(3) == 0 {
		fmt.Fprintf(&b, " x='%s'", escaped(oddTexts[random.IntN(len(oddTexts))]))
	}
	b.WriteString(">")
	for range random.IntN(4) {
		if depth > 0 && random.IntN(3) > 0 {
			b.WriteString(madeXML(random, depth-1))
		} else {
			b.WriteString(escaped(oddTexts[random.IntN(len(oddTexts))]))
		}
	}
	return b.String() + "</" + name + ">"
}

func escaped(text string) string {
	var b bytes.Buffer
	stdxml.EscapeText(&b, []byte(text))
	return b.String()
}

// TestEveryElementComesBackFromJSON, but for white space between elements, without a schema.
func TestEveryElementComesBackFromJSON(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for range 4_000 {
		document := madeXML(random, 4)
		message := exactly(t, &xml.Kind, &json.Kind, document)
		require.Equal(t, infoset(t, document), infoset(t, exactly(t, &json.Kind, &xml.Kind, message)), "%s became %s", document, message)
	}
}

func exactly(t *testing.T, from, to *notation.Kind, message string) string {
	r, err := from.NewReader(strings.NewReader(message), notation.Options{Source: "in", Exact: true})
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = notation.Copy(r, func(many bool) (notation.Writer, error) {
		return to.NewWriter(&out, notation.Options{Many: many, Exact: true})
	}, nil, func(err error) { t.Errorf("%v in %s", err, message) })
	require.NoError(t, err, message)
	return out.String()
}

// infoset is what a document says: its tokens, but for blank texts that stand beside nothing but elements or attributes.
func infoset(t *testing.T, document string) (list []string) {
	r := xmltext.New(strings.NewReader(document), xmltext.Options{Namespaces: true})
	type open struct {
		from     int
		children bool
		text     bool
	}
	var stack []open
	for {
		k, err := r.Next()
		if errors.Is(err, io.EOF) {
			return list
		}
		require.NoError(t, err, document)
		switch k {
		case xmltext.Start:
			if len(stack) > 0 {
				stack[len(stack)-1].children = true
			}
			name := r.Raw
			for _, a := range r.Attrs {
				name += " " + a.Raw + "=" + a.Value
			}
			list = append(list, "<"+name)
			stack = append(stack, open{from: len(list)})
		case xmltext.Text:
			if n := len(list) - 1; strings.HasPrefix(list[n], "text ") {
				list[n] += r.Text
			} else {
				list = append(list, "text "+r.Text)
			}
			stack[len(stack)-1].text = stack[len(stack)-1].text || strings.TrimSpace(r.Text) != ""
		case xmltext.End:
			top := stack[len(stack)-1]
			if stack = stack[:len(stack)-1]; top.children && !top.text {
				depth := 0
				list = append(list[:top.from], slices.DeleteFunc(list[top.from:], func(e string) bool {
					switch {
					case e[0] == '<':
						depth++
					case e[0] == '>':
						depth--
					}
					return depth == 0 && strings.HasPrefix(e, "text ")
				})...)
			}
			list = append(list, ">")
		}
	}
}
