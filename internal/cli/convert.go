package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func (e env) convert() *cobra.Command {
	var from, to, part string
	var plain bool
	c := &cobra.Command{
		Use:   "convert --from FMT --to FMT [--schema PART] FILE",
		Short: "Convert a file from one notation to another",
		Long: `Converts a file, record by record, to standard output. FMT is one of ` + strings.Join(all.Names(), ", ") + `.
FILE may be - for standard input. --schema names a schema's part file, as demo/schemas/gauge-reading.yaml.

Without a schema JSON keeps every value and number as it stands; CSV takes its first record as
names and its values as text; XML keeps attributes as @name, text beside attributes as #text,
repeated elements as lists and prefixes as written.

Between JSON and XML every value comes back as it was: what XML cannot say of it, a number, null, an
empty list, stands in attributes of the namespace urn:hollowreed:json, names that XML does not allow
are escaped as in SQL/XML, and elements whose order fields cannot say are the list #content. With
--plain all of that is left out. White space between elements and comments are not kept.

Files are read record by record, JSON to JSON token by token. Otherwise a JSON document that is
not an array, and an XML document whose root does not hold a plain list, are one record each and
held in memory (at most 256 MB).

Records at fault are told on standard error and left out; the command then ends with 1.`,
		Example: `  hollowreed convert --from csv --to json stations.csv
  hollowreed convert --from fixedwidth --to ndjson --schema demo/schemas/gauge-reading.yaml sk_0309.tide`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			lean()
			in, err := open(cmd, args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			return e.copy(in, args[0], from, to, part, !plain)
		},
	}
	c.Flags().StringVar(&from, "from", "", "notation of the file")
	c.Flags().StringVar(&to, "to", "", "notation to write")
	c.Flags().StringVar(&part, "schema", "", "schema part file")
	c.Flags().BoolVar(&plain, "plain", false, "between JSON and XML without a schema: no types in attributes, no #content")
	c.MarkFlagRequired("from")
	c.MarkFlagRequired("to")
	return c
}

func (e env) copy(in io.Reader, name, from, to, part string, exact bool) error {
	source, err := all.Named(from)
	if err != nil {
		return err
	}
	target, err := all.Named(to)
	if err != nil {
		return err
	}
	var ignored notation.Ignored
	defer e.passedOver("", &ignored)
	o := notation.Options{Source: name, Ignored: &ignored, Exact: exact && source.Tree && target.Tree}
	if part == "" && from == to && source.CopyDocument != nil {
		buffered := bufio.NewReaderSize(in, 64<<10)
		if !list(buffered) {
			return source.CopyDocument(e.out, buffered, o)
		}
		in = buffered
	}
	if part != "" {
		if o.Schema, err = schemaFile(part); err != nil {
			return err
		}
	}
	r, err := reader(source, in, o, target)
	if err != nil {
		return err
	}
	var change func() notation.Change
	if o.Schema != nil {
		change = func() notation.Change { return &checker{o.Schema, name} }
	}
	return e.copied(r, name, func(many bool) (notation.Writer, error) {
		out := o
		out.Many = many
		if s, ok := r.(notation.EnvelopeReader); ok {
			out.Envelope = s.Envelope()
		}
		return target.NewWriter(e.out, out)
	}, change)
}

// passedOver tells what a reader has passed over.
func (e env) passedOver(before string, ignored *notation.Ignored) {
	if ignored.Blank > 0 {
		fmt.Fprintf(e.err, "%sblank lines skipped: %d\n", before, ignored.Blank)
	}
	if text := notation.IgnoredText(ignored.Fields()); text != "" {
		fmt.Fprintln(e.err, before+text)
	}
}

// maxTold is how many records at fault are told one by one.
const maxTold = 100

// copied copies records, and tells of those that are at fault. What is good is written; there are faults, too.
func (e env) copied(r notation.Reader, name string, open func(many bool) (notation.Writer, error), change func() notation.Change) error {
	bad := 0
	n, err := notation.Copy(r, open, change, func(err error) {
		if bad++; bad > maxTold {
			return
		}
		var faults fault.List
		if !errors.As(err, &faults) {
			fmt.Fprintln(e.err, oneLine(named(err, name)))
		}
		for _, f := range faults {
			fmt.Fprintln(e.err, oneLine(named(f, name)))
		}
	})
	if bad > maxTold {
		fmt.Fprintf(e.err, "and %d more records at fault\n", bad-maxTold)
	}
	if bad > 0 {
		fmt.Fprintf(e.err, "%d of %d records are written, %d are at fault\n", n, n+bad, bad)
	}
	if err == nil && bad > 0 {
		return errFaults
	}
	return named(err, name)
}

// maxDocument is the most bytes of a document that is one record: it is held in memory.
const maxDocument = 256 << 20

// reader reads an XML file that is a list below its root element by element; that it is one is
// found by passing over the file once. Every other document without a list outermost is one record.
func reader(n *notation.Kind, in io.Reader, o notation.Options, to *notation.Kind) (notation.Reader, error) {
	file, ok := in.(*os.File)
	if n.OpenList != nil && o.Schema == nil && ok && regular(file) && to.Document {
		if r, err := n.OpenList(file, o); r != nil || err != nil {
			return r, err
		}
	}
	if n.Document {
		o.MaxRecord = maxDocument
	}
	return n.NewReader(in, o)
}

// list says whether a JSON document begins as an array.
func list(r *bufio.Reader) bool {
	for n := 1; ; n++ {
		b, err := r.Peek(n)
		if err != nil || len(b) < n {
			return false
		}
		if c := b[n-1]; c != ' ' && c != '\t' && c != '\r' && c != '\n' {
			return c == '['
		}
	}
}

// regular says whether a file can be read twice.
func regular(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode().IsRegular()
}

// checker lets only records pass that are as the schema says.
type checker struct {
	schema *schema.Schema
	name   string
}

// Begin has nothing to do.
func (c *checker) Begin(*value.Memory) {}

// Change gives a record as it is, or the first of its faults.
func (c *checker) Change(v value.Value, line int) (value.Value, error) {
	if c.schema.Fits(v) {
		return v, nil
	}
	var first *fault.Fault
	c.schema.Check(v, func(f *fault.Fault) {
		if first == nil {
			f.Place.Source, f.Place.Line = c.name, line
			first = f
		}
	})
	if first != nil {
		return v, first
	}
	return v, nil
}

// named gives a fault that lacks it the name of the input.
func named(err error, name string) error {
	if f, ok := err.(*fault.Fault); ok && f.Place.Source == "" && (f.Place.Line > 0 || f.Place.Path != "") {
		f.Place.Source = name
	}
	return err
}

// schemaFile reads one schema part by itself, with those beside it from which it takes fields.
func schemaFile(name string) (*schema.Schema, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	own := strings.TrimSuffix(filepath.Base(name), ".yaml")
	docs := map[string]*partfile.Doc{own: partfile.Parse(name, text)}
	s := schema.NewLoader(func(id string) *partfile.Doc {
		if docs[id] == nil && id == filepath.Base(id) {
			beside := filepath.Join(filepath.Dir(name), id+".yaml")
			if text, err := os.ReadFile(beside); err == nil {
				docs[id] = partfile.Parse(beside, text)
			}
		}
		return docs[id]
	}).Schema(own)
	for _, d := range docs {
		if len(d.Faults) > 0 {
			return nil, d.Faults[0]
		}
	}
	return s, nil
}
