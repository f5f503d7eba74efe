package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/setting"
)

var runFlowKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "run flow", Older: []string{"flow"}, Title: "Run a flow", Group: flow.GroupRun, Lasting: true, About: "Runs another flow with each record, as a run of its own: waits for its answer, or only begins it.",
		Targets: true,
		Settings: setting.List{
			{Name: "flow", Label: "Flow", Type: setting.Part, Of: "flow", Required: true, Help: "One that is called by others, or by a person with a form"},
			{Name: "from", Label: "Message", Type: setting.Name, Help: "The name of a record that is the flow's input; or write it by fields"},
			{Name: "with", Label: "Message fields", Type: setting.Pairs, Help: "Fields of its input and their formulas"},
			{Name: "wait", Label: "Wait for its end", Type: setting.Choice, Default: "yes", Choices: []string{"yes", "no"}, Help: "No: it goes on by itself, and its faults are its own"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "answer"},
			{Name: "records set aside", Label: "When it sets records aside", Type: setting.Choice, Was: older, Default: "continue", Choices: []string{"continue", "set aside", "stop"}, Rare: true, Help: "The called run has ended, and some of its records wait for somebody there: go on with a note, set aside the record that it was called for, or stop this run"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			if s.Setting("wait") == "no" {
				return s.Setting("flow") + ", not waiting"
			}
			return s.Setting("flow")
		},
	},
	Compile: compileRunFlow,
}

func compileRunFlow(c *compile.Compiler, s *flow.Step) running.Runner {
	id := s.Setting("flow")
	if id == "" {
		return running.PassOn
	}
	contract := c.Parts.Contract(id)
	switch {
	case contract == nil:
		c.Fault(s.Place("flow"), fault.New(fault.Unknown, "there is no flow %q that can be called", id).WithFix("It is to be started by another flow, or by a person"))
		return running.PassOn
	case id == c.Flow.ID:
		c.Fault(s.Place("flow"), fault.New(fault.Setting, "the flow would run itself for ever"))
		return running.PassOn
	}
	c.Cur.Calls = contract
	c.Plan.Flows = append(c.Plan.Flows, id)
	var a *running.Filled
	if contract.Input != nil {
		a = c.Fill(s, s.At, contract.Input, contract.Title)
	}
	wait, slot := s.Setting("wait") == "yes", -1
	if wait && contract.Output != nil {
		slot = c.Define(s, "as", contract.Output)
	}
	input := running.RequestBuilder{Filled: a}
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		asked, inputs := asking(s, items, input.Request)
		if len(asked) == 0 {
			return nil
		}
		done, err := b.Runtime.Start(ctx, running.FlowCall{Flow: contract, From: c.Flow.ID, Step: s.ID, Wait: wait, Items: asked}, inputs)
		if err != nil {
			return err
		}
		for i, it := range asked {
			if done[i].Fault == nil && slot >= 0 {
				it.Frame.Slots[slot] = done[i].Answer
			}
			calledRun(b, s, it, done[i])
		}
		return nil
	}
}

// calledRun deals with what became of a called run: a fault of it sets the record aside that it was called for; records that it
// has set aside do what the step says.
func calledRun(b *running.Batch, s *flow.Step, it *running.Item, d running.Response) {
	if d.Fault != nil {
		f := *d.Fault
		it.Aside(s.ID, f.InField(s.Name))
		return
	}
	if d.Aside == 0 {
		return
	}
	f := fault.New(fault.Outside, "the called run has set aside %s", plural(d.Aside, "record")).WithFix("Open it from this run, and mend them there").InField(s.Name)
	switch s.Setting("records set aside") {
	case "set aside":
		it.Aside(s.ID, f)
	case "stop":
		it.Aside(s.ID, f)
		b.StopAt(it.Root().Record, f)
	default:
		it.Notes = append(it.Notes, it.Placed(s.ID, f)...)
	}
}
