package contract

import (
	"bytes"
	"encoding/json"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/fault"
)

// as is a changed document in the notation of another one: in JSON, or else in YAML.
func as(document, changed []byte) ([]byte, error) {
	if t := bytes.TrimSpace(document); len(t) == 0 || t[0] != '{' {
		return changed, nil
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(changed, &doc); err != nil || len(doc.Content) == 0 {
		return nil, fault.New(fault.Syntax, "the document cannot be read")
	}
	var out bytes.Buffer
	if err := json.Indent(&out, []byte(asJSON(node{doc.Content[0], ""})), "", "  "); err != nil {
		return nil, fault.New(fault.Syntax, "the document cannot be written as JSON: %s", err)
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}
