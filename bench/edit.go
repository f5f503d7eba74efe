package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/demo"
	"hollowreed/internal/connector"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web"
	"hollowreed/internal/web/page"
)

// editParts is how many parts the project has in which is edited, editTimes how often a thing is changed.
const (
	editParts = 1000
	editTimes = 25
)

// edits measures how long a change on a screen takes at the server, in a project of a thousand parts: the part is saved, what
// depends on it is compiled, and what changes on the page is drawn. It is compared with compiling the project as a whole, once.
func edits(dir string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	server, err := localpg.Start(ctx, filepath.Join(dir, "pg-edit"), localpg.Options{})
	if err != nil {
		return err
	}
	defer server.Stop()
	texts, err := manyParts()
	if err != nil {
		return err
	}
	db, err := editDatabase(ctx, server, texts)
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, stopped := context.WithCancel(ctx) // who listens ends before the pool does
	defer stopped()
	outside := connector.Same[store.Scope](connector.StaticSettings{}, connector.Rules{})
	defer outside.Close()
	e, err := engine.New(db, outside, engine.Options{})
	if err != nil {
		return err
	}
	sites := &page.Sites{Shared: page.Shared{
		DB: db, Engine: e, Pools: outside, Vault: &vault.Vault{DB: db}, Hub: page.NewHub(ctx, db),
		Log: slog.New(slog.DiscardHandler), Person: store.Person{ID: "bench", Name: "Bench", Initials: "B"}, Environment: store.Environments[0],
	}}
	address, stop, err := served(web.Handler(sites))
	if err != nil {
		return err
	}
	defer stop()
	whole := wholeCompile(texts)
	fmt.Printf("%d parts\n  %-46s %8.1f ms\n", len(texts), "all of them compiled", ms(whole))
	for _, c := range []struct {
		what, path, at string
		change         func(i int) url.Values
	}{
		{"a formula of a step", "flows/gauge-readings.yaml", "/bench/flows/gauge-readings/steps/keep", func(i int) url.Values {
			return url.Values{"set where": {"level_cm > " + strconv.Itoa(i)}}
		}},
		{"a field of a schema that a mapping names", "schemas/tide-level.yaml", "/bench/schemas/tide-level/field", func(i int) url.Values {
			return url.Values{"field": {"0"}, "set notes": {"changed " + strconv.Itoa(i)}}
		}},
	} {
		if err := editFor(ctx, db, address+page.Base("many"), c.what, c.path, c.at, c.change, whole); err != nil {
			return fmt.Errorf("%s: %w", c.what, err)
		}
	}
	return nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// manyParts is the demo project with copies of its parts.
func manyParts() (map[string]string, error) {
	own, err := project.Read(demo.Files)
	if err != nil {
		return nil, err
	}
	texts := maps.Clone(own)
	for n := 1; len(texts) < editParts; n++ {
		for _, path := range slices.Sorted(maps.Keys(own)) {
			if kind, id, is := project.Kind(path); is && kind != project.Libraries {
				texts[project.Path(kind, fmt.Sprintf("copy-%d-%s", n, id))] = own[path]
			}
		}
	}
	return texts, nil
}

func editDatabase(ctx context.Context, server *localpg.Server, texts map[string]string) (*pgxpool.Pool, error) {
	address, err := server.Create(ctx, "edits")
	if err != nil {
		return nil, err
	}
	db, err := store.Open(ctx, address)
	if err != nil {
		return nil, err
	}
	if err := store.AddPerson(ctx, db, store.Person{ID: "bench", Name: "Bench", Initials: "B"}); err != nil {
		return nil, err
	}
	return db, pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		_, err := store.AddProject(ctx, tx, "many", "Many", texts, "bench")
		return err
	})
}

// wholeCompile is how long the median compilation of all parts takes.
func wholeCompile(texts map[string]string) time.Duration {
	var took []time.Duration
	for range 5 {
		began := time.Now()
		project.Load("many", texts)
		took = append(took, time.Since(began))
	}
	return median(took)
}

// editFor changes something again and again, as a form does, and says how long the answers took.
func editFor(ctx context.Context, db *pgxpool.Pool, address, what, path, at string, change func(i int) url.Values, whole time.Duration) error {
	var took []time.Duration
	for i := range editTimes {
		draft, err := store.PartDraft(ctx, db, "many", path)
		if err != nil {
			return err
		}
		form := change(i)
		form.Set("revision", strconv.FormatInt(draft.Revision, 10))
		began := time.Now()
		if err := sendForm(address+at, form); err != nil {
			return err
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	fmt.Printf("  %-46s %8.1f ms, the slowest %.1f ms; %.2f of compiling all\n", what, ms(median(took)), ms(took[len(took)-1]), float64(median(took))/float64(whole))
	return nil
}

func sendForm(at string, form url.Values) error {
	req, err := http.NewRequest(http.MethodPost, at, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("HX-Request", "true")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(res.Body)
	if err = errors.Join(err, res.Body.Close()); err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("answered %s: %.200s", res.Status, text)
	}
	return err
}
