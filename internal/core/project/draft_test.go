package project

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/core/draft"
)

// TestAFlowIsDraftedFromContracts: of all operations of the demo's connections those of the Registry and the Tariff are proposed first,
// with what goes where; the flow that is made of it has no faults.
func TestAFlowIsDraftedFromContracts(t *testing.T) {
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	delete(texts, "flows/fare-quote.yaml")
	p := Load("demo", texts)
	list, err := p.ProposeFlows("fares", "quote", 3)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	pr := list[0]
	require.Len(t, pr.Calls, 2)
	require.Equal(t, "registry/get-vehicle", pr.Calls[0].Operation.ID)
	require.Equal(t, "tariff/get-fare", pr.Calls[1].Operation.ID)
	require.Empty(t, pr.Open)
	require.NotEmpty(t, pr.Calls[0].Cache)
	text := string(p.DraftFlow("fares", "quote", "Fare quote", pr, false))
	t.Log(text)
	require.Contains(t, text, "length_m: vehicle.lengthMm * 0.001")
	drafted := p.With("flows/fare-quote.yaml", text)
	require.Empty(t, drafted.Flow("fare-quote").Faults)
	cached := p.With("flows/fare-quote.yaml", string(p.DraftFlow("fares", "quote", "Fare quote", pr, true)))
	require.Empty(t, cached.Flow("fare-quote").Faults)
	require.Contains(t, cached.Texts["flows/fare-quote.yaml"], "step: cache")
	_, err = p.ProposeFlows("fares", "none", 3)
	require.ErrorIs(t, err, ErrNoPart)
}

// TestAConnectionBecomesAJSONAPI: a contract of its operations' schemas, and a flow for each; nothing of it has a fault.
func TestAConnectionBecomesAJSONAPI(t *testing.T) {
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	p := Load("demo", texts)
	for _, id := range []string{"berthmaster", "registry", "quayside", "noticeboard"} {
		made, err := p.PublishConnection(id, "as-json", "As JSON")
		require.NoError(t, err)
		require.Empty(t, made.Left, id)
		more := maps.Clone(texts)
		more["contracts/as-json.json"], more["apis/as-json.yaml"] = string(made.Document), "api: As JSON\ncontract: as-json.json\n"
		for flow, text := range made.Flows {
			more["flows/"+flow+".yaml"] = string(text)
		}
		q := Next(p, "demo", more)
		require.Empty(t, q.Faults, "%s: %s", id, made.Document)
		require.Len(t, q.AnsweredBy("as-json"), len(made.Flows))
	}
	_, err = p.PublishConnection("none", "x", "X")
	require.ErrorIs(t, err, ErrNoPart)
}

// TestAnAnswerIsDraftedFromASentence: and from an example; the contract that is made of it has the flow that was proposed.
func TestAnAnswerIsDraftedFromASentence(t *testing.T) {
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	p := Load("demo", texts)
	for _, w := range []*Wanted{
		{Title: "Fare of a vehicle", Text: "the price for a plate and a route, in kroner"},
		{Title: "Fare of a vehicle", Text: `{"plate": "SK 40117", "price": 361.36, "currency": "NOK"}`, Given: []string{"plate", "route"}},
	} {
		list, err := p.ProposeWanted(w, 3)
		require.NoError(t, err)
		require.NotEmpty(t, list)
		require.Equal(t, "Registry: A vehicle by its plate → Tariff: The fare for a class and length on a route", p.ChainOf(list[0]))
		document, operation, err := p.ContractFor(w, list[0])
		require.NoError(t, err)
		with := maps.Clone(texts)
		with["contracts/wanted.yaml"] = string(document)
		with["apis/wanted.yaml"] = "api: Wanted\ncontract: wanted.yaml\n"
		q := Load("demo", with)
		for _, f := range q.Faults {
			require.NotContains(t, f.Place.Source, "wanted", f)
		}
		again, err := q.ProposeFlows("wanted", operation, 5)
		require.NoError(t, err)
		at := slices.IndexFunc(again, func(pr draft.Proposal) bool { return SameCalls(pr, list[0]) })
		require.GreaterOrEqual(t, at, 0)
		require.Empty(t, again[at].Open)
	}
	_, err = p.ProposeWanted(&Wanted{Text: " "}, 3)
	require.ErrorContains(t, err, "a sentence or an example")
	_, err = p.ProposeWanted(&Wanted{Text: "of the"}, 3)
	require.Error(t, err)
}
