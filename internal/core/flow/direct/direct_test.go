package direct_test

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/core/project"
)

const joined = `openapi: 3.1.0
info: {title: Joined, version: "1"}
paths:
  /fares/{class}:
    get:
      operationId: fare
      parameters: [{name: class, in: path, required: true, schema: {type: string}}]
      responses: {"200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}}
  /orders:
    post:
      operationId: order
      requestBody: {required: true, content: {application/json: {schema: {type: object, properties: {vehicle: {type: object, properties: {class: {type: string}}}}}}}}
      responses: {"200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}}
components: {schemas: {Price: {type: object, required: [price], properties: {price: {type: number}}}}}
`

// TestFaultsOfStepsStandAtTheirSettings: before anything is released.
func TestFaultsOfStepsStandAtTheirSettings(t *testing.T) {
	demoTexts, err := project.Read(demo.Files)
	require.NoError(t, err)
	for way, want := range map[string]string{
		`{operation: fare, answered by: operation, connection: tariff, calls: no-such}`:                                                                     `no operation "no-such"`,
		`{operation: fare, answered by: operation, connection: nowhere, calls: x}`:                                                                          "there is no connection",
		`{operation: fare, answered by: operation, connection: tariff, calls: get-fare, with: {class: 1 + }}`:                                               "ends too early",
		`{operation: fare, answered by: operation, connection: tariff, calls: get-fare, respond: {price: response.nothing}}`:                                "nothing",
		`{operation: order, answered by: pass-through, connection: tariff, refuse if: input.vehicle.weight > 1}`:                                            "weight",
		`{operation: order, answered by: pass-through, connection: tariff, request mapping: no-such}`:                                                       "there is no mapping",
		`{operation: order, answered by: pass-through, connection: tariff, request headers: "X: ${nobody}"}`:                                                "nobody",
		`{operation: order, answered by: operation, connection: tariff, calls: get-fare, request mapping: order-to-fare, missing status: 418, respond: {}}`: "418",
	} {
		texts := maps.Clone(demoTexts)
		texts["contracts/prices.yaml"], texts["apis/prices.yaml"] = joined, "api: Joined\ncontract: prices.yaml\noperations:\n  - "+way+"\n"
		p := project.Load("x", texts)
		var found []string
		for _, f := range p.Faults {
			if f.Place.Source == "apis/prices.yaml" && f.Place.Line == 4 {
				found = append(found, f.What())
			}
		}
		require.Contains(t, strings.Join(found, "\n"), want, "%s: %v", way, p.Faults)
	}
}
