package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/compare"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/schema/xsd"
)

// maxSample is the most bytes of one file that a schema is inferred from or imported of.
const maxSample = 256 << 20

func (e env) schema() *cobra.Command {
	c := &cobra.Command{
		Use:   "schema",
		Short: "Infer, import, export and compare schemas, and make samples of them",
		Long: `Works on schemas alone. A SCHEMA is a part file (.yaml), a JSON Schema (.json) or an
XML Schema (.xsd).

Parts are written to standard output, what is to be known about them to standard error.`,
	}
	c.AddCommand(e.infer(), e.importSchema(), e.sample(), e.compare(), e.export())
	return c
}

func (e env) infer() *cobra.Command {
	var from, title string
	var evidence bool
	c := &cobra.Command{
		Use:   "infer FILE...",
		Short: "Find the schema of one or several sample files",
		Long: `Reads sample files of one notation and writes the schema that they all fit: types widened over
all records, what is optional, lists, dates and decimals. With --evidence the evidence for each
field, and code lists that may be meant, stand on standard error; what does not fit does always. The notation is told from the first file unless --from names it.`,
		Example: `  hollowreed schema infer orders-1.json orders-2.json > order.yaml`,
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			var samples []infer.Sample
			for _, name := range args {
				content, err := readWhole(name)
				if err != nil {
					return err
				}
				samples = append(samples, infer.Sample{Name: name, Content: content})
			}
			as := infer.Notation(samples[0].Content)
			if from != "" {
				var err error
				if as, err = all.Named(from); err != nil {
					return err
				}
			}
			id := idOf(args[0])
			if title == "" {
				title = id
			}
			r, err := infer.From(id, title, as, samples...)
			if err != nil {
				return err
			}
			for i := range r.Fields {
				f := &r.Fields[i]
				if !evidence && f.Evidence.Unfit == 0 {
					continue
				}
				fmt.Fprintf(e.err, "%-30s %s\n", strings.Join(f.Path, "/"), f.Evidence.Said())
			}
			return e.write(schema.Write(r.Schema))
		},
	}
	c.Flags().StringVar(&from, "from", "", "notation of the files: "+strings.Join(all.Names(), ", "))
	c.Flags().StringVar(&title, "title", "", "title of the schema")
	c.Flags().BoolVar(&evidence, "evidence", false, "tell the evidence for each field on standard error")
	return c
}

func (e env) write(text []byte) error {
	_, err := e.out.Write(text)
	return err
}

// readWhole reads a file of bounded size.
func readWhole(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxSample+1))
	if err == nil && len(text) > maxSample {
		err = fault.New(fault.Limit, "the file is larger than %d MB", maxSample>>20).At(fault.Place{Source: name})
	}
	return text, err
}

func idOf(name string) string {
	return strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
}

func (e env) importSchema() *cobra.Command {
	var at string
	c := &cobra.Command{
		Use:   "import FILE...",
		Short: "Make a part of an XML Schema, a JSON Schema or a schema of an OpenAPI document",
		Long: `Makes a schema part of an XML Schema 1.0 (--at names its root element, if not the first), of a JSON
Schema (2020-12 or 7), or of one of the schemas of an OpenAPI 3.0 or 3.1 document, whose place --at
names as a JSON Pointer. Further files are those that it refers to; of an XML Schema, those beside
it are found. Nothing is fetched. Whatever a part cannot hold stands in the part and on standard
error with its line.`,
		Example: `  hollowreed schema import order.schema.json types.schema.json > order.yaml
  hollowreed schema import notice.xsd --at notice > notice.yaml
  hollowreed schema import api.yaml --at /components/schemas/Order > order.yaml`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := importFile(args[0], at, args[1:])
			if err != nil {
				return err
			}
			for _, n := range s.NotImported {
				fmt.Fprintln(e.err, n)
			}
			return e.write(schema.Write(s))
		},
	}
	c.Flags().StringVar(&at, "at", "", "place of the schema in the file, as /components/schemas/Order; the root element of an XML Schema")
	return c
}

func importFile(name, at string, others []string) (*schema.Schema, error) {
	if filepath.Ext(name) == ".xsd" {
		set, err := xmlSchema(name, others)
		if err != nil {
			return nil, err
		}
		return set.Import(idOf(name), at)
	}
	text, err := readWhole(name)
	if err != nil {
		return nil, err
	}
	beside, err := readAll(others)
	if err != nil {
		return nil, err
	}
	im, err := jsonschema.Import(strings.TrimSuffix(idOf(name), ".schema"), name, text, at, beside)
	if err != nil {
		return nil, err
	}
	return im.Schema, nil
}

func readAll(names []string) (map[string][]byte, error) {
	texts := map[string][]byte{}
	for _, n := range names {
		text, err := readWhole(n)
		if err != nil {
			return nil, err
		}
		texts[n] = text
	}
	return texts, nil
}

// anySchema reads a part file, or imports a JSON Schema or XML Schema.
func anySchema(name string) (*schema.Schema, error) {
	if ext := filepath.Ext(name); ext == ".json" || ext == ".xsd" {
		return importFile(name, "", nil)
	}
	return schemaFile(name)
}

func (e env) sample() *cobra.Command {
	var seed uint64
	var kind, to string
	var count int
	c := &cobra.Command{
		Use:   "sample SCHEMA",
		Short: "Make sample messages of a schema",
		Long: `Makes messages that fit a schema, in its notation: the least that it allows, a typical one, or one
in which everything stands. The same seed makes the same message.`,
		Example: `  hollowreed schema sample demo/schemas/gauge-reading.yaml --count 3`,
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := anySchema(args[0])
			if err != nil {
				return err
			}
			return e.samples(s, kind, seed, count, to)
		},
	}
	c.Flags().Uint64Var(&seed, "seed", 1, "what the values are drawn from")
	c.Flags().StringVar(&kind, "kind", string(sample.Typical), "minimal, typical or maximal")
	c.Flags().IntVar(&count, "count", 1, "how many messages, or records of one that is a list")
	c.Flags().StringVar(&to, "to", "", "notation to write, if not the schema's")
	return c
}

func (e env) samples(s *schema.Schema, named string, seed uint64, count int, to string) error {
	kind, ok := sample.KindNamed(named)
	if !ok {
		return fault.Expect(fault.Setting, "minimal, typical or maximal", fault.Quote(named)).InField("--kind")
	}
	n, err := notationOf(to, s)
	if err != nil {
		return err
	}
	w, err := n.NewWriter(e.out, notation.Options{Schema: s, Many: count > 1})
	if err != nil {
		return err
	}
	for i := range count {
		v, ft := sample.Make(s, kind, seed+uint64(i))
		if ft != nil {
			return ft
		}
		if err := w.Write(v); err != nil {
			return err
		}
	}
	return w.Close()
}

func (e env) compare() *cobra.Command {
	return &cobra.Command{
		Use:   "compare OLD NEW",
		Short: "Say what differs between two schemas, and whom it breaks",
		Long: `Says what the new schema adds, removes, renames (a guess), narrows and widens, one line each, and
whether that breaks who reads new messages by the old schema, or who writes old ones for the new.
Ends with 1 when anything breaks somebody.`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			old, err := anySchema(args[0])
			if err != nil {
				return err
			}
			now, err := anySchema(args[1])
			if err != nil {
				return err
			}
			breaks := false
			for _, c := range compare.Schemas(old, now) {
				fmt.Fprintf(e.out, "%-9s %s: %s%s\n", c.Kind, cmp.Or(c.Path, "the whole"), c.What, c.Breaks())
				breaks = breaks || c.Readers || c.Writers
			}
			if breaks {
				return errFaults
			}
			return nil
		},
	}
}

func (e env) export() *cobra.Command {
	var as string
	var many bool
	c := &cobra.Command{
		Use:   "export SCHEMA --as jsonschema|xsd",
		Short: "Write a schema as JSON Schema or XML Schema",
		Long: `Writes a schema as JSON Schema 2020-12, for its messages in JSON, or as XML Schema 1.0, for its
messages in XML.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if as != "jsonschema" && as != "xsd" {
				return fault.Expect(fault.Setting, "jsonschema or xsd", fault.Quote(as)).InField("--as")
			}
			s, err := anySchema(args[0])
			if err != nil {
				return err
			}
			if as == "xsd" {
				return e.write(xsd.Export(s))
			}
			return e.write(jsonschema.Export(s, many))
		},
	}
	c.Flags().StringVar(&as, "as", "jsonschema", "jsonschema or xsd")
	c.Flags().BoolVar(&many, "list", false, "JSON Schema: of a list of the records")
	return c
}
