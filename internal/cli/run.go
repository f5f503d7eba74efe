package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"hollowreed/internal/connector"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const (
	runBatch      = 500
	maxSampleRows = 100_000
)

type runFlags struct {
	input, settings string
	really          bool
}

func (e env) run() *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use:   "run FOLDER FLOW --input FILE",
		Short: "Run a flow over a file",
		Long: `Runs one of the project's flows over a file, as if the file had just arrived.

Unless --really is given nothing outside is touched: look-ups are answered from the samples kept
with the row's schema, and what would be written is shown on standard output, one JSON value a
line. Counts and records set aside are said on standard error. With --really the connections are
those of the settings file.

Ends with 1 when a record was set aside.`,
		Example: `  hollowreed run demo gauge-readings --input demo/samples/sk_0309.tide`,
		Args:    cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			lean()
			p, err := load(args[0])
			if err != nil {
				return err
			}
			return e.runFlow(cmd, p, filepath.Base(strings.TrimSuffix(args[1], ".yaml")), f)
		},
	}
	c.Flags().StringVar(&f.input, "input", "", "file to read; - for standard input")
	c.Flags().BoolVar(&f.really, "really", false, "reach the outside systems and write to them")
	c.Flags().StringVar(&f.settings, "settings", "", "YAML file with the settings of each connection; needed with --really")
	c.MarkFlagRequired("input")
	return c
}

func (e env) runFlow(cmd *cobra.Command, p *project.Project, id string, f runFlags) error {
	plan := p.Flow(id)
	if plan == nil {
		return missing(p, project.Flows, id)
	}
	if len(plan.Faults) > 0 {
		return plan.Faults[0]
	}
	outside, done, err := e.outside(cmd.Context(), p, f)
	if err != nil {
		return err
	}
	defer done()
	in, err := open(cmd, f.input)
	if err != nil {
		return err
	}
	defer in.Close()
	of := plan.Source
	if plan.ReadStep == nil {
		of = plan.Input
	}
	now := time.Now().UTC()
	d := &drive{env: e, plan: plan, outside: outside, input: f.input, totals: map[string]*flow.Counts{}, tally: &flow.Totals{}}
	d.facts = flow.Facts{ID: uuid.NewString(), File: filepath.Base(f.input), Reference: filepath.Base(f.input), Started: value.Instant(now), Request: p.TriedRequest(plan)}
	d.house = &flow.DryHouse{Outside: outside, Plan: p.Flow, At: now, Facts: d.facts}
	if of == nil && plan.Flow.Trigger.Kind == "request" && f.input != "" {
		body, err := io.ReadAll(io.LimitReader(in, project.MaxPart))
		if err != nil {
			return err
		}
		text := string(body)
		d.facts.Request = plan.Flow.Trigger.Tried(&text)
	}
	if of == nil {
		return d.run(cmd.Context(), nil)
	}
	n, err := all.Named(of.Notation)
	if err != nil {
		return err
	}
	r, err := n.NewReader(in, notation.Options{Source: f.input, Schema: of})
	if err != nil {
		return err
	}
	return d.run(cmd.Context(), r)
}

func (e env) outside(ctx context.Context, p *project.Project, f runFlags) (flow.Outside, func(), error) {
	if !f.really {
		rows := e.showRows()
		return &flow.Dry{
			Rows: func(s *schema.Schema) ([]value.Value, error) { return p.SampleRecords(s, maxSampleRows) },
			Tell: rows.tell,
		}, rows.close, nil
	}
	if f.settings == "" {
		return nil, nil, fault.New(fault.Required, "--really needs --settings FILE with the connections")
	}
	settings, err := connector.ReadFixed(f.settings)
	if err != nil {
		return nil, nil, err
	}
	pool := connector.NewPool(settings, connector.Rules{})
	return pool, pool.Close, nil
}

// drive takes one message through a flow.
type drive struct {
	env
	plan    *flow.Plan
	outside flow.Outside
	house   flow.House
	facts   flow.Facts
	input   string
	totals  map[string]*flow.Counts
	tally   *flow.Totals
	whole   *flow.Item
	aside   int
}

func (d *drive) batch() *flow.Batch {
	return &flow.Batch{Plan: d.plan, Outside: d.outside, House: d.house, Try: 1, Totals: d.tally}
}

// run does the head, every record and the tail, and says what became of them.
func (d *drive) run(ctx context.Context, r notation.Reader) error {
	input := value.Value{}
	if d.plan.ReadStep == nil && r != nil {
		var err error
		if input, err = r.Next(); err != nil {
			return err
		}
	}
	d.whole = d.plan.Whole(d.facts, input)
	if err := d.pass(ctx, d.plan.Head); err != nil {
		return err
	}
	if d.plan.ReadStep != nil && d.whole.State == flow.Done {
		if err := d.records(ctx, flow.NewSource(d.plan, r, d.facts).Within(d.whole)); err != nil {
			return err
		}
		d.plan.Tallied(d.whole, d.tally.Values)
		if err := d.pass(ctx, d.plan.Tail); err != nil {
			return err
		}
	}
	d.counts(d.plan, d.totals)
	if d.aside > 0 {
		return errFaults
	}
	return nil
}

// pass takes the run as a whole through steps.
func (d *drive) pass(ctx context.Context, steps []*flow.PlannedStep) error {
	b := d.batch()
	d.whole.State = flow.Live
	if err := b.Pass(ctx, steps, d.whole); err != nil {
		return err
	}
	return d.done(b, []*flow.Item{d.whole})
}

func (d *drive) records(ctx context.Context, src *flow.Source) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for p := range ahead(ctx, d.batch, src) {
		next := <-p
		if next.err == io.EOF {
			break
		}
		if next.err != nil {
			return next.err
		}
		if err := next.batch.Run(ctx, next.items); err != nil {
			return err
		}
		if err := d.done(next.batch, next.items); err != nil {
			return err
		}
	}
	if src.Taken() == 0 {
		return flow.Empty(d.input)
	}
	return nil
}

// done adds up what a batch did; its error is the fault at which the run stops.
func (d *drive) done(b *flow.Batch, items []*flow.Item) error {
	for id, c := range b.Counts {
		if d.totals[id] == nil {
			d.totals[id] = &flow.Counts{}
		}
		d.totals[id].Add(c)
	}
	for _, e := range b.Events {
		fmt.Fprintln(d.err, "event: "+e.Text)
	}
	d.aside += d.tell(items)
	if b.Stopped != nil && b.Stopped.Fault != nil {
		return b.Stopped.Fault
	}
	return nil
}

// rows shows what would be written, one JSON value a line, beside the work on the next ones.
type rows struct {
	pending []value.Value
	full    chan []value.Value
	written chan struct{}
}

func (e env) showRows() *rows {
	r := &rows{full: make(chan []value.Value, 8), written: make(chan struct{})}
	go func() {
		defer close(r.written)
		var enc json.Appender
		var lines []byte
		for batch := range r.full {
			lines = lines[:0]
			for _, row := range batch {
				lines = append(enc.Append(lines, row), '\n')
			}
			e.out.Write(lines)
		}
	}()
	return r
}

func (r *rows) tell(_ flow.Upsert, row value.Value) {
	if r.pending == nil {
		r.pending = make([]value.Value, 0, runBatch)
	}
	if r.pending = append(r.pending, row); len(r.pending) == runBatch {
		r.full <- r.pending
		r.pending = nil
	}
}

func (r *rows) close() {
	r.full <- r.pending
	close(r.full)
	<-r.written
}

// prepared is a batch that has passed all steps that reach nothing outside.
type prepared struct {
	batch *flow.Batch
	items []*flow.Item
	err   error
}

// ahead reads and prepares batches while others are worked on, and gives them in their order.
func ahead(ctx context.Context, batch func() *flow.Batch, src *flow.Source) <-chan chan prepared {
	out := make(chan chan prepared, 8)
	go func() {
		defer close(out)
		for {
			items, err := src.Batch(runBatch)
			p := make(chan prepared, 1)
			select {
			case out <- p:
			case <-ctx.Done():
				return
			}
			if err != nil {
				p <- prepared{err: err}
				return
			}
			go func() {
				b := batch()
				err := b.Prepare(ctx, items)
				p <- prepared{b, items, err}
			}()
		}
	}()
	return out
}

func (e env) tell(items []*flow.Item) (aside int) {
	for _, it := range items {
		if it.State != flow.SetAside {
			aside += e.tell(it.Inner)
			continue
		}
		aside++
		sort.SliceStable(it.Faults, func(i, j int) bool { return it.Faults[i].Place.Column < it.Faults[j].Place.Column })
		for _, f := range it.Faults {
			fmt.Fprintln(e.err, "set aside: "+f.Error())
		}
	}
	return aside
}

func (e env) counts(plan *flow.Plan, totals map[string]*flow.Counts) {
	for _, ps := range plan.Steps {
		c := totals[ps.Step.ID]
		if c == nil || ps.Step.Kind == "each" {
			continue
		}
		fmt.Fprintf(e.err, "%-20s %6d in %6d out", ps.Step.Name, c.In, c.Out)
		for _, more := range []struct {
			n    int
			what string
		}{{c.LeftOut, "left out"}, {c.SetAside, "set aside"}, {c.Inserted, "inserted"}, {c.Updated, "updated"}, {c.Unchanged, "unchanged"}} {
			if more.n > 0 {
				fmt.Fprintf(e.err, ", %d %s", more.n, more.what)
			}
		}
		fmt.Fprintln(e.err)
	}
}
