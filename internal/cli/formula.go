package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
)

func (e env) formula() *cobra.Command {
	var on, from, part string
	var list bool
	c := &cobra.Command{
		Use:   "formula FORMULA | --list",
		Short: "Compute a formula, by itself or for every record of a file",
		Long: `Computes a formula and writes its result as JSON; for every record of a file with --on. With a
schema the record's fields are named as they are; without one they are record.name.

--list writes the reference of all functions, as Markdown.`,
		Example: `  hollowreed formula 'addBusinessDays(date("2031-03-07"), 1)'
  hollowreed formula 'upper(record.name)' --on stations.csv --from csv`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case list:
				_, err := io.WriteString(e.out, formula.Reference())
				return err
			case len(args) == 0:
				return errors.New("a formula is missing")
			case on == "":
				return e.compute(args[0], formula.NewScope(), &formula.Frame{})
			}
			return e.computeOn(cmd, args[0], on, from, part)
		},
	}
	c.Flags().StringVar(&on, "on", "", "file with the records to compute it for; - is standard input")
	c.Flags().StringVar(&from, "from", "json", "notation of that file: "+strings.Join(all.Names(), ", "))
	c.Flags().StringVar(&part, "schema", "", "the schema's part file")
	c.Flags().BoolVar(&list, "list", false, "write the reference of all functions")
	return c
}

// compute computes a formula once.
func (e env) compute(source string, scope *formula.Scope, fr *formula.Frame) error {
	p, faults := formula.Compile(source, scope)
	if len(faults) > 0 {
		return faults
	}
	return e.result(p, fr)
}

func (e env) result(p *formula.Program, fr *formula.Frame) error {
	v, f := p.Eval(fr)
	if f != nil {
		return f
	}
	_, err := fmt.Fprintf(e.out, "%s\n", json.Bytes(v))
	return err
}

// computeOn computes a formula for every record of a file. A record for which it cannot be computed is
// said on standard error, and the rest is computed all the same.
func (e env) computeOn(cmd *cobra.Command, source, name, from, part string) error {
	o := notation.Options{Source: name}
	scope := formula.NewScope()
	record := formula.Type{Kind: value.RecordKind}
	if part != "" {
		s, err := schemaFile(part)
		if err != nil {
			return err
		}
		o.Schema, record.Fields = s, s.Root
	}
	in, err := open(cmd, name)
	if err != nil {
		return err
	}
	defer in.Close()
	n, err := all.Named(from)
	if err != nil {
		return err
	}
	r, err := n.NewReader(in, o)
	if err != nil {
		return err
	}
	slot := scope.Define("record", record)
	scope.Open("record")
	var p *formula.Program
	bad := 0
	for {
		v, err := r.Next()
		var faults fault.List
		switch {
		case err == io.EOF && bad > 0:
			return errFaults
		case err == io.EOF:
			return nil
		case errors.As(err, &faults):
			bad++
			fmt.Fprintln(e.err, faults.Error())
			continue
		case err != nil:
			return err
		}
		if p == nil {
			if p, faults = formula.Compile(source, scope); len(faults) > 0 {
				return faults
			}
		}
		fr := &formula.Frame{Slots: make([]value.Value, slot+1)}
		fr.Slots[slot] = v
		if err := e.result(p, fr); err != nil {
			bad++
			fmt.Fprintf(e.err, "%s: %s\n", r.Place().Source, err)
		}
	}
}
