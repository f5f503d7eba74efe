package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/gauges"
)

// standinCommand starts one simulated system by itself.
func standinCommand() *cobra.Command {
	var data string
	list := append([]standin.Standin{gauges.Standin}, alone...)
	var names []string
	for _, s := range list {
		names = append(names, fmt.Sprintf("  %-16s %s", s.Name, s.About))
	}
	c := &cobra.Command{
		Use: "standin NAME", Short: "Start one simulated outside system by itself", Args: cobra.ExactArgs(1),
		Long: "Starts one of the outside systems of the demo on loopback until Ctrl-C, and says how it is reached:\n\n" + strings.Join(names, "\n"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := untilStopped(cmd.Context())
			defer stop()
			for _, s := range list {
				if s.Name == args[0] {
					return startOne(ctx, cmd.OutOrStdout(), s, data)
				}
			}
			return fmt.Errorf("there is no stand-in %q; there are:\n%s", args[0], strings.Join(names, "\n"))
		},
	}
	c.Flags().StringVar(&data, "data", "var", "folder for what it keeps")
	return c
}

func startOne(ctx context.Context, out io.Writer, s standin.Standin, data string) error {
	running, err := startAll(ctx, []standin.Standin{s}, data)
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
