package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
)

func (e env) api() *cobra.Command {
	c := &cobra.Command{
		Use:   "api",
		Short: "Check, compare, import, draft and call APIs by their contracts",
		Long: `Works on the contracts of APIs: OpenAPI documents (3.0 and 3.1) in JSON or YAML, and WSDL documents (1.1). Nothing
that they refer to is fetched.`,
	}
	c.AddCommand(e.checkAPI(), e.diffAPI(), e.importAPI(), e.exportAPI(), e.draftAPI(), e.callAPI())
	return c
}

func (e env) checkAPI() *cobra.Command {
	return &cobra.Command{
		Use:   "check DOCUMENT",
		Short: "Check a contract, and list its operations",
		Long: `Lists the operations of a contract with their parameters, bodies and answers. What is wrong with it, what
does nothing here, and what of its schemas cannot be held is told on standard error, with its line.
The command ends with 1 where something is wrong.`,
		Example: `  hollowreed api check bookings.openapi.yaml`,
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			k, err := readContract(args[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(e.out, "%s %s: %s\n", k.Title, k.Version, count(len(k.Operations), "operation"))
			for _, o := range k.Operations {
				fmt.Fprintln(e.out, oneOperation(o))
			}
			unheld := e.schemasOf(k)
			for _, f := range k.Faults {
				fmt.Fprintln(e.err, oneLine(f))
			}
			for _, f := range append(k.Notes, unheld...) {
				fmt.Fprintln(e.err, "note: "+oneLine(f))
			}
			if len(k.Faults) > 0 {
				return errFaults
			}
			return nil
		},
	}
}

// oneOperation is an operation in a line.
func oneOperation(o *contract.Operation) string {
	line := fmt.Sprintf("%-7s %s", o.Method, o.Path)
	if n := len(o.Parameters); n > 0 {
		line += fmt.Sprintf("  parameters %d", n)
	}
	if o.Body != nil {
		line += "  body"
		for _, m := range o.Body.Media {
			line += " " + m.Type
		}
	}
	line += "  answers"
	for _, a := range o.Answers {
		line += " " + a.Status
	}
	if o.Deprecated {
		line += "  deprecated"
	}
	return line
}

// schemasOf makes a part of each schema of a contract, and gives what none of them can hold; each schema once.
func (e env) schemasOf(k *contract.Contract) (notes fault.List) {
	seen := map[string]bool{}
	for _, place := range k.Places() {
		if seen[place] {
			continue
		}
		seen[place] = true
		d, err := k.Schema(place)
		if err != nil {
			k.Faults = append(k.Faults, fault.From(err, fault.Setting))
			continue
		}
		for _, n := range d.Notes {
			if told := n.Error(); !seen[told] {
				seen[told] = true
				notes = append(notes, n)
			}
		}
	}
	return notes
}

func (e env) diffAPI() *cobra.Command {
	var breakingOnly bool
	c := &cobra.Command{
		Use:   "diff OLDER NEWER",
		Short: "Say what differs between two contracts, and what breaks callers",
		Long: `Compares two contracts. A change breaks callers where one that keeps to the older contract sends what the
newer one refuses, or is answered what the older one does not describe. Those stand first. The command ends
with 1 where there are any.`,
		Example: `  hollowreed api diff bookings-1.yaml bookings-2.yaml`,
		Args:    cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			old, err := readContract(args[0])
			if err != nil {
				return err
			}
			now, err := readContract(args[1])
			if err != nil {
				return err
			}
			changes := contract.Compare(old, now)
			breaking := 0
			for _, ch := range changes {
				if ch.Breaks {
					breaking++
					fmt.Fprintf(e.out, "breaks  %s\n", ch)
				}
			}
			for _, ch := range changes {
				if !ch.Breaks && !breakingOnly {
					fmt.Fprintf(e.out, "        %s\n", ch)
				}
			}
			fmt.Fprintf(e.err, "%s, %s\n", count(len(changes), "change"), breakCallers(breaking))
			if breaking > 0 {
				return errFaults
			}
			return nil
		},
	}
	c.Flags().BoolVar(&breakingOnly, "breaking", false, "only what breaks callers")
	return c
}

func readContract(name string) (*contract.Contract, error) {
	text, err := readWhole(name)
	if err != nil {
		return nil, err
	}
	return contract.Read(name, text)
}

func breakCallers(n int) string {
	if n == 1 {
		return "1 breaks callers"
	}
	return fmt.Sprintf("%d break callers", n)
}
