package contract

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAContractIsDrawn: from nothing, operation by operation; what a form cannot say stays as it is, and a document in JSON stays in JSON.
func TestAContractIsDrawn(t *testing.T) {
	began, err := as([]byte("{"), NewDocument("Slips"))
	require.NoError(t, err)
	t.Run("YAML", func(t *testing.T) { contractIsDrawn(t, NewDocument("Slips")) })
	t.Run("JSON", func(t *testing.T) { require.True(t, json.Valid(contractIsDrawn(t, began))) })
}

func contractIsDrawn(t *testing.T, text []byte) []byte {
	k, err := Read("contract", text)
	require.NoError(t, err)
	require.Empty(t, k.Faults)
	draw := func(d *Drawn, schemas map[string][]byte) {
		t.Helper()
		k, err := Read("contract", text)
		require.NoError(t, err)
		out, err := d.Write(text, k, schemas)
		require.NoError(t, err)
		text = out
	}
	draw(&Drawn{Method: "POST", Path: "/slips", ID: "add", Summary: "Adds a slip", Body: "Slip", BodyRequired: true, Answers: []DrawnAnswer{{Status: "201", About: "added", Schema: "Slip"}, {Status: "422"}}},
		map[string][]byte{"Slip": []byte(`{"type": "object", "required": ["code"], "properties": {"code": {"type": "string", "maxLength": 8}, "metres": {"type": "number"}}}`)})
	draw(&Drawn{Method: "GET", Path: "/slips/{code}", ID: "slip", Parameters: []DrawnParameter{{Name: "lang", In: "query", Type: "text", Example: "no"}, {Name: ""}}, Answers: []DrawnAnswer{{Status: "200", Schema: "Slip"}, {Status: "404", About: "no such slip"}}}, nil)
	k, err = Read("contract", text)
	require.NoError(t, err)
	require.Empty(t, k.Faults, string(text))
	require.Equal(t, []string{"POST /slips", "GET /slips/{code}"}, []string{k.Operations[0].Name(), k.Operations[1].Name()})
	require.True(t, k.Operation("add").Body.Required)
	slip := k.Operation("slip")
	require.Len(t, slip.Parameters, 2)
	s, err := k.Schema(k.Operation("add").Body.Media[0].Schema)
	require.NoError(t, err)
	require.Equal(t, "code", s.Schema.Root.Fields[0].Name)

	d, err := k.Draw(text, "slip")
	require.NoError(t, err)
	require.Equal(t, &Drawn{
		Was: "slip", Method: "GET", Path: "/slips/{code}", ID: "slip", Parameters: []DrawnParameter{{Name: "lang", In: "query", Type: "text", Example: "no"}, {Name: "code", In: "path", Type: "text", Required: true}},
		Answers: []DrawnAnswer{{Status: "200", About: "the response", Schema: "Slip"}, {Status: "404", About: "no such slip"}},
	}, d)
	d.Path, d.ID, d.Parameters[0].Name, d.Parameters[0].Type = "/quays/{code}", "quay", "", "integer"
	d.Answers = d.Answers[:1]
	draw(d, nil)
	k, err = Read("contract", text)
	require.NoError(t, err)
	require.Empty(t, k.Faults, string(text))
	require.Nil(t, k.Operation("slip"))
	quay := k.Operation("quay")
	require.Equal(t, "GET /quays/{code}", quay.Name())
	require.Len(t, quay.Parameters, 1)
	require.Len(t, quay.Answers, 1)

	text, err = Without(text, quay)
	require.NoError(t, err)
	text, err = Without(text, k.Operation("add"))
	require.NoError(t, err)
	k, err = Read("contract", text)
	require.NoError(t, err)
	require.Empty(t, k.Operations)
	require.Empty(t, k.Faults)
	return text
}

// TestWhatAFormCannotSayStays: comments, patterns, other contents, references, headers, security.
func TestWhatAFormCannotSayStays(t *testing.T) {
	const text = `openapi: 3.1.0 # the standard
info: {title: Berths, version: "1"}
paths:
  /berths/{id}:
    get:
      operationId: berth
      tags: [harbour]
      # of the quay
      parameters:
        - name: id
          in: path
          required: true
          schema: {type: string, pattern: '^[A-Z]{2}$', example: OS}
        - $ref: '#/components/parameters/Lang'
        - name: at
          in: query
          schema: {type: object, properties: {lat: {type: number}}}
      responses:
        '200':
          description: the berth
          headers: {X-Tide: {schema: {type: integer}}}
          content:
            application/xml: {schema: {type: object}}
        default: {$ref: '#/components/responses/Problem'}
      security: [{key: []}]
components:
  parameters: {Lang: {name: lang, in: query, schema: {type: string}}}
  responses: {Problem: {description: a problem}}
  securitySchemes: {key: {type: apiKey, in: header, name: X-Key}}
`
	k, err := Read("contract", []byte(text))
	require.NoError(t, err)
	require.Empty(t, k.Faults)
	d, err := k.Draw([]byte(text), "berth")
	require.NoError(t, err)
	require.Equal(t, AsItIs, d.Parameters[2].Type)
	require.True(t, d.Parameters[1].Fixed)
	d.Summary = "One berth"
	d.Answers[0].About = "the berth, or what is left of it"
	out, err := d.Write([]byte(text), k, nil)
	require.NoError(t, err)
	now, err := Read("contract", out)
	require.NoError(t, err)
	require.Empty(t, now.Faults, string(out))
	for _, ch := range Compare(k, now) {
		require.False(t, ch.Breaks, ch)
	}
	for _, piece := range []string{"# of the quay", "# the standard", "pattern: '^[A-Z]{2}$'", "$ref: '#/components/parameters/Lang'", "X-Tide", "application/xml", "#/components/responses/Problem", "security:", "One berth", "what is left"} {
		require.Contains(t, string(out), piece)
	}

	for what, change := range map[string]func(d *Drawn){
		"a method":                func(d *Drawn) { d.Method = "FETCH" },
		"a path as":               func(d *Drawn) { d.Path = "berths" },
		"an id of":                func(d *Drawn) { d.ID = "a b" },
		"a status as":             func(d *Drawn) { d.Answers[0].Status = "999" },
		"at least one response":   func(d *Drawn) { d.Answers = nil },
		"a parameter of the path": func(d *Drawn) { d.Parameters = append(d.Parameters, DrawnParameter{Name: "x", In: "path"}) },
	} {
		d, err := k.Draw([]byte(text), "berth")
		require.NoError(t, err)
		change(d)
		_, err = d.Write([]byte(text), k, nil)
		require.ErrorContains(t, err, what)
	}
	_, err = d.Write([]byte(`<definitions/>`), k, nil)
	require.ErrorContains(t, err, "one in XML")
	other := &Drawn{Method: "GET", Path: "/berths/{id}", ID: "again", Answers: []DrawnAnswer{{Status: "200"}}}
	_, err = other.Write([]byte(text), k, nil)
	require.ErrorContains(t, err, "already")
}
