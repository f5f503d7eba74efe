// Package cli is the command line: what needs no server and no database works on a project's
// folder alone. A command ends with 0 when it did its work, 1 when what it checked has faults and
// 2 when it could not work with what it was given.
package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
)

// Exit codes.
const (
	exitDone   = 0
	exitFaults = 1
	exitInput  = 2
)

// lean sets the collector for a command that streams: the memory of records is used again, so that little is alive and collecting
// it a little more often than usual costs next to nothing.
func lean() { debug.SetGCPercent(125) }

// errFaults ends a command with exitFaults; everything is said already.
var errFaults = errors.New("faults")

// errUnread ends a command with exitInput; everything is said already.
var errUnread = errors.New("unread")

// env is what a command writes to.
type env struct {
	out io.Writer
	err io.Writer
}

// Run runs one command line and returns its exit code.
func Run(args []string, in io.Reader, out, errs io.Writer, more ...*cobra.Command) int {
	buffered := bufio.NewWriterSize(out, 64<<10)
	e := env{out: buffered, err: errs}
	root := &cobra.Command{
		Use:   "hollowreed",
		Short: "Design flows, mappings and schemas, and run them",
		Long: `Hollow Reed moves and transforms data between business applications.

The commands check, map, run, convert, validate, schema, formula and test work on files alone: no server, no
database.
A project is a folder with project.yaml and the folders connections, schemas, mappings,
flows and samples.`,
		SilenceUsage: true, SilenceErrors: true,
	}
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	root.CompletionOptions.DisableDefaultCmd = true
	root.AddCommand(e.check(), e.mapping(), e.run(), e.convert(), e.validate(), e.schema(), e.api(), e.formula(), e.test())
	root.AddCommand(more...)
	err := root.Execute()
	if ferr := buffered.Flush(); err == nil {
		err = ferr
	}
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errFaults):
		return exitFaults
	case errors.Is(err, errUnread):
		return exitInput
	}
	fmt.Fprintln(errs, "hollowreed: "+oneLine(err))
	return exitInput
}

// oneLine is an error as one line for a person.
func oneLine(err error) string {
	var path *os.PathError
	if errors.As(err, &path) {
		return fmt.Sprintf("%s: %s", path.Path, path.Err)
	}
	var faults fault.List
	if errors.As(err, &faults) && len(faults) > 0 {
		return faults[0].Error()
	}
	return err.Error()
}

// load reads a project folder.
func load(folder string) (*project.Project, error) {
	if info, err := os.Stat(folder); err != nil {
		return nil, err
	} else if !info.IsDir() {
		return nil, fault.New(fault.Setting, "%s is not a folder", folder)
	}
	texts, err := project.Read(os.DirFS(folder))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", folder, err)
	}
	abs, _ := filepath.Abs(folder)
	return project.Load(filepath.Base(abs), texts), nil
}

func (e env) check() *cobra.Command {
	return &cobra.Command{
		Use:   "check FOLDER",
		Short: "Check a project: every part, and how the parts fit together",
		Long: `Checks every part of the project and how they fit together: syntax, names, types,
the shape of the data through every step, rules against both schemas.

Each fault is one line: file:line:column: what is wrong. Ends with 1 when there are any. Outcomes that
nothing is done about, as a caller who gets no answer, are lines that begin with "note:"; they are no faults.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := load(args[0])
			if err != nil {
				return err
			}
			for _, f := range p.Faults {
				fmt.Fprintln(e.out, f.Error())
			}
			for _, f := range p.Warnings {
				fmt.Fprintln(e.out, "note: "+f.Error())
			}
			if len(p.Faults) > 0 {
				return errFaults
			}
			return nil
		},
	}
}

// open opens an input file; "-" is standard input.
func open(cmd *cobra.Command, name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(cmd.InOrStdin()), nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err == nil && info.IsDir() {
		f.Close()
		return nil, fault.New(fault.Setting, "%s is a folder, not a file", name)
	}
	return f, nil
}
