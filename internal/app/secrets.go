package app

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"hollowreed/internal/secret"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
)

// secretsCommand works on the key of the secrets.
func secretsCommand() *cobra.Command {
	var f flags
	c := &cobra.Command{Use: "secrets", Short: "Work on the key with which secrets are sealed"}
	rotate := &cobra.Command{
		Use: "rotate", Short: "Seal all secrets with a new key", Args: cobra.NoArgs,
		Long: `Makes a new key, seals every secret with it and removes the old one from the key file.
Running servers and workers that read the same file go on: they look into it for a key that they do not know.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.key != "" {
				return errors.New(keyVariable + " is set: put the keys into a file, the new one first, and name it with --key-file")
			}
			db, err := store.Open(cmd.Context(), f.database)
			if err != nil {
				return err
			}
			defer db.Close()
			ring, err := secret.Load(f.keyFile)
			if err != nil {
				return err
			}
			n, err := vault.Rotate(cmd.Context(), db, ring, f.keyFile)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%d secrets are sealed with a new key\n", n)
			return nil
		},
	}
	f.common(rotate)
	c.AddCommand(rotate)
	return c
}
