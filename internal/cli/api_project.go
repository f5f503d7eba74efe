package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/draft"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
)

func (e env) importAPI() *cobra.Command {
	var id, title string
	c := &cobra.Command{
		Use:   "import FOLDER DOCUMENT",
		Short: "Add an API to a project by its contract",
		Long: `Adds an API to a project folder by its contract: an OpenAPI document (3.0 or 3.1) or a WSDL 1.1 document. Every
operation is answered by its examples, so that callers can begin; those of a SOAP service are passed through. Nothing that
is there is written over.`,
		Example: `  hollowreed api import skerry bookings.openapi.yaml --id bookings`,
		Args:    cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := readWhole(args[1])
			if err != nil {
				return err
			}
			k, err := contract.Read(args[1], text)
			if err != nil {
				return err
			}
			if title == "" {
				title = k.Title
			}
			if id == "" {
				id = partID(title)
			}
			if id == "" {
				return fault.New(fault.Required, "the contract has no title").WithFix("Name the API with --title")
			}
			return e.writeAPI(args[0], id, title, k, text)
		},
	}
	c.Flags().StringVar(&id, "id", "", "the id of the API; default: made of its title")
	c.Flags().StringVar(&title, "title", "", "the title of the API; default: that of the contract")
	return c
}

// partID makes an id of a title.
func partID(title string) string {
	return strings.Trim(strings.Join(strings.FieldsFunc(strings.ToLower(title), func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9') }), "-"), "-")
}

func (e env) writeAPI(folder, id, title string, k *contract.Contract, text []byte) error {
	file := id + ".openapi.yaml"
	if k.WSDL != nil {
		file = id + ".wsdl"
	}
	var ways []partfile.Ordered
	for _, o := range k.Operations {
		way := api.Examples.Name
		if o.Port != nil {
			way = api.PassThrough.Name
		}
		if !o.Document {
			ways = append(ways, partfile.Ordered{{Key: "operation", Value: o.ID}, {Key: "answered by", Value: way}})
		}
	}
	part := partfile.Encode(partfile.Ordered{{Key: "api", Value: title}, {Key: "contract", Value: file}, {Key: "operations", Value: ways}})
	for _, f := range []struct {
		path string
		text []byte
	}{{project.Path(project.Contracts, file), text}, {project.Path(project.APIs, id), part}} {
		if err := writeNew(filepath.Join(folder, filepath.FromSlash(f.path)), f.text); err != nil {
			return err
		}
		fmt.Fprintln(e.out, f.path)
	}
	return nil
}

// writeNew writes a file that is not there yet.
func writeNew(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if _, err = f.Write(text); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// apiIn finds an API of a project folder.
func apiIn(folder, id string) (*project.Project, *api.API, error) {
	p, err := load(folder)
	if err != nil {
		return nil, nil, err
	}
	a := p.API(id)
	if a == nil || a.Contract == nil {
		return nil, nil, fault.New(fault.Unknown, "there is no API %s with a contract", fault.Quote(id)).At(fault.Place{Source: folder})
	}
	return p, a, nil
}

// operationIn finds an operation of an API of a project folder.
func operationIn(folder, id, operation string) (*project.Project, *api.API, *contract.Operation, error) {
	p, a, err := apiIn(folder, id)
	if err != nil {
		return nil, nil, nil, err
	}
	o := a.Operation(operation)
	if o == nil {
		return nil, nil, nil, fault.New(fault.Unknown, "the contract has no operation %s", fault.Quote(operation))
	}
	return p, a, o, nil
}

func (e env) exportAPI() *cobra.Command {
	var server string
	c := &cobra.Command{
		Use:     "export FOLDER API",
		Short:   "Write the contract of an API, with the address at which it is called",
		Long:    `Writes the contract of an API of a project folder. With --server that address stands in it, in place of those that it names; all else stays as it is.`,
		Example: `  hollowreed api export skerry bookings --server https://calls.skerry.example/in/bookings > bookings.yaml`,
		Args:    cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			p, a, err := apiIn(args[0], args[1])
			if err != nil {
				return err
			}
			text := []byte(p.Texts[project.Path(project.Contracts, a.File.Value)])
			switch {
			case server == "":
			case a.Contract.WSDL != nil:
				text = a.Contract.WSDLAt(func(*contract.Port) string { return server })
			default:
				if text, err = contract.Export(text, server); err != nil {
					return err
				}
			}
			_, err = e.out.Write(text)
			return err
		},
	}
	c.Flags().StringVar(&server, "server", "", "the address at which the API is called")
	return c
}

func (e env) draftAPI() *cobra.Command {
	var accept int
	var cache bool
	c := &cobra.Command{
		Use:   "draft FOLDER API OPERATION",
		Short: "Propose how an operation comes from those of the connections",
		Long: `Searches the operations of the project's connections for chains of calls that lead from what the caller gives to
what the contract answers, and says where each value comes from, how sure that is and why. What nobody has is
"open". It asks no service, and says the same each time. With --accept the flow of a proposal is written.`,
		Example: `  hollowreed api draft skerry fares quote
  hollowreed api draft skerry fares quote --accept 1 > skerry/flows/fare-quote.yaml`,
		Args: cobra.ExactArgs(3),
		RunE: func(_ *cobra.Command, args []string) error {
			p, a, o, err := operationIn(args[0], args[1], args[2])
			if err != nil {
				return err
			}
			list, err := p.ProposeFlows(a.ID, o.ID, max(3, accept))
			if err != nil {
				return err
			}
			if accept == 0 {
				for i, pr := range list {
					e.tellProposal(i+1, pr)
				}
				fmt.Fprintf(e.err, "%s\n", count(len(list), "proposal"))
				return nil
			}
			if accept > len(list) {
				return fault.Expect(fault.Unknown, fmt.Sprintf("a proposal from 1 to %d", len(list)), fmt.Sprint(accept))
			}
			title := o.Summary
			if title == "" {
				title = o.ID
			}
			_, err = e.out.Write(p.DraftFlow(a.ID, o.ID, title, list[accept-1], cache))
			return err
		},
	}
	c.Flags().IntVar(&accept, "accept", 0, "write the flow of the proposal of this number")
	c.Flags().BoolVar(&cache, "cache", false, "let the flow remember for an hour what changes rarely")
	return c
}

// tellProposal writes a proposal, a line for each value.
func (e env) tellProposal(number int, pr draft.Proposal) {
	fmt.Fprintf(e.out, "%d. score %.2f\n", number, pr.Score)
	binding := func(b draft.Binding) {
		from := "request " + b.From.Leaf.Name()
		if b.From.Operation != nil {
			from = b.From.Operation.ID + " " + b.From.Leaf.Name()
		}
		if b.Factor != "" {
			from += " * " + b.Factor
		}
		fmt.Fprintf(e.out, "     %-24s %-40s %.2f  %s\n", b.To.Name(), from, b.Score, strings.Join(b.Reasons, "; "))
	}
	for _, call := range pr.Calls {
		fmt.Fprintf(e.out, "   call %s\n", call.Operation.ID)
		for _, b := range call.Bindings {
			binding(b)
		}
	}
	fmt.Fprintln(e.out, "   response")
	for _, b := range pr.Answer {
		binding(b)
	}
	for _, l := range pr.Open {
		fmt.Fprintf(e.out, "     %-24s open\n", l.Name())
	}
}

func (e env) callAPI() *cobra.Command {
	var address, body, media, keyFile string
	c := &cobra.Command{
		Use:   "call FOLDER API OPERATION [NAME=VALUE …]",
		Short: "Call an operation of an API, and hold its response against the contract",
		Long: `Calls an operation of an API over HTTP. Parameters are given by name; for the others the examples of the contract
are sent. The response is written as it comes; what of it breaks the contract is told on standard error, and the
command ends with 1 then.`,
		Example: `  hollowreed api call skerry fares quote plate="SK 40117" route=LING-ORMA --address http://127.0.0.1:8421/in/fares`,
		Args:    cobra.MinimumNArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, a, o, err := operationIn(args[0], args[1], args[2])
			if err != nil {
				return err
			}
			typed, err := e.typed(args[3:], body, media, keyFile)
			if err != nil {
				return err
			}
			f := apicall.Of(a, o)
			if body == "" && f.HasBody {
				typed["body"] = f.Body
			}
			for _, in := range f.Inputs {
				if v, there := typed[in.Name]; there {
					typed[in.Field()] = v
				}
			}
			f.Fill(func(name string) (string, bool) { v, there := typed[name]; return v, there })
			r, err := f.Send(cmd.Context(), apicall.Target{Address: address}, a, o, "")
			if err != nil {
				return err
			}
			fmt.Fprintf(e.err, "%d %s in %s\n", r.Status, r.Text, r.Took)
			fmt.Fprintln(e.out, r.Last)
			for _, ft := range r.Faults {
				fmt.Fprintln(e.err, "breaks the contract: "+oneLine(ft))
			}
			if len(r.Faults) > 0 {
				return errFaults
			}
			return nil
		},
	}
	c.Flags().StringVar(&address, "address", "", "below which the API is called")
	c.Flags().StringVar(&body, "body", "", "a file with the body; - is standard input")
	c.Flags().StringVar(&media, "media", "", "the media type of the body; default: the first of the contract")
	c.Flags().StringVar(&keyFile, "key-file", "", "a file with the key of the caller")
	if err := c.MarkFlagRequired("address"); err != nil {
		panic(err) // the flag is there
	}
	return c
}

// typed is what is given for a call, by the names of the fields of its form.
func (e env) typed(pairs []string, body, media, keyFile string) (map[string]string, error) {
	typed := map[string]string{}
	for _, pair := range pairs {
		name, v, is := strings.Cut(pair, "=")
		if !is {
			return nil, fault.Expect(fault.Setting, "a parameter as name=value", fault.Quote(pair))
		}
		typed[name] = v
	}
	for field, file := range map[string]string{"body": body, "key": keyFile} {
		if file == "" {
			continue
		}
		text, err := readWhole(file)
		if err != nil {
			return nil, err
		}
		typed[field] = string(text)
	}
	typed["key"] = strings.TrimSpace(typed["key"])
	if media != "" {
		typed["media"] = media
	}
	return typed, nil
}
