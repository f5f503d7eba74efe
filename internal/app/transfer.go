package app

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/spf13/cobra"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// transfer makes a command that brings a project into a database, or takes it out.
func (f *flags) transfer(c *cobra.Command, do func(cmd *cobra.Command, args []string, db *pgxpool.Pool) error) *cobra.Command {
	f.named(c)
	c.Flags().StringVar(&f.data, "data", "hollowreed-data", "folder of the private database, where no other one is named")
	c.Flags().StringVar(&f.keyFile, "key-file", keyFile, "file with the key of the secrets")
	c.Flags().StringVar(&f.project, "project", "", "id of the project; the only one, where none is named")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ctx, stop := untilStopped(cmd.Context())
		defer stop()
		cmd.SetContext(ctx)
		end, err := f.private(ctx)
		if err != nil {
			return err
		}
		defer end()
		db, err := store.Open(ctx, f.database)
		if err != nil {
			return err
		}
		defer db.Close()
		return do(cmd, args, db)
	}
	return c
}

// chosen is the project that is named, or the only one.
func (f *flags) chosen(projects []string) (string, error) {
	switch {
	case len(projects) == 0:
		return "", errors.New("the database holds no project yet")
	case f.project == "" && len(projects) > 1:
		return "", fault.Expect(fault.Required, "one of the projects "+strings.Join(projects, ", "), "none").InField("--project")
	case f.project == "":
		return projects[0], nil
	case !slices.Contains(projects, f.project):
		return "", fault.Expect(fault.Unknown, "one of the projects "+strings.Join(projects, ", "), fault.Quote(f.project)).InField("--project")
	}
	return f.project, nil
}

func importCommand() *cobra.Command {
	var f flags
	return f.transfer(&cobra.Command{
		Use: "import FOLDER|FILE.zip", Short: "Bring a project into the database", Args: cobra.ExactArgs(1),
		Long: `Brings the text files of a project in: as a new project, where there is none of that id, or in place of its
drafts. What differs is an edit that can be undone; parts that the folder lacks are removed, and can be
restored. What is released goes on running.`,
	}, func(cmd *cobra.Command, args []string, db *pgxpool.Pool) error {
		ctx := cmd.Context()
		texts, err := readProject(args[0])
		if err != nil {
			return err
		}
		if err := store.AddPerson(ctx, db, DemoPerson); err != nil {
			return err
		}
		projects, err := store.Projects(ctx, db)
		if err != nil {
			return err
		}
		title := project.Load("new", texts).Title
		if len(projects) == 0 && f.project == "" {
			f.project = idOf(title)
		}
		if f.project != "" && !slices.Contains(projects, f.project) {
			if err := addProject(ctx, db, f.project, title, texts); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "imported %s: %d parts\n", title, len(texts))
			return nil
		}
		id, err := f.chosen(projects)
		if err != nil {
			return err
		}
		var c store.Changes
		err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
			c, err = store.ReplaceParts(ctx, tx, id, texts, DemoPerson.ID)
			return err
		})
		if err == nil {
			fmt.Fprintf(cmd.ErrOrStderr(), "imported into %s: %d added, %d changed, %d removed\n", id, c.Added, c.Changed, c.Removed)
		}
		return err
	})
}

// readProject reads the text files of a project from a folder or a ZIP archive.
func readProject(from string) (map[string]string, error) {
	info, err := os.Stat(from)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return project.Read(os.DirFS(from))
	}
	if info.Size() > project.MaxPacked {
		return nil, fmt.Errorf("%s is larger than %d MB", from, project.MaxPacked>>20)
	}
	content, err := os.ReadFile(from)
	if err != nil {
		return nil, err
	}
	return project.Unpack(content)
}

func exportCommand() *cobra.Command {
	var f flags
	return f.transfer(&cobra.Command{
		Use: "export FOLDER|FILE.zip", Short: "Take the project out of the database", Args: cobra.ExactArgs(1),
		Long: `Writes the drafts of the project as text files into a folder, or packed into a ZIP archive. Files of the
folder that are no parts stay; parts that the project does not have are removed. Imported again, nothing
has changed.`,
	}, func(cmd *cobra.Command, args []string, db *pgxpool.Pool) error {
		projects, err := store.Projects(cmd.Context(), db)
		if err != nil {
			return err
		}
		id, err := f.chosen(projects)
		if err != nil {
			return err
		}
		texts, _, err := store.Texts(cmd.Context(), db, id)
		if err != nil {
			return err
		}
		if !strings.HasSuffix(args[0], ".zip") {
			err = os.MkdirAll(args[0], 0o755)
			if err == nil {
				err = project.Write(args[0], texts)
			}
		} else {
			var packed []byte
			if packed, err = project.Pack(texts); err == nil {
				err = os.WriteFile(args[0], packed, 0o644)
			}
		}
		if err == nil {
			fmt.Fprintf(cmd.ErrOrStderr(), "exported %s: %d parts\n", id, len(texts))
		}
		return err
	})
}
