// Command standins starts the simulated outside systems: one by itself, or those of the demo.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sort"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/all"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command().ExecuteContext(ctx); err != nil {
		os.Exit(1)
	}
}

func command() *cobra.Command {
	var data string
	var demo bool
	var names []string
	for _, s := range all.Alone {
		names = append(names, fmt.Sprintf("  %-16s %s", s.Name, s.About))
	}
	c := &cobra.Command{
		Use: "standins [NAME]", Short: "Start simulated outside systems", Args: cobra.MaximumNArgs(1), SilenceUsage: true,
		Long: "Starts one of the outside systems of the demo on loopback until Ctrl-C, and says how it is reached:\n\n" + strings.Join(names, "\n"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if demo {
				return serveDemo(cmd.Context(), cmd.InOrStdin(), cmd.OutOrStdout())
			}
			for _, s := range all.Alone {
				if len(args) == 1 && s.Name == args[0] {
					return serveOne(cmd.Context(), cmd.OutOrStdout(), s, data)
				}
			}
			return fmt.Errorf("name one of the stand-ins:\n%s", strings.Join(names, "\n"))
		},
	}
	c.Flags().StringVar(&data, "data", "var", "folder for what it keeps")
	c.Flags().BoolVar(&demo, "demo", false, "start all of the demo, as it asks on the standard input; it is told there how they are reached")
	return c
}

// serveDemo starts all of the demo, and tells how each is reached, a JSON object a line.
func serveDemo(ctx context.Context, in io.Reader, out io.Writer) error {
	var asked standin.Asked
	if err := json.NewDecoder(in).Decode(&asked); err != nil {
		return err
	}
	running, err := all.Start(ctx, all.Demo(asked.Ledger, asked.Admin), asked.Data)
	if err != nil {
		return err
	}
	for _, r := range running {
		if err := json.NewEncoder(out).Encode(r); err != nil {
			return err
		}
	}
	if _, err := fmt.Fprintln(out, standin.Ready); err != nil {
		return err
	}
	return untilDone(ctx)
}

func serveOne(ctx context.Context, out io.Writer, s standin.Standin, data string) error {
	running, err := all.Start(ctx, []standin.Standin{s}, data)
	if err != nil {
		return err
	}
	fmt.Fprintln(out, "its page:", running[0].Page)
	for id, reach := range running[0].Reach {
		fmt.Fprintf(out, "%s, a connection of kind %s:\n", id, reach.Kind)
		for _, name := range inOrder(reach) {
			fmt.Fprintf(out, "  %s: %s\n", name, strings.ReplaceAll(strings.TrimSpace(reach.Values[name]), "\n", "\n    "))
		}
	}
	return untilDone(ctx)
}

func untilDone(ctx context.Context) error {
	<-ctx.Done()
	if err := ctx.Err(); !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}

// inOrder are the names of the settings as the kind has them.
func inOrder(r standin.Reach) []string {
	at := map[string]int{}
	for i, s := range connection.KindOf(r.Kind).Settings {
		at[s.Name] = i
	}
	var names []string
	for name := range r.Values {
		names = append(names, name)
	}
	sort.Slice(names, func(i, j int) bool { return at[names[i]] < at[names[j]] })
	return names
}
