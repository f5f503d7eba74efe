package step

import (
	"context"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var callKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "call", Title: "Call an operation", Group: flow.Systems, About: "Asks a system with each record and adds what it answers: to do something there, or to read, which changes nothing.", Effect: true,
		Targets: true,
		Settings: setting.List{
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
			{Name: "operation", Label: "Operation", Type: setting.Operation, Required: true},
			{Name: "from", Label: "Request", Type: setting.Name, Help: "The name of a step's result that is the request as it is; or write it by fields"},
			{Name: "with", Label: "Request fields", Type: setting.Pairs, Help: "Fields of the request and their formulas"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "answer"},
			{Name: "records", Label: "If the response has several records", Type: setting.Choice, Default: string(running.OneRow), Choices: []string{string(running.OneRow), string(running.FirstRow), string(running.AllRows)}, Help: "Of an operation that reads: one, and more are a fault; the first; or all as a list"},
			{Name: "if missing", Older: []string{"none"}, Label: "If there is no response", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}},
		},
		Detail: func(s *flow.Step) string { return s.Setting("operation") },
	},
	Compile: compileCall,
}

func compileCall(c *compile.Compiler, s *flow.Step) running.Runner {
	op := c.Operation(s.Place("operation"), s.Setting("connection"), s.Setting("operation"))
	if op == nil {
		return running.PassOn
	}
	c.Cur.Op = op
	a := c.Ask(s.At, op, s)
	c.Cur.RequestBuilder, c.Cur.Upsert = a, running.UpsertOf(op)
	rows := running.Rows("")
	if op.Kind.Reads {
		rows = running.Rows(s.Setting("records"))
	}
	slot := -1
	switch {
	case op.Response == nil:
	case rows == running.AllRows:
		slot = c.Yield(s, "as", running.Named{Schema: op.Response, List: true}, formula.Type{Kind: value.ListKind, Item: formula.ItemOf(op.Response.Root)})
	default:
		slot = c.Define(s, "as", op.Response)
	}
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		asked, requests := asking(s, items, a.Request)
		if len(asked) == 0 {
			return nil
		}
		done, err := b.Systems.Call(ctx, running.Call{Op: op, Flow: c.Flow.ID, Step: s.ID, Items: asked, Rows: rows}, requests)
		if err != nil {
			return err
		}
		for i, it := range asked {
			b.PassedOver(s.ID, done[i].Ignored)
			called(s, op, it, slot, done[i])
		}
		return nil
	}
}

func called(s *flow.Step, op *connection.Operation, it *running.Item, slot int, d running.Response) {
	it.AddTurns(s.ID, d.Turns)
	if op.Changes() && d.Fault == nil {
		effect := running.Called
		if d.NotDone {
			effect = running.NotDone
		}
		it.Did(s.ID, effect)
	}
	if told := notDone(op, d); told != "" {
		it.Notes = append(it.Notes, it.Placed(s.ID, fault.New(fault.LogEntry, "%s", told))...)
	}
	switch {
	case d.Fault != nil:
		f := *d.Fault
		it.Aside(s.ID, f.InField(s.Name))
	case slot < 0:
	case d.Answer.Kind() != value.Absent:
		if f := wrongAnswer(op, d.Answer); f != nil {
			it.Aside(s.ID, f)
			return
		}
		it.Frame.Slots[slot] = d.Answer
	case s.Setting("if missing") == "skip":
		it.State, it.Step, it.Reason = running.Skipped, s.ID, op.Name+" answers nothing"
	case s.Setting("if missing") == "set aside":
		it.Aside(s.ID, fault.Expect(fault.NotFound, "an answer of "+op.Name, "none").InField(s.Name).
			WithFix("Add there what is asked for, or mend the record"))
	}
}

// notDone says what stands in place of an answer of what was not done; empty where it was done.
func notDone(op *connection.Operation, d running.Response) string {
	switch {
	case !d.NotDone || d.Fault != nil || op.Response == nil:
		return ""
	case !op.Changes():
		return "Not asked yet: this is the kept sample of its answer."
	case d.MadeUp:
		return "Nothing was asked: a try changes no system. This answer is made up; keep a sample of a real one with " + op.Name + "."
	}
	return "Nothing was asked: a try changes no system. This is the kept sample of its answer."
}

// wrongAnswer is the first value of what an operation that reads has answered that is not of its type: formulas could not
// work with it.
func wrongAnswer(op *connection.Operation, answer value.Value) *fault.Fault {
	if op.Changes() { // what was done is done
		return nil
	}
	rows := answer.Items()
	if answer.Kind() == value.RecordKind {
		rows = []value.Value{answer}
	}
	for _, row := range rows {
		if f := running.FirstFault(op.Response, row); f != nil && f.Code == fault.Type {
			return f.WithFix("The system answered with it: convert it in the operation, for example in its statement, or take the field as text")
		}
	}
	return nil
}
