package project

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/demo"
)

// TestAFieldComesFromAnOperation: with the fare's step taken out of the demo's flow, its price comes from the Tariff again, asked with
// what the Registry has said; what is in scope is proposed as such.
func TestAFieldComesFromAnOperation(t *testing.T) {
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	texts = maps.Clone(texts)
	flow := texts["flows/fare-quote.yaml"]
	from, to := strings.Index(flow, "          - step: cache"), strings.Index(flow, "          - step: respond\n            id: respond")
	flow = flow[:from] + flow[to:]
	for _, field := range []string{"price: fare.fare", "currency: fare.currency", "valid_until: fare.validUntil", "vehicle_class: vehicle.vehicleClass"} {
		flow = strings.Replace(flow, "              "+field+"\n", "", 1)
	}
	texts["flows/fare-quote.yaml"] = flow
	p := Load("demo", texts)
	plan := p.Flow("fare-quote")
	ps := plan.Planned("respond")
	var open []string
	for _, f := range p.OpenFields(ps) {
		open = append(open, f.Name)
	}
	require.Equal(t, []string{"vehicle_class", "price", "currency", "valid_until"}, open)
	class := p.FieldOrigins(ps, p.OpenFields(ps)[0], 3)
	require.Empty(t, class[0].Calls, "it is in scope")
	require.Equal(t, "vehicleClass", class[0].Answer[0].From.Leaf.Name())

	price := p.OpenFields(ps)[1]
	list := p.FieldOrigins(ps, price, 3)
	require.NotEmpty(t, list)
	require.Contains(t, p.ChainOf(list[0]), "Tariff")
	text, err := p.FillFrom(ps, price, list[0], []byte(flow))
	require.NoError(t, err)
	texts["flows/fare-quote.yaml"] = string(text)
	now := Load("demo", texts).Flow("fare-quote")
	for _, f := range now.Faults {
		require.Contains(t, f.What(), "the answer needs ", "only what is still open is at fault")
	}
	filled := now.Planned("respond")
	require.Equal(t, "fare.fare", filled.Step.Match[len(filled.Step.Match)-1].Formula.Value)
	call := now.Flow.Step("fare")
	require.NotNil(t, call)
	require.Equal(t, []string{"tariff", "get-fare"}, []string{call.Setting("connection"), call.Setting("operation")})
	asked := map[string]string{}
	for _, m := range call.Match {
		asked[m.Name.Value] = m.Formula.Value
	}
	require.Equal(t, map[string]string{"class": "vehicle.vehicleClass", "length_m": "vehicle.lengthMm * 0.001", "route": "request.parameters.route"}, asked)
}
