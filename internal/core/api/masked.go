package api

import (
	"bytes"
	"io"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// WithoutMasked is a JSON body with other values in place of those of the masked fields, wherever they stand; nil for a body that is no JSON
// while fields are masked. A body of which nothing is masked stays as it is.
func (g Guards) WithoutMasked(body []byte) []byte {
	if len(g.Masked) == 0 {
		return body
	}
	var out bytes.Buffer
	d, e := jsontext.NewDecoder(bytes.NewReader(body)), jsontext.NewEncoder(&out, jsontext.AllowDuplicateNames(true))
	for {
		k, length := d.StackIndex(d.StackDepth())
		t, err := d.ReadToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil
		}
		name := k == '{' && length%2 == 0 && t.Kind() == '"'
		if e.WriteToken(t) != nil {
			return nil
		}
		if !name || !slices.ContainsFunc(g.Masked, func(m string) bool { return strings.EqualFold(m, t.String()) }) {
			continue
		}
		if d.SkipValue() != nil || e.WriteToken(jsontext.String("…")) != nil {
			return nil
		}
	}
	if out.Len() == 0 {
		return nil
	}
	return bytes.TrimRight(out.Bytes(), "\n")
}
