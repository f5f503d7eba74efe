// Package examples holds a small project for each kind of step, which shows what the step does and runs as a test.
package examples

import (
	"context"
	"embed"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

//go:embed *.txt
var files embed.FS

// Example is one project with the flow "example".
type Example struct {
	About  string
	Kinds  []string          // of step, that it shows
	Texts  map[string]string // its parts, by their paths
	Expect []Expected

	secrets map[string]string // that were made for it
}

// Expected is what comes of the example: "records" or "run" and the states, a step and what it yields or notes, or
// step.in and how many came to it.
type Expected struct{ Of, Is string }

// All are the examples, by their names.
func All() map[string]*Example {
	all := map[string]*Example{}
	names, err := fs.Glob(files, "*.txt")
	if err != nil {
		panic(err) // the pattern is a constant
	}
	for _, name := range names {
		text, err := files.ReadFile(name)
		if err != nil {
			panic(err) // it was just listed
		}
		all[strings.TrimSuffix(name, ".txt")] = parse(string(text))
	}
	return all
}

// Of finds the example of a kind of step; nil when there is none.
func Of(kind string) *Example {
	for _, e := range All() {
		if slices.Contains(e.Kinds, kind) {
			return e
		}
	}
	return nil
}

// parse reads an example: what it is about, and behind lines as "-- path --" its parts.
func parse(text string) *Example {
	e := &Example{Texts: map[string]string{project.File: "project: Example\n"}, secrets: map[string]string{}}
	path := ""
	for line := range strings.Lines(text) {
		if name, ok := strings.CutPrefix(line, "-- "); ok {
			path = strings.TrimSuffix(strings.TrimSpace(name), " --")
			continue
		}
		if name, ok := strings.CutPrefix(path, "secrets/"); ok {
			e.secrets[name] += line
			continue
		}
		switch path {
		case "":
			if kinds, ok := strings.CutPrefix(line, "for: "); ok {
				e.Kinds = strings.Split(strings.TrimSpace(kinds), ", ")
			} else {
				e.About = strings.TrimSpace(line)
			}
		case "expect":
			of, is, _ := strings.Cut(strings.TrimSpace(line), ": ")
			e.Expect = append(e.Expect, Expected{of, is})
		default:
			e.Texts[path] += line
		}
	}
	return e
}

// Run is what came of an example.
type Run struct {
	Project *project.Project
	Plan    *running.Plan
	Whole   *running.Item
	Items   []*running.Item
	Counts  map[string]*running.Counts
}

// Run runs the example on its sample, and reaches nothing outside.
func (e *Example) Run(ctx context.Context) (*Run, error) {
	p := project.Load("example", e.Texts)
	if len(p.Faults) > 0 {
		return nil, p.Faults
	}
	r := &Run{Project: p, Plan: p.Flow("example")}
	at := time.Date(2031, 3, 9, 6, 0, 0, 0, time.UTC)
	facts := running.Facts{ID: "example", File: "sample", Started: value.Instant(at)}
	outside := &trial.Dry{Rows: func(row *schema.Schema) ([]value.Value, error) { return p.SampleRecords(row, 100) }}
	runtime := &trial.DryRuntime{Systems: outside, Plan: p.Flow, At: at, Facts: facts, Randomness: rand.NewChaCha8([32]byte{}), Secrets: func(_ context.Context, name string) (string, error) { return e.secrets[name], nil }}
	b := &running.Batch{Plan: r.Plan, Systems: outside, Runtime: runtime, Attempt: 1, Totals: &running.Totals{}}
	input := value.Value{}
	if r.Plan.Input != nil {
		var err error
		if input, err = p.Example(r.Plan.Input); err != nil {
			return nil, err
		}
	}
	r.Counts = map[string]*running.Counts{}
	b.Counts = r.Counts
	m := trial.PlayOptions{Facts: facts, Input: input, Most: 100}
	if r.Plan.Source != nil {
		m.Open = func() (notation.Reader, error) { return p.OpenSample(r.Plan.Source, r.Plan.Source.Samples[0], false) }
	}
	played, err := trial.Play(ctx, b, m)
	r.Whole, r.Items = played.Whole, played.Items
	return r, err
}

// Got is what came of a thing that is expected: states, what a step yielded, or what it noted.
func (r *Run) Got(of string) (value.Value, *fault.Fault) {
	switch of {
	case "run":
		return value.NewText(string(r.Whole.State)), nil
	case "records":
		var states []string
		for _, it := range r.Items {
			states = append(states, string(it.State))
		}
		return value.NewText(strings.Join(states, ", ")), nil
	}
	if step, ok := strings.CutSuffix(of, ".in"); ok && r.Counts[step] != nil {
		return value.Int(int64(r.Counts[step].In)), nil
	}
	ps := r.Plan.Planned(of)
	if ps == nil {
		return value.Value{}, fault.New(fault.Unknown, "there is no step %q", of)
	}
	for _, it := range append([]*running.Item{r.Whole}, r.Items...) {
		if ps.Result != nil && it.Frame.Slots[ps.Result.Slot].Kind() != value.Absent {
			return it.Frame.Slots[ps.Result.Slot], nil
		}
		for _, n := range it.Notes {
			if n.Place.Step == of {
				return value.NewText(n.Message), nil
			}
		}
	}
	return value.Value{}, nil
}
