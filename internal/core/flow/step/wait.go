package step

import (
	"context"
	"strconv"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var waitKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "wait", Title: "Wait", Group: flow.GroupRun, Lasting: true, About: "Lets the run rest for a time, or until a time; it needs no worker while it does.",
		Begin: func(flow.Offering) partfile.Ordered { return partfile.Ordered{{Key: "seconds", Value: "60"}} },
		Settings: setting.List{
			{Name: "seconds", Label: "Duration (s)", Type: setting.Formula, Help: "A number, or a formula for one"},
			{Name: "until", Label: "Or until", Type: setting.Formula, Help: "A formula that is a timestamp"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			if s.Setting("until") != "" {
				return "until " + s.Setting("until")
			}
			return s.Setting("seconds") + " s"
		},
	},
	Compile: compileWait,
}

// maxWait bounds how long a run rests.
const maxWait = 366 * 24 * time.Hour

func compileWait(c *compile.Compiler, s *flow.Step) running.Runner {
	var prog *formula.Program
	seconds := s.Setting("seconds") != ""
	switch {
	case seconds == (s.Setting("until") != ""):
		c.Fault(s.At, fault.Expect(fault.Required, "either seconds or until", map[bool]string{true: "both", false: "neither"}[seconds]))
		return running.PassOn
	case seconds:
		prog = c.Want(s.Place("seconds"), value.Decimal, "a number")
	default:
		prog = c.Want(s.Place("until"), value.Timestamp, "a timestamp")
	}
	if prog == nil {
		return running.PassOn
	}
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		var waiting []*running.Item
		var until []time.Time
		for _, it := range items {
			it.Frame.Reset()
			v, f := prog.Eval(&it.Frame)
			if f == nil && v.IsMissing() {
				continue // until nothing: no wait
			}
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			at := b.Runtime.Now()
			if seconds {
				n, _ := strconv.ParseFloat(v.String(), 64)
				at = at.Add(time.Duration(min(max(n, 0), maxWait.Seconds()) * float64(time.Second)))
			} else if at = v.GoTime(); at.Sub(b.Runtime.Now()) > maxWait {
				it.Aside(s.ID, fault.Expect(fault.Range, "a time within a year", v.String()).InField(s.Name))
				continue
			}
			waiting, until = append(waiting, it), append(until, at)
		}
		if len(waiting) == 0 {
			return nil
		}
		return b.Runtime.Wait(ctx, s.ID, waiting, until)
	}
}
