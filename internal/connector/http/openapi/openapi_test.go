package openapi

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const document = `
openapi: 3.0.3
info: {title: Tariff, version: "1"}
servers: [{url: "https://tariff.example/api/"}]
security: [{consent: [fares]}]
paths:
  /routes/{route-id}/fares:
    parameters:
      - {name: route-id, in: path, required: true, schema: {type: integer}}
    get:
      operationId: listFares
      parameters:
        - {name: classes, in: query, schema: {type: array, items: {type: string}}}
        - {name: X-Agent, in: header, schema: {type: string}}
        - {name: shade, in: cookie, schema: {type: string}}
        - {name: offset, in: query, schema: {type: integer}}
        - {name: day, in: query, schema: {type: string, format: date}}
      responses:
        "200":
          description: fares
          content:
            application/json:
              schema: {type: array, items: {$ref: "#/components/schemas/Fare"}}
    post:
      requestBody:
        content:
          application/x-www-form-urlencoded:
            schema: {type: object, required: [amount], properties: {amount: {type: number}}}
      responses:
        "201": {description: made, content: {application/json: {schema: {$ref: "#/components/schemas/Fare"}}}}
  /photo:
    put:
      operationId: putPhoto
      requestBody: {content: {image/png: {schema: {type: string, format: binary}}}}
      responses: {"204": {description: kept}}
components:
  securitySchemes:
    consent:
      type: oauth2
      flows: {authorizationCode: {authorizationUrl: "https://tariff.example/ask", tokenUrl: "https://tariff.example/token", scopes: {fares: read fares, more: and more}}}
  schemas:
    Fare:
      type: object
      required: [amount]
      properties:
        amount: {type: number}
        tax: {type: object, properties: {rate: {type: number}}}
`

func TestADocumentBecomesOperations(t *testing.T) {
	im, err := Take("tariff", "tariff.yaml", []byte(document))
	require.NoError(t, err)
	require.Equal(t, map[string]string{
		"address": "https://tariff.example/api", "sign in": "oauth consent", "authorize at": "https://tariff.example/ask", "token at": "https://tariff.example/token", "scopes": "fares more",
	}, im.Settings)
	require.Equal(t, []string{"put-photo: a body of image/png is left out", "list-fares: the parameter shade in cookie is left out"}, im.Notes)
	out := partfile.Ordered{{Key: "operations", Value: im.Operations}}
	require.Equal(t, `operations:
  - operation: put-photo
    name: put-photo
    kind: call
    method: PUT
    path: /photo
  - operation: list-fares
    name: list-fares
    kind: read
    response: tariff-fare
    path: /routes/{route_id}/fares
    query:
      classes: classes
      day: day
    headers:
      X-Agent: X_Agent
    request: tariff-list-fares-request
    pages: offset
    page: offset
  - operation: post-routes-route-id-fares
    name: post-routes-route-id-fares
    kind: call
    response: tariff-fare
    path: /routes/{route_id}/fares
    body: body
    media: application/x-www-form-urlencoded
    request: tariff-post-routes-route-id-fares-request
`, string(partfile.Encode(out)))
	fields := map[string]*schema.Field{}
	for _, s := range im.Schemas {
		s.Root.Walk(func(path []string, f *schema.Field) { fields[s.ID+" "+f.Name] = f })
	}
	require.Equal(t, value.Integer, fields["tariff-list-fares-request route_id"].Kind)
	require.True(t, fields["tariff-list-fares-request route_id"].Required())
	require.True(t, fields["tariff-list-fares-request classes"].List())
	require.Equal(t, value.Date, fields["tariff-list-fares-request day"].Kind)
	require.Equal(t, value.Decimal, fields["tariff-fare rate"].Kind)
	require.NotContains(t, fields, "tariff-list-fares-request offset", "pages are followed by themselves")
}

func TestWhatIsNoDocumentIsRefused(t *testing.T) {
	for text, want := range map[string]string{"": "openapi", "openapi: 2.0.1\ninfo: {title: a, version: b}\npaths: {}": "an OpenAPI 3 document", "{": "cannot be read", "swagger: '2.0'": "an OpenAPI 3 document"} {
		_, err := Take("x", "x.yaml", []byte(text))
		require.ErrorContains(t, err, want, text)
	}
	_, err := Take("x", "x.yaml", []byte("openapi: 3.0.0\ninfo: {title: a, version: b}\npaths: {/a: {$ref: 'http://169.254.169.254/x.yaml'}}"))
	require.Error(t, err, "nothing is fetched from elsewhere")
}

// TestNoFieldOfAnAnswerIsDropped: a list is taken as the records only where there is nothing beside it but paging; else the
// answer is taken as a whole, and its entries are proposed.
func TestNoFieldOfAnAnswerIsDropped(t *testing.T) {
	const answers = `
openapi: 3.0.3
info: {title: Bills, version: "1"}
paths:
  /bills/{no}:
    get:
      operationId: getBill
      parameters: [{name: no, in: path, required: true, schema: {type: string}}]
      responses: {"200": {description: a bill, content: {application/json: {schema: {type: object, properties: {amount: {type: number}, currency: {type: string}, lines: {type: array, items: {type: object, properties: {text: {type: string}}}}}}}}}}
  /bills:
    get:
      operationId: listBills
      responses: {"200": {description: bills, content: {application/json: {schema: {type: object, properties: {total_count: {type: integer}, next: {type: string}, bills: {type: array, items: {type: object, properties: {no: {type: string}}}}}}}}}}
`
	taken, err := Take("bills", "bills.yaml", []byte(answers))
	require.NoError(t, err)
	require.Equal(t, []string{"get-bill: its answer is taken as a whole. To read the entries of lines as records, set Records to /lines; then amount, currency would be left out"}, taken.Notes)
	fields := map[string][]string{}
	for _, s := range taken.Schemas {
		for _, f := range s.Root.Fields {
			fields[s.ID] = append(fields[s.ID], f.Name)
		}
	}
	require.ElementsMatch(t, []string{"amount", "currency", "lines"}, fields["bills-get-bill"])
	require.Equal(t, []string{"no"}, fields["bills-list-bills"])
}

// TestNamesWithoutALatinLetter: a schema or an operation that no id can be made of gets one all the same.
func TestNamesWithoutALatinLetter(t *testing.T) {
	im, err := Take("x", "x.yaml", []byte(`
openapi: 3.0.3
info: {title: Bills, version: "1"}
paths:
  /:
    get: {operationId: "π", responses: {"200": {description: a, content: {application/json: {schema: {$ref: "#/components/schemas/-"}}}}}}
    put: {operationId: "ρ", responses: {"204": {description: a}}}
components: {schemas: {"-": {type: object, properties: {a: {type: string}}}}}
`))
	require.NoError(t, err)
	var ids []any
	for _, o := range im.Operations {
		ids = append(ids, o[0].Value)
	}
	require.Equal(t, []any{"operation", "operation-2"}, ids)
	require.Len(t, im.Schemas, 1)
	require.Equal(t, "x-schema-1", im.Schemas[0].ID)
	require.Equal(t, "Schema 1", im.Schemas[0].Title)
}

// TestADocumentIsReadOnce: however many operations it has; there is a bound on them.
func TestADocumentIsReadOnce(t *testing.T) {
	many := func(n int) []byte {
		var b strings.Builder
		b.WriteString("openapi: 3.0.3\ninfo: {title: Many, version: \"1\"}\npaths:\n")
		for i := range n {
			fmt.Fprintf(&b, "  /p%d: {get: {responses: {\"200\": {description: a, content: {application/json: {schema: {type: object, properties: {a: {type: string}}}}}}}}}\n", i)
		}
		return []byte(b.String())
	}
	im, err := Take("x", "x.yaml", many(1500))
	require.NoError(t, err)
	require.Len(t, im.Operations, 1500)
	_, err = Take("x", "x.yaml", many(mostOperations+1))
	require.ErrorContains(t, err, "more than 2000 operations")
}

// TestParametersOfLikeNames: each has a field of its own, that of the operation goes before that of its path, and what has no name
// is left out and said.
func TestParametersOfLikeNames(t *testing.T) {
	im, err := Take("x", "x.yaml", []byte(`
openapi: 3.0.3
info: {title: Bills, version: "1"}
paths:
  /bills:
    parameters: [{name: day, in: query, schema: {type: string}}, {in: path}]
    post:
      operationId: find
      parameters:
        - {name: day, in: query, required: true, schema: {type: string, format: date}}
        - {name: "filter[a]", in: query}
        - {name: filter.a, in: query}
        - {name: filter.a, in: header}
        - {name: body, in: query}
        - {name: "?", in: query}
      requestBody: {required: true, content: {application/json: {schema: {type: object, properties: {a: {type: string}}}}}}
      responses: {"204": {description: a}}
`))
	require.NoError(t, err)
	var names []string
	for _, f := range im.Schemas[0].Root.Fields {
		names = append(names, f.Name)
	}
	require.Equal(t, []string{"day", "filter_a", "filter_a_2", "filter_a_3", "body", "parameter", "body_2"}, names)
	require.Equal(t, value.Date, im.Schemas[0].Root.Fields[0].Kind)
	op := map[string]any{}
	for _, pair := range im.Operations[0] {
		op[pair.Key] = pair.Value
	}
	require.Equal(t, "body_2", op["body"])
	require.Equal(t, partfile.Ordered{{Key: "day", Value: "day"}, {Key: "filter[a]", Value: "filter_a"}, {Key: "filter.a", Value: "filter_a_2"}, {Key: "body", Value: "body"}, {Key: "?", Value: "parameter"}}, op["query"])
	require.Contains(t, strings.Join(im.Notes, "\n"), "a parameter without a name")
}

// TestNothingInAPlaceOfSomething: null stands where the document should have something.
func TestNothingInAPlaceOfSomething(t *testing.T) {
	for what, text := range map[string]string{
		"a path": "/a: null", "an operation": "/a: {get: null}", "responses": "/a: {get: {responses: null}}", "a response": "/a: {get: {responses: {'200': null}}}",
		"content": "/a: {get: {responses: {'200': {description: a, content: null}}}}", "a media type": "/a: {get: {responses: {'200': {description: a, content: {application/json: null}}}}}",
		"a schema": "/a: {get: {responses: {'200': {description: a, content: {application/json: {schema: null}}}}}}", "a body": "/a: {post: {requestBody: null}}",
		"a body's media type": "/a: {post: {requestBody: {content: {application/json: null}}}}", "a parameter": "/a: {parameters: [null], get: {parameters: [null]}}",
		"a property": "/a: {get: {responses: {'200': {description: a, content: {application/json: {schema: {type: object, properties: {a: null, b: {type: array, items: null}}}}}}}}}",
		"a header":   "/a: {get: {responses: {'200': {description: a, headers: {Link: null}, content: {a+json: {schema: {type: array, items: null}}}}}}}",
	} {
		require.NotPanics(t, func() {
			_, _ = Take("x", "x.yaml", []byte("openapi: 3.0.3\ninfo: null\nservers: [null]\nsecurity: [null, {a: []}]\ncomponents: {securitySchemes: {a: null}, schemas: {a: null}}\npaths:\n  "+text))
		}, what)
	}
	require.NotPanics(t, func() { _, _ = Take("x", "x.yaml", []byte("openapi: 3.0.3\npaths: null")) })
}

// TestParametersKeepTheirCodes: and their lengths; what is no list of codes leaves the field as it is.
func TestParametersKeepTheirCodes(t *testing.T) {
	im, err := Take("x", "x.yaml", []byte(`
openapi: 3.0.3
info: {title: Bills, version: "1"}
paths:
  /bills:
    get:
      parameters:
        - {name: state, in: query, schema: {type: string, enum: [open, paid], maxLength: 8}}
        - {name: year, in: query, schema: {type: integer, enum: [2030, 2031]}}
        - {name: kinds, in: query, schema: {type: array, items: {type: string, enum: [a, b]}}}
        - {name: any, in: query, schema: {type: string, nullable: true, enum: [x, null]}}
      responses: {"200": {description: a, content: {application/json: {schema: {type: object, properties: {a: {type: string}}}}}}}
`))
	require.NoError(t, err)
	got := map[string]string{}
	for _, s := range im.Schemas {
		for _, f := range s.Root.Fields {
			for _, c := range f.Constraints.Codes {
				got[f.Name] += c.Value + " "
			}
			if f.Name == "state" {
				require.Equal(t, 8, f.Constraints.MaxLength)
			}
		}
	}
	require.Equal(t, map[string]string{"state": "open paid ", "year": "2030 2031 ", "kinds": "a b "}, got)
}
