package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

type mapFlags struct {
	input, from, to string
	with            []string
}

func (e env) mapping() *cobra.Command {
	var f mapFlags
	c := &cobra.Command{
		Use:   "map FOLDER MAPPING --input FILE [--from FMT] [--to FMT]",
		Short: "Run a mapping over a file",
		Long: `Maps every record of a file by one of the project's mappings, to standard output.

The input is read as the mapping's first source. Any further source is one message that is the
same for every record: give it with --with name=FILE; else the first record of its schema's
sample is used, and said on standard error. Records at fault are told there, too, and left out; the
command then ends with 1.`,
		Example: `  hollowreed map demo reading-to-tide-level --input demo/samples/sk_0309.tide --to ndjson`,
		Args:    cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			lean()
			p, err := load(args[0])
			if err != nil {
				return err
			}
			return e.mapFile(cmd, p, strings.TrimSuffix(args[1], ".yaml"), f)
		},
	}
	c.Flags().StringVar(&f.input, "input", "", "file to read; - for standard input")
	c.Flags().StringVar(&f.from, "from", "", "notation of the input, if not its schema's")
	c.Flags().StringVar(&f.to, "to", "", "notation to write; the target schema's, or ndjson")
	c.Flags().StringArrayVar(&f.with, "with", nil, "further source, as name=FILE")
	c.MarkFlagRequired("input")
	return c
}

func (e env) mapFile(cmd *cobra.Command, p *project.Project, id string, f mapFlags) error {
	plan := p.Mapping(filepath.Base(id))
	if plan == nil {
		return missing(p, project.Mappings, id)
	}
	if ft := p.FaultOf(project.Mappings, filepath.Base(id)); ft != nil {
		return ft
	}
	source, err := notationOf(f.from, plan.Sources[0])
	if err != nil {
		return err
	}
	target, err := notationOf(f.to, plan.Target)
	if err != nil {
		return err
	}
	others, err := e.others(p, plan, f.with)
	if err != nil {
		return err
	}
	in, err := open(cmd, f.input)
	if err != nil {
		return err
	}
	defer in.Close()
	var ignored notation.Ignored
	defer e.passedOver("", &ignored)
	r, err := source.NewReader(in, notation.Options{Source: f.input, Schema: plan.Sources[0], Ignored: &ignored})
	if err != nil {
		return err
	}
	return e.copied(r, f.input, func(many bool) (notation.Writer, error) {
		return target.NewWriter(e.out, notation.Options{Schema: plan.Target, Many: many})
	}, func() notation.Change { return newMapper(plan, f.input, others) })
}

// mapper makes the target record of each source record, checked on both sides.
type mapper struct {
	plan    *mapping.Plan
	check   *checker
	frame   *mapping.Frame
	facts   []value.Value // of the run, but for the line
	sources []value.Value
	memory  *value.Memory
	input   string
}

func newMapper(plan *mapping.Plan, input string, others []value.Value) *mapper {
	file := filepath.Base(input)
	return &mapper{
		plan: plan, check: &checker{plan.Sources[0], input}, input: input, sources: append([]value.Value{{}}, others...),
		facts: running.RunFacts("", file, file, 0, value.Instant(time.Now().UTC())).Record().Fields,
	}
}

// lineFact is the slot of the line among the run's facts.
var lineFact = mapping.Run.Field("line").Slot()

// Begin takes records from a batch's memory.
func (m *mapper) Begin(memory *value.Memory) {
	m.frame, m.memory = m.plan.NewFrame(), memory
	m.frame.Memory = memory
}

// Change maps one record.
func (m *mapper) Change(v value.Value, line int) (value.Value, error) {
	if _, err := m.check.Change(v, line); err != nil {
		return v, err
	}
	run := m.memory.Record(mapping.Run.Layout())
	copy(run.Fields, m.facts)
	run.Fields[lineFact] = value.Int(int64(line))
	m.sources[0] = v
	m.frame.Set(value.RecordOf(run), m.sources...)
	res := m.plan.Apply(m.frame)
	if res.Faults != nil {
		ft := res.Faults[0]
		ft.Place.Source, ft.Place.Line = m.input, line
		return res.Value, ft
	}
	if res.Skipped != "" {
		return value.Value{}, nil
	}
	return res.Value, nil
}

func missing(p *project.Project, kind, id string) error {
	var ids []string
	for _, part := range p.Parts(kind) {
		ids = append(ids, part.ID)
	}
	return fault.New(fault.Unknown, "the project has no %s %q; it has %s", project.OneOf(kind), id, strings.Join(ids, ", "))
}

// notationOf is the notation named, or else that of the schema.
func notationOf(name string, s *schema.Schema) (*notation.Kind, error) {
	if name == "" || name == schema.Rows.Name {
		return all.Of(s), nil
	}
	return all.Named(name)
}

func (e env) others(p *project.Project, plan *mapping.Plan, with []string) ([]value.Value, error) {
	files := map[string]string{}
	for _, w := range with {
		name, file, ok := strings.Cut(w, "=")
		if !ok {
			return nil, fault.Expect(fault.Setting, "name=FILE after --with", fault.Quote(w))
		}
		files[name] = file
	}
	var out []value.Value
	for i, src := range plan.Mapping.From[1:] {
		v, err := e.other(p, src, plan.Sources[i+1], files[src.Name.Value])
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// other reads a further source: its first record, or all where the mapping wants a list.
func (e env) other(p *project.Project, src mapping.Source, s *schema.Schema, file string) (value.Value, error) {
	name := src.Name.Value
	if file == "" && src.List {
		rows, err := p.SampleRecords(s, mapping.MaxItems)
		return value.ListOf(rows...), err
	}
	if file == "" {
		rows, err := p.SampleRecords(s, 1)
		if err != nil || len(rows) == 0 {
			return value.Value{}, fault.New(fault.Required, "the mapping also reads %s: give it with --with %s=FILE", name, name)
		}
		fmt.Fprintf(e.err, "%s is the first record of the sample %s\n", name, s.Samples[0])
		return rows[0], nil
	}
	in, err := os.Open(file)
	if err != nil {
		return value.Value{}, err
	}
	defer in.Close()
	rows, err := records(in, file, s, src.List)
	if err != nil || src.List {
		return value.ListOf(rows...), err
	}
	return rows[0], nil
}

// records reads the first record of a file, or all.
func records(in io.Reader, file string, s *schema.Schema, whole bool) (rows []value.Value, err error) {
	r, err := recordReader(in, file, s, nil)
	for err == nil {
		var v value.Value
		if v, err = r.Next(); err == nil {
			rows = append(rows, v)
		}
		switch {
		case err == nil && !whole, err == io.EOF && len(rows) > 0:
			return rows, nil
		case len(rows) == mapping.MaxItems:
			return nil, fault.New(fault.Limit, "%s has more than %d records", file, mapping.MaxItems)
		}
	}
	return nil, err
}

func recordReader(in io.Reader, file string, s *schema.Schema, ignored *notation.Ignored) (notation.Reader, error) {
	n, err := all.OfFile(file, s)
	if err != nil {
		return nil, err
	}
	return n.NewReader(in, notation.Options{Source: file, Schema: s, Ignored: ignored})
}
