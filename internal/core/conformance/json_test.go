package conformance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	hrjson "hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/sample"
)

type group struct {
	Description string
	Schema      json.RawMessage
	Tests       []struct {
		Description string
		Data        json.RawMessage
		Valid       bool
	}
}

// jsonSchema runs the suite of JSON Schema: what the validator says of each document, and what a part says that was made of the
// schema. A part that was made with no note holds the
// whole schema: that it says otherwise of one of them is a failure.
func jsonSchema(t *testing.T, dir string, tally tallier) {
	for draft, address := range map[string]string{"draft2020-12": "https://json-schema.org/draft/2020-12/schema", "draft7": "http://json-schema.org/draft-07/schema#"} {
		files, err := filepath.Glob(filepath.Join(dir, draft, "*.json"))
		require.NoError(t, err)
		for _, file := range files {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			var groups []group
			require.NoError(t, json.Unmarshal(text, &groups))
			for _, g := range groups {
				g.Schema = declared(g.Schema, address)
				checked(t, draft, filepath.Base(file), g, tally)
				held(t, draft, filepath.Base(file), g, tally)
			}
		}
	}
}

// declared is a schema that names its draft; those of the suite are of the draft of their folder.
func declared(schema json.RawMessage, draft string) json.RawMessage {
	body, object := bytes.CutPrefix(bytes.TrimSpace(schema), []byte("{"))
	switch {
	case !object || bytes.Contains(body, []byte(`"$schema"`)):
		return schema
	case bytes.HasPrefix(bytes.TrimSpace(body), []byte("}")):
		return fmt.Appendf(nil, `{"$schema": %q}`, draft)
	}
	return fmt.Appendf(nil, `{"$schema": %q, %s`, draft, body)
}

// checked lets the validator say of each document whether the schema allows it.
func checked(t *testing.T, draft, file string, g group, tally tallier) {
	v, err := jsonschema.Compile("schema.json", g.Schema, nil)
	for _, c := range g.Tests {
		if err != nil {
			tally(t, draft+", checked", false, "%s: %s: the schema is refused: %v", file, g.Description, err)
			continue
		}
		faults, err := v.Check("in", c.Data)
		tally(t, draft+", checked", err == nil && (len(faults) == 0) == c.Valid, "%s: %s: %s: %v %v", file, g.Description, c.Description, err, faults)
	}
}

// held lets a part that is made of the schema say it.
func held(t *testing.T, draft, file string, g group, tally tallier) {
	imported, err := jsonschema.Import("x", "schema.json", g.Schema, "", nil)
	whole := err == nil && len(imported.Notes) == 0
	why := any(err)
	if err == nil {
		why = imported.Notes
	}
	tally(t, draft+", schemas held whole", whole, "%s: %s: %v: %s", file, g.Description, why, compact(g.Schema))
	if err != nil {
		return
	}
	s, err := reread(imported.Schema)
	if err != nil {
		tally(t, draft+", schemas held whole", false, "%s: %s: %v: %s", file, g.Description, err, compact(g.Schema))
		return
	}
	if whole {
		sampled(t, draft, file, g, s, tally)
	}
	for _, c := range g.Tests {
		ok, why := fits(s, c.Data)
		tally(t, draft+", by a part", ok == c.Valid, "%s: %s: %s: %v, schema %s document %s", file, g.Description, c.Description, why, compact(g.Schema), c.Data)
		if whole && ok != c.Valid {
			t.Errorf("%s: %s: %s: a part that holds its schema whole says otherwise: %v, schema %s document %s", file, g.Description, c.Description, why, compact(g.Schema), c.Data)
		}
	}
}

// sampled makes samples of a part that holds its schema whole, and lets the validator say whether the schema allows them. A schema
// that allows nothing has none.
func sampled(t *testing.T, draft, file string, g group, s *schema.Schema, tally tallier) {
	v, err := jsonschema.Compile("schema.json", g.Schema, nil)
	if err != nil {
		return
	}
	for i, kind := range sample.Kinds {
		var b bytes.Buffer
		w, err := hrjson.Kind.NewWriter(&b, notation.Options{Schema: s, Many: s.Message.List()})
		require.NoError(t, err)
		for n := range max(s.Message.Min, 1) {
			made, ft := sample.Make(s, kind, uint64(i+7*n))
			if ft != nil {
				tally(t, draft+", samples", false, "%s: %s: %v of %s", file, g.Description, ft, compact(g.Schema))
				return
			}
			require.NoError(t, w.Write(made))
		}
		require.NoError(t, w.Close())
		faults, err := v.Check("in", b.Bytes())
		tally(t, draft+", samples", err == nil && len(faults) == 0, "%s: %s: %v %v of %s: %s", file, g.Description, err, faults, compact(g.Schema), b.Bytes())
	}
}

func compact(text []byte) string {
	var b bytes.Buffer
	if json.Compact(&b, text) != nil {
		return string(text)
	}
	return b.String()
}
