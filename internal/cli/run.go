package cli

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"hollowreed/internal/connector"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/outfile"
)

const (
	runBatch      = 500
	maxSampleRows = 100_000
	maxShown      = 16 << 20 // bytes of a file that would be written
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
		Long: `Runs one of the project's flows over a file, as if the file had just arrived; without --input over
the sample of what it reads.

Unless --really is given nothing outside is touched: look-ups and reads are answered from the samples
kept with their schemas, and what would be done is shown on standard output, one JSON value a line:
rows that would be written to a table as they are, requests that would be sent, files that would be
written and the answer of the run with their names. Counts and records set aside are said on standard
error. With --really the connections are those of the settings file.

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
	c.Flags().StringVar(&f.input, "input", "", "file to read; - for standard input; the sample of what the flow reads, where none is named")
	c.Flags().BoolVar(&f.really, "really", false, "reach the outside systems and write to them")
	c.Flags().StringVar(&f.settings, "settings", "", "YAML file with the settings of each connection; needed with --really")
	return c
}

func (e env) runFlow(cmd *cobra.Command, p *project.Project, id string, f runFlags) error {
	plan := p.Flow(id)
	if plan == nil {
		return missing(p, project.Flows, id)
	}
	if ft := p.FaultOf(project.Flows, id); ft != nil {
		return ft
	}
	d := &drive{env: e, plan: plan, show: e.showEffects(), totals: map[string]*running.Counts{}, tally: &running.Totals{}, files: map[*running.FileTarget]*outfile.Set{}, madeUp: map[*connection.Operation]bool{}}
	defer d.close()
	if err := d.reach(p, f); err != nil {
		return err
	}
	of := plan.Source
	if plan.ReadStep == nil {
		of = plan.Input
	}
	d.input = f.input
	if d.input == "" {
		d.input = "nothing"
		if of != nil && len(of.Samples) > 0 {
			d.input = of.Samples[0]
			fmt.Fprintf(e.err, "the input is the sample %s\n", d.input)
		}
	}
	file := filepath.Base(d.input)
	now := time.Now().UTC()
	d.facts = running.Facts{ID: uuid.NewString(), File: file, Reference: file, Started: value.Instant(now), Request: p.TriedRequest(plan)}
	d.runtime = &trial.DryRuntime{Systems: d.outside, Plan: p.Flow, At: now, Facts: d.facts, Randomness: rand.Reader, Collect: d.collect}
	if f.input == "" {
		return d.sample(cmd.Context(), p, of)
	}
	in, err := open(cmd, f.input)
	if err != nil {
		return err
	}
	defer in.Close()
	if of == nil {
		if plan.Flow.Trigger.Of().Requests {
			body, err := io.ReadAll(io.LimitReader(in, project.MaxPart))
			if err != nil {
				return err
			}
			text := string(body)
			d.facts.Request = running.TriedRequest(plan.Flow.Trigger, &text, value.Value{})
		}
		return d.run(cmd.Context(), nil)
	}
	r, err := recordReader(in, f.input, of, &d.ignored)
	if err != nil {
		return err
	}
	return d.run(cmd.Context(), r)
}

// sample runs the flow over the sample of what it reads, or a message that is made up.
func (d *drive) sample(ctx context.Context, p *project.Project, of *schema.Schema) error {
	switch {
	case of == nil:
		return d.run(ctx, nil)
	case len(of.Samples) > 0:
		r, err := p.OpenSample(of, of.Samples[0], false, &d.ignored)
		if err != nil {
			return err
		}
		return d.run(ctx, r)
	case d.plan.ReadStep != nil:
		return fault.New(fault.Required, "the schema %s has no sample to read", of.ID).WithFix("Give a file with --input")
	}
	made, err := p.Example(of)
	if err != nil {
		return err
	}
	fmt.Fprintf(d.err, "the input is made up: the schema %s has no sample\n", of.ID)
	return d.run(ctx, &one{of: made})
}

// one reads a single record.
type one struct {
	of   value.Value
	over bool
}

func (o *one) Next() (value.Value, error) {
	if o.over {
		return value.Value{}, io.EOF
	}
	o.over = true
	return o.of, nil
}

func (o *one) Place() fault.Place { return fault.Place{} }
func (o *one) Raw() string        { return "" }
func (o *one) Many() bool         { return false }

// reach makes the outside: that of the settings file, or one that only shows what would be done.
func (d *drive) reach(p *project.Project, f runFlags) error {
	if !f.really {
		d.outside = &trial.Dry{
			OnMadeUp: d.made,
			Rows:     func(s *schema.Schema) ([]value.Value, error) { return p.SampleRecords(s, maxSampleRows) },
			OnUpsert: func(_ running.Upsert, row value.Value) { d.show.tell(row) },
			OnCall:   func(c running.Call, request value.Value) { d.show.tell(labelled("request", c.Step, request)) },
		}
		return nil
	}
	if f.settings == "" {
		return fault.New(fault.Required, "--really needs --settings FILE with the connections")
	}
	settings, err := connector.ReadStaticSettings(f.settings)
	if err != nil {
		return err
	}
	d.pool = connector.NewPool(settings, connector.Rules{})
	d.outside = d.pool
	return nil
}

// made says once of an operation that its answers are made up.
func (d *drive) made(op *connection.Operation) {
	d.filing.Lock()
	defer d.filing.Unlock()
	if !d.madeUp[op] {
		d.madeUp[op] = true
		fmt.Fprintf(d.err, "the answers of %s are made up: no sample of them is kept\n", op.Name)
	}
}

// labelled is what would be done, with the step that does it.
func labelled(what, step string, v value.Value) value.Value {
	return value.NewRecord(value.NewLayout("step", what), []value.Value{value.NewText(step), v})
}

// collect keeps what write steps have collected, of flows that are called as well.
func (d *drive) collect(plan *running.Plan, records []running.Collected) error {
	d.filing.Lock()
	defer d.filing.Unlock()
	for _, c := range records {
		to := plan.Planned(c.Step).File
		if c.Item.Failed() {
			continue
		}
		if d.files[to] == nil {
			d.files[to] = outfile.New(to)
		}
		if err := d.files[to].Add(c.Name, c.Record); err != nil {
			return err
		}
	}
	return nil
}

// writeFiles writes the files, or shows them.
func (d *drive) writeFiles(ctx context.Context) error {
	for _, to := range slices.SortedFunc(maps.Keys(d.files), func(a, b *running.FileTarget) int { return strings.Compare(a.Step.ID, b.Step.ID) }) {
		files, err := d.files[to].End()
		if err != nil {
			return err
		}
		for _, f := range files {
			if err := d.writeFile(ctx, to, f); err != nil {
				return err
			}
		}
	}
	return nil
}

func (d *drive) writeFile(ctx context.Context, to *running.FileTarget, f *outfile.File) error {
	if d.pool != nil {
		name, size, err := d.files[to].Write(ctx, d.pool, f, d.facts.ID)
		if err == nil {
			fmt.Fprintf(d.err, "%s: %s is written, %d records, %d bytes\n", to.Step.Name, name, f.Records, size)
		}
		return err
	}
	text, err := f.Text(maxShown)
	if err != nil {
		return err
	}
	fields, values := []string{"step", "file", "records", "bytes", "content"}, []value.Value{value.NewText(to.Step.ID), value.NewText(f.Name), value.Int(int64(f.Records)), value.Int(f.Size()), value.NewText(string(text))}
	if !utf8.Valid(text) {
		fields[4], values[4] = "base64", value.NewText(base64.StdEncoding.EncodeToString(text))
	}
	d.show.tell(value.NewRecord(value.NewLayout(fields...), values))
	return nil
}

// close ends what the run has opened, once everything is shown.
func (d *drive) close() {
	d.show.close()
	for _, set := range d.files {
		set.Close(nil)
	}
	if d.pool != nil {
		d.pool.Close()
	}
}

// drive takes one message through a flow.
type drive struct {
	env
	plan    *running.Plan
	outside running.Systems
	pool    *connector.Pool // where it is done really; nil otherwise
	show    *effects
	files   map[*running.FileTarget]*outfile.Set
	madeUp  map[*connection.Operation]bool
	filing  sync.Mutex
	answer  value.Value
	runtime running.Runtime
	facts   running.Facts
	input   string
	totals  map[string]*running.Counts
	tally   *running.Totals
	whole   *running.Item
	aside   int
	ignored notation.Ignored
}

func (d *drive) batch() *running.Batch {
	return &running.Batch{Plan: d.plan, Systems: d.outside, Runtime: d.runtime, Attempt: 1, Totals: d.tally}
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
	d.whole = d.plan.RunItem(d.facts, input)
	if err := d.pass(ctx, d.plan.Head); err != nil {
		return err
	}
	if d.plan.ReadStep != nil && d.whole.State == running.Done {
		if err := d.records(ctx, running.NewSource(d.plan, r, d.facts).Within(d.whole).Ignoring(&d.ignored)); err != nil {
			return err
		}
		d.plan.SetTotals(d.whole, d.tally.Values)
		if err := d.pass(ctx, d.plan.Tail); err != nil {
			return err
		}
	}
	if err := d.writeFiles(ctx); err != nil {
		return err
	}
	if d.answer.Kind() != value.Absent {
		d.show.tell(value.NewRecord(value.NewLayout("answer"), []value.Value{d.answer}))
	}
	d.counts(d.plan, d.totals)
	d.passedOver("", &d.ignored) // in the flow's input, or behind the last record
	if d.aside > 0 {
		return errFaults
	}
	return nil
}

// pass takes the run as a whole through steps.
func (d *drive) pass(ctx context.Context, steps []*running.PlannedStep) error {
	b := d.batch()
	d.whole.State = running.Live
	if err := b.Pass(ctx, steps, d.whole); err != nil {
		return err
	}
	return d.done(b, []*running.Item{d.whole})
}

func (d *drive) records(ctx context.Context, src *running.Source) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	spare := make(chan *running.Memory, batchesAhead+2)
	for p := range d.ahead(ctx, src, spare) {
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
		if next.batch.Forgotten(next.items) {
			next.batch.Memory.Reset()
			giveBack(spare, next.batch.Memory)
		}
	}
	if src.Count() == 0 {
		return running.Empty(d.input)
	}
	return nil
}

// done adds up what a batch did; its error is the fault at which the run stops.
func (d *drive) done(b *running.Batch, items []*running.Item) error {
	for id, c := range b.Counts {
		if d.totals[id] == nil {
			d.totals[id] = &running.Counts{}
		}
		d.totals[id].Add(c)
	}
	for _, e := range b.Events {
		fmt.Fprintln(d.err, "event: "+e.Text)
	}
	d.aside += d.tell(items)
	if b.Answer.Kind() != value.Absent {
		d.answer = b.Answer
	}
	if err := d.collect(d.plan, b.Collected); err != nil {
		return err
	}
	for _, m := range b.Published {
		d.show.tell(value.NewRecord(value.NewLayout("step", "channel", "key", "message"), []value.Value{value.NewText(m.Step), value.NewText(m.Channel), value.NewText(m.Key), value.NewText(string(m.Body))}))
	}
	if b.Stopped != nil && b.Stopped.Fault != nil {
		return b.Stopped.Fault
	}
	return nil
}

// effects shows what would be done, one JSON value a line. It is written beside the work on the next records.
type effects struct {
	mu      sync.Mutex // branches at once tell at the same time
	enc     json.Appender
	pending []byte
	full    chan []byte
	spare   chan []byte
	written chan struct{}
}

// shownAtOnce is about how many bytes are written at once.
const shownAtOnce = 64 << 10

func (e env) showEffects() *effects {
	r := &effects{full: make(chan []byte, 2), spare: make(chan []byte, 4), written: make(chan struct{})}
	go func() {
		defer close(r.written)
		for lines := range r.full {
			e.out.Write(lines)
			if cap(lines) <= 2*shownAtOnce {
				giveBack(r.spare, lines[:0])
			}
		}
	}()
	return r
}

// tell shows a value; nothing of it is kept.
func (r *effects) tell(v value.Value) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.pending = append(r.enc.Append(r.pending, v), '\n')
	if len(r.pending) < shownAtOnce {
		return
	}
	r.full <- r.pending
	select {
	case r.pending = <-r.spare:
	default:
		r.pending = make([]byte, 0, shownAtOnce+shownAtOnce/4)
	}
}

func (r *effects) close() {
	r.full <- r.pending
	close(r.full)
	<-r.written
}

// giveBack keeps what can be used again, if there is room for it.
func giveBack[T any](spare chan<- T, v T) {
	select {
	case spare <- v:
	default:
	}
}

// prepared is a batch that has passed all steps that reach nothing outside.
type prepared struct {
	batch *running.Batch
	items []*running.Item
	err   error
}

// batchesAhead is how many batches may be prepared before they are worked on.
const batchesAhead = 2

// ahead reads and prepares batches while others are worked on, and gives them in their order. They are in spare memory, where there
// is some, if the flow's steps forget what they have worked on.
func (d *drive) ahead(ctx context.Context, src *running.Source, spare <-chan *running.Memory) <-chan chan prepared {
	out := make(chan chan prepared, batchesAhead)
	forgets := d.plan.Forgets()
	go func() {
		defer close(out)
		for {
			b := d.batch()
			items, err := readAhead(b, src, forgets, spare)
			if err == nil {
				src.CountIgnored(b)
			}
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
				err := b.Prepare(ctx, items)
				p <- prepared{b, items, err}
			}()
		}
	}()
	return out
}

func readAhead(b *running.Batch, src *running.Source, forgets bool, spare <-chan *running.Memory) ([]*running.Item, error) {
	if !forgets {
		return src.Batch(runBatch)
	}
	select {
	case b.Memory = <-spare:
	default:
		b.Memory = running.NewMemory()
	}
	return src.BatchIn(b.Memory, runBatch)
}

func (e env) tell(items []*running.Item) (aside int) {
	for _, it := range items {
		if it.State != running.SetAside {
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

func (e env) counts(plan *running.Plan, totals map[string]*running.Counts) {
	for _, ps := range plan.Steps {
		c := totals[ps.Step.ID]
		if c == nil || ps.Step.Of().Loops {
			continue
		}
		fmt.Fprintf(e.err, "%-20s %6d in %6d out", ps.Step.Name, c.In, c.Out)
		for _, more := range []struct {
			n    int
			what string
		}{{c.Skipped, "skipped"}, {c.SetAside, "set aside"}, {c.Inserted, "inserted"}, {c.Updated, "updated"}, {c.Unchanged, "unchanged"}, {c.Collected, "for files"}} {
			if more.n > 0 {
				fmt.Fprintf(e.err, ", %d %s", more.n, more.what)
			}
		}
		fmt.Fprintln(e.err)
		if c.Blank > 0 {
			fmt.Fprintf(e.err, "blank lines skipped: %d\n", c.Blank)
		}
		if text := c.IgnoredText(); text != "" {
			fmt.Fprintln(e.err, text)
		}
	}
}
