package cli

import (
	"bufio"
	stdjson "encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/xsd"
	"hollowreed/internal/core/validate"
)

type validateFlags struct {
	schema, from string
	with         []string
	most         int
}

func (e env) validate() *cobra.Command {
	var f validateFlags
	c := &cobra.Command{
		Use:   "validate --schema SCHEMA FILE...",
		Short: "Check files against a schema",
		Long: `Checks whole files against a schema, which is a part file (.yaml), a JSON Schema (.json) or an XML
Schema (.xsd), and writes every fault as a line of JSON with file, path, line, column, expected,
found and rule, the place in the schema that says so. By a part or an XML Schema, files of any
size are checked while they are read; by a JSON Schema, a document at a time.

Ends with 0 when everything is valid, with 1 when anything is not, and with 2 when a file cannot be read
as its notation at all.`,
		Example: `  hollowreed validate --schema demo/schemas/gauge-reading.yaml sk_0309.tide`,
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			lean()
			check := e.byPart
			switch filepath.Ext(f.schema) {
			case ".json":
				check = e.byJSONSchema
			case ".xsd":
				check = e.byXMLSchema
			}
			found, err := check(cmd, f, args)
			switch {
			case err != nil:
				return err
			case found.unread:
				return errUnread
			case found.faults > 0:
				return errFaults
			}
			return nil
		},
	}
	c.Flags().StringVar(&f.schema, "schema", "", "part file, JSON Schema or XML Schema")
	c.Flags().StringArrayVar(&f.with, "with", nil, "further schema file that the schema refers to")
	c.Flags().StringVar(&f.from, "from", "", "notation of the files, if not the schema's: "+strings.Join(all.Names(), ", "))
	c.Flags().IntVar(&f.most, "most", 1000, "faults to report of each file; 0 for all")
	c.MarkFlagRequired("schema")
	return c
}

// checked is what was found in all files.
type checked struct {
	faults int
	unread bool // a file is none of its notation
}

func (e env) byPart(cmd *cobra.Command, f validateFlags, files []string) (all checked, err error) {
	s, err := schemaFile(f.schema)
	if err != nil {
		return all, err
	}
	if f.from == "" && !s.Notation.Bytes {
		return all, fault.New(fault.Required, "rows of a database have no notation of files").WithFix("Say with --from how the files are written")
	}
	as, err := notationOf(f.from, s)
	if err != nil {
		return all, err
	}
	for _, name := range files {
		in, err := open(cmd, name)
		if err != nil {
			return all, err
		}
		n := 0
		tally, err := validate.File(s, f.schema, as, name, in, func(ft *fault.Fault) bool {
			e.finding(name, ft)
			n++
			return f.most == 0 || n < f.most
		})
		in.Close()
		if err != nil {
			return all, err
		}
		all.faults += tally.Faults
		all.unread = all.unread || tally.Unread
		e.verdict(name, tally.Records, "record", tally.Faults)
		e.passedOver(name+": ", &tally.Ignored)
	}
	return all, nil
}

func (e env) byJSONSchema(_ *cobra.Command, f validateFlags, files []string) (all checked, err error) {
	text, err := readWhole(f.schema)
	if err != nil {
		return all, err
	}
	others, err := readAll(f.with)
	if err != nil {
		return all, err
	}
	v, err := jsonschema.Compile(f.schema, text, others)
	if err != nil {
		return all, err
	}
	for _, name := range files {
		message, err := readWhole(name)
		if err != nil {
			return all, err
		}
		found, err := v.Check(name, message)
		if ft, ok := err.(*fault.Fault); ok {
			found, err = fault.List{ft}, nil
			all.unread = all.unread || validate.Unreadable(ft)
		}
		if err != nil {
			return all, err
		}
		for i, ft := range found {
			if f.most > 0 && i >= f.most {
				break
			}
			e.finding(name, ft)
		}
		all.faults += len(found)
		e.verdict(name, 1, "document", len(found))
	}
	return all, nil
}

func (e env) byXMLSchema(cmd *cobra.Command, f validateFlags, files []string) (all checked, err error) {
	set, err := xmlSchema(f.schema, f.with)
	if err != nil {
		return all, err
	}
	for _, n := range set.Notes {
		fmt.Fprintln(e.err, n.Error())
	}
	for _, name := range files {
		in, err := open(cmd, name)
		if err != nil {
			return all, err
		}
		n := set.Validate(name, bufio.NewReaderSize(in, 64<<10), func(ft *fault.Fault) bool {
			e.finding(name, ft)
			all.faults++
			all.unread = all.unread || validate.Unreadable(ft)
			return f.most == 0 || all.faults < f.most
		})
		in.Close()
		e.verdict(name, 1, "document", n)
	}
	return all, nil
}

// xmlSchema reads an XML Schema with the files beside it that it needs.
func xmlSchema(name string, others []string) (*xsd.Set, error) {
	text, err := readWhole(name)
	if err != nil {
		return nil, err
	}
	beside, err := readAll(others)
	if err != nil {
		return nil, err
	}
	siblings, err := filepath.Glob(filepath.Join(filepath.Dir(name), "*.xsd"))
	if err != nil {
		return nil, err
	}
	for _, s := range siblings {
		if _, given := beside[s]; !given && s != name {
			if beside[s], err = readWhole(s); err != nil {
				return nil, err
			}
		}
	}
	return xsd.Load(name, text, beside)
}

// verdict says how it went, for a person; the faults themselves are for both.
func (e env) verdict(name string, n int, what string, faults int) {
	word := "valid"
	if faults > 0 {
		word = count(faults, "fault")
	}
	fmt.Fprintf(e.err, "%s: %s, %s\n", name, count(n, what), word)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// finding is a fault as a line of JSON.
type finding struct {
	File     string `json:"file"`
	Path     string `json:"path"`
	Line     int    `json:"line"`
	Column   int    `json:"column"`
	Expected string `json:"expected"`
	Found    string `json:"found"`
	Rule     string `json:"rule"`
	Code     string `json:"code"`
	Field    string `json:"field,omitempty"`
	Message  string `json:"message,omitempty"`
}

func (e env) finding(name string, f *fault.Fault) {
	rule := fault.Fault{Place: f.Rule}
	line, err := stdjson.Marshal(finding{
		File: name, Path: f.Place.Path, Line: f.Place.Line, Column: f.Place.Column, Expected: f.Expected, Found: f.Found,
		Rule: rule.Where(), Code: string(f.Code), Field: f.Field, Message: f.Message,
	})
	if err != nil {
		panic(err) // texts and numbers can always be written
	}
	fmt.Fprintf(e.out, "%s\n", line)
}
