package compile

import (
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/schema"
)

// Kind is a kind of step with what the compiler does for it.
type Kind struct {
	flow.Kind
	Compile func(c *Compiler, s *flow.Step) running.Runner // checks the step, defines what it yields, and gives what it does
	Ending  func(c *Compiler, s *flow.Step) Ending         // how the ways through it end, for the answer; nil: all pass on
}

// TriggerKind is a kind of trigger with what the compiler checks of it.
type TriggerKind struct {
	flow.TriggerKind
	Check func(c *Compiler, t flow.Trigger) // nil: there is nothing to check but its settings
}

var (
	stepKinds    = map[string]*Kind{}
	triggerKinds = map[string]*TriggerKind{}
)

// Register makes kinds of step known: how they are described, and how they are compiled.
func Register(kinds []*Kind) {
	for _, k := range kinds {
		flow.Kinds = append(flow.Kinds, &k.Kind)
		stepKinds[k.Name] = k
	}
}

// RegisterTriggers makes kinds of trigger known.
func RegisterTriggers(kinds []*TriggerKind) {
	for _, k := range kinds {
		flow.Triggers = append(flow.Triggers, &k.TriggerKind)
		triggerKinds[k.Name] = k
	}
}

// Parts finds what a flow refers to; nil when there is no such part.
type Parts interface {
	Schema(id string) *schema.Schema
	Mapping(id string) *mapping.Plan
	Connection(id string) *connection.Connection
	Formulas() formula.Env
	Contract(flow string) *running.Contract
	API(id string) *api.API
	Channel(id string) *channel.Channel
}
