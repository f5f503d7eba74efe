package app

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/spf13/cobra"

	"hollowreed/demo"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/apis"
	"hollowreed/internal/localpg"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/gates"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

func demoCommand() *cobra.Command {
	var f flags
	var reset bool
	c := &cobra.Command{
		Use: "demo", Short: "Start everything with the demo project", Args: cobra.NoArgs,
		Long: `Starts a private database, the stand-ins for the outside systems, a worker and the screens,
and drops a first file. Everything is kept in the data folder and there again at the next start.
With DATABASE_URL set (or --database) that server is used instead of a private one.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := untilStopped(cmd.Context())
			defer stop()
			if reset {
				return resetDemo(f.data)
			}
			err := f.demo(ctx, cmd.ErrOrStderr())
			if errors.Is(err, context.Canceled) {
				return nil
			}
			return err
		},
	}
	f.common(c)
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1:8420", "loopback address to serve on")
	f.called(c)
	f.data = "var"
	c.Flags().Lookup("data").DefValue = f.data
	c.Flags().BoolVar(&reset, "reset", false, "remove the demo's data, to start over; ends without starting")
	return c
}

// resetDemo removes a demo's data, unless the demo runs.
func resetDemo(data string) error {
	if _, err := os.Stat(data); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	unlock, err := lock(data)
	if err != nil {
		return err
	}
	defer unlock()
	for _, dir := range []string{clusterDir(data), filepath.Join(data, "gauge-drop"), filepath.Join(data, "stand-ins"), filepath.Join(data, "files"), filepath.Join(data, "key")} {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return nil
}

// lock keeps two demos from sharing one data folder.
func lock(data string) (func(), error) {
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("the data in %s is in use; stop what runs there first", data)
	}
	return func() { f.Close() }, nil
}

// clusterDir is where the private database lives: in the data folder, unless the user postgres
// could not reach it there.
func clusterDir(data string) string {
	dir := filepath.Join(data, "postgres")
	if localpg.Reachable(dir) {
		return dir
	}
	abs, _ := filepath.Abs(dir)
	h := fnv.New64a()
	h.Write([]byte(abs))
	return fmt.Sprintf("/var/tmp/hollowreed-%x", h.Sum64())
}

func (f *flags) demo(ctx context.Context, out io.Writer) error {
	began := time.Now()
	data, err := folder(f.data)
	if err != nil {
		return err
	}
	unlock, err := lock(data)
	if err != nil {
		return err
	}
	defer unlock()
	sendRest, err := traces(ctx)
	if err != nil {
		return err
	}
	defer sendRest()
	say := func(what string) { fmt.Fprintf(out, "%5.1f s  %s\n", time.Since(began).Seconds(), what) }

	if f.database == "" {
		say("starting the database in " + clusterDir(data))
		server, err := localpg.Start(ctx, clusterDir(data), localpg.Options{Durable: true})
		if err != nil {
			return err
		}
		defer server.Stop()
		f.database = server.URL("postgres")
	}
	f.product, err = owned(ctx, f.database, "hollowreed", "hollowreed_product")
	if err != nil {
		return err
	}
	ledgerURL, err := owned(ctx, f.database, "harbour_ledger", "harbour_ledger")
	if err != nil {
		return err
	}
	say("bringing the tables up to date")
	db, err := store.Open(ctx, f.product)
	if err != nil {
		return err
	}
	defer db.Close()
	f.folders = []string{"gauge-drop", "stand-ins"}
	f.env, f.keyFile = Demo.Environment, filepath.Join(data, "key")
	outside, err := f.connections(db)
	if err != nil {
		return err
	}
	defer outside.Close()
	loader, err := f.engine(db, outside, f.log(out))
	if err != nil {
		return err
	}
	texts, err := project.Read(demo.Files)
	if err != nil {
		return err
	}
	if err := LoadDemo(ctx, db, loader, texts); err != nil {
		return err
	}
	say("starting the stand-ins")
	running, err := standin.StartProgram(ctx, standin.Asked{Ledger: ledgerURL, Admin: f.database, Data: data})
	if err != nil {
		return err
	}
	if err := f.settle(ctx, running); err != nil {
		return err
	}
	return f.serve(ctx, out, db, outside, func(address string) error {
		if err := firstFile(ctx, db, filepath.Join(data, "gauge-drop", "incoming")); err != nil {
			return err
		}
		scanners, err := f.gates(ctx, db)
		if err != nil {
			return err
		}
		say("ready. Open " + address + "   (Ctrl-C stops everything; the data is kept)")
		for _, r := range running {
			say("stand-in " + r.Name + ": " + r.Page)
		}
		say("stand-in gate-scanners: " + scanners)
		return nil
	})
}

// scanEvery is the time between two scans at the gates.
const scanEvery = 4 * time.Second

// gates starts the scanners at the gates, which put their scans on a queue as a caller with a key of its own, and gives their page.
func (f *flags) gates(ctx context.Context, db store.DB) (string, error) {
	const name = "Gate scanners"
	list, err := store.Callers(ctx, db, Demo)
	if err != nil {
		return "", err
	}
	for _, c := range list { // of the last start, whose key nobody knows any more
		if c.Name == name {
			if err := store.RemoveCaller(ctx, db, Demo, c.ID); err != nil {
				return "", err
			}
		}
	}
	key, digest, hint := apis.NewKey()
	c := store.APICaller{ID: uuid.Must(uuid.NewV7()), Name: name, APIs: []string{project.ReleaseID(project.Channels, "gate-scans")}, MadeBy: DemoPerson.ID}
	if _, err := store.AddCaller(ctx, db, Demo, c); err != nil {
		return "", err
	}
	if err := store.AddCallerKey(ctx, db, Demo, store.CallerKey{Digest: digest, Caller: c.ID, Hint: hint, MadeBy: DemoPerson.ID}); err != nil {
		return "", err
	}
	g := &gates.Gates{Address: f.callsAddress() + page.Base(DemoProject) + "/channels/gate-scans", Key: key, Every: scanEvery}
	return g.Start(ctx)
}

// owned makes a database with a role of its own; on a server that was given, whose role may not make others, without.
func owned(ctx context.Context, admin, database, role string) (string, error) {
	address, err := localpg.CreateOwned(ctx, admin, database, role)
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "42501" { // insufficient_privilege
		return localpg.CreateIn(ctx, admin, database)
	}
	return address, err
}

// firstFile drops a file when nothing has ever run.
func firstFile(ctx context.Context, db store.DB, incoming string) error {
	runs, err := store.Runs(ctx, db, store.RunFilter{Scope: Demo, Most: 1})
	if err != nil || len(runs) > 0 {
		return err
	}
	const name = "sk_0309.tide"
	text, err := demo.Files.ReadFile("samples/" + name)
	if err != nil {
		return err
	}
	temp := filepath.Join(incoming, "."+name+".part")
	if err := os.WriteFile(temp, text, 0o644); err != nil {
		return err
	}
	return os.Rename(temp, filepath.Join(incoming, name))
}
