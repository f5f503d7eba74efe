package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/app"
	"hollowreed/internal/connector"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/page"
)

// callTurn is for how long a side is called in a turn, callTurns how many turns each has.
const (
	callTurn  = 2 * time.Second
	callTurns = 9
)

// callFlows are a report that is known by its id, told in the event log and answered; one whose id is kept for later runs, so that
// its run is recorded before it begins; and a question that is answered from a table.
var callFlows = map[string]string{
	"project.yaml":        "project: Calls\n",
	"schemas/report.yaml": "schema: Report\nnotation: json\nfields:\n  - {name: id, type: text}\n  - {name: vessel, type: text}\n  - {name: severity, type: integer}\n  - {name: remark, type: text, occurs: 0..1}\n",
	"schemas/noted.yaml":  "schema: Noted\nnotation: json\nfields:\n  - {name: noted, type: boolean}\n",
	"schemas/berth.yaml":  "schema: Berth\nnotation: json\nfields:\n  - {name: berth, type: text}\n",
	"tables/berths.yaml":  "table: Berths\ncolumns:\n  - {name: vessel, key: true}\n  - {name: berth}\nrows:\n  - [Ling, north]\n",
	"flows/reports.yaml": `flow: Reports
trigger: {kind: request, path: reports, input: report, as: report, output: noted}
steps:
  - {step: reference, id: reference, is: report.id}
  - {step: template, id: line, text: "${report.vessel}, severity ${report.severity}: ${report.remark ?? \"no remark\"}", as: line}
  - {step: note, id: note, text: line, where: the event log}
  - {step: answer, id: answer, with: {noted: "true"}, status: "201"}
`,
	"flows/once.yaml": `flow: Once
trigger: {kind: request, path: once, input: report, as: report, output: noted}
steps:
  - {step: once, id: once, key: report.id}
  - {step: answer, id: answer, with: {noted: "true"}, status: "201"}
`,
	"flows/where.yaml": `flow: Where
trigger: {kind: request, method: GET, path: "where/{vessel}", output: berth}
steps:
  - {step: answer, id: answer, with: {berth: 'lookup("berths", request.parameters.vessel).berth'}}
`,
}

// side is one of two programs that answer the same calls.
type side struct {
	name, address string
	key           string              // of the caller; empty: none is sent
	recorded      func() (int, error) // the runs that are recorded so far; nil where nobody counts them
}

// calls compares requests that start runs with a bare handler of Gin and pgx on the same server, by turns: the body is decoded and
// checked, one row is written in a transaction of its own, and 201 is answered.
func calls(dir string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	server, err := localpg.Start(ctx, filepath.Join(dir, "pg-call"), localpg.Options{Durable: true})
	if err != nil {
		return err
	}
	defer server.Stop()
	bare, stopBare, err := bareCalls(ctx, server)
	if err != nil {
		return err
	}
	defer stopBare()
	ours, stopOurs, err := engineCalls(ctx, server)
	if err != nil {
		return err
	}
	defer stopOurs()
	report := func() (string, string, string) {
		return http.MethodPost, "reports", `{"id": "R-17", "vessel": "Ling", "severity": 3, "remark": "rope in the screw"}`
	}
	var id atomic.Int64
	once := func() (string, string, string) {
		return http.MethodPost, "once", fmt.Sprintf(`{"id": "R-%d", "vessel": "Ling", "severity": 3}`, id.Add(1))
	}
	where := func() (string, string, string) { return http.MethodGet, "where/Ling", "" }
	for _, c := range []struct {
		what   string
		many   int
		of     side
		status int
		call   func() (method, path, body string)
	}{
		{"a report, 1 caller", 1, bare, 201, report},
		{"a report, 32 callers", 32, bare, 201, report},
		{"a report that is kept, 1 caller", 1, bare, 201, once},
		{"a report that is kept, 32 callers", 32, bare, 201, once},
		{"a question, 1 caller", 1, side{name: bare.name + ", no wait for the disk", address: bare.address + "quick/"}, 200, where},
		{"a question, 32 callers", 32, side{name: bare.name + ", no wait for the disk", address: bare.address + "quick/"}, 200, where},
		{"a question, 32 callers, beside one that records nothing", 32, side{name: "bare Gin, nothing recorded", address: bare.address + "nothing/"}, 200, where},
	} {
		if err := compareCalls(c.what, c.of, ours, c.many, c.status, c.call); err != nil {
			return err
		}
	}
	return nil
}

func compareCalls(what string, bare, ours side, many, status int, call func() (string, string, string)) error {
	var rates [2][]float64
	var halves [2][]time.Duration
	var ratios []float64
	for range callTurns {
		for i, s := range []side{bare, ours} {
			rate, half, err := s.callFor(many, status, call)
			if err != nil {
				return fmt.Errorf("%s: %w", s.name, err)
			}
			rates[i], halves[i] = append(rates[i], rate), append(halves[i], half)
		}
		ratios = append(ratios, rates[1][len(rates[1])-1]/rates[0][len(rates[0])-1])
	}
	fmt.Printf("%s\n", what)
	for i, s := range []side{bare, ours} {
		fmt.Printf("  %-42s %8.0f a second, half of them within %.2f ms\n", s.name, median(rates[i]), float64(median(halves[i]).Microseconds())/1000)
	}
	fmt.Printf("  %-42s %8.2f of the bare handler, median of %d turns (%.2f to %.2f)\n", "ratio", median(ratios), callTurns, slices.Min(ratios), slices.Max(ratios))
	return nil
}

// callFor calls for a turn. Where runs are counted, there is one for each call that was answered, at once or soon after.
func (s side) callFor(many, status int, call func() (method, path, body string)) (rate float64, half time.Duration, err error) {
	if s.recorded == nil {
		_, rate, half, err = callFor(s.address, s.key, many, status, call)
		return rate, half, err
	}
	before, err := s.recorded()
	if err != nil {
		return 0, 0, err
	}
	calls, rate, half, err := callFor(s.address, s.key, many, status, call)
	for end := time.Now().Add(time.Second); err == nil; {
		n, cerr := s.recorded()
		switch {
		case cerr != nil:
			return 0, 0, cerr
		case n-before == calls:
			return rate, half, nil
		case time.Now().After(end):
			return 0, 0, fmt.Errorf("%d calls were answered, and %d runs are recorded", calls, n-before)
		}
	}
	return rate, half, err
}

// callFor calls for a turn, each caller over a connection of its own, and says how many calls a second were answered, and within
// which time half of them were.
func callFor(address, key string, many, status int, call func() (method, path, body string)) (calls int, rate float64, half time.Duration, err error) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: many}}
	defer client.CloseIdleConnections()
	took := make([][]time.Duration, many)
	errs := make([]error, many)
	end := time.Now().Add(callTurn)
	var wg sync.WaitGroup
	for i := range many {
		wg.Go(func() {
			for errs[i] == nil && time.Now().Before(end) {
				began := time.Now()
				errs[i] = callOnce(client, address, key, status, call)
				took[i] = append(took[i], time.Since(began))
			}
		})
	}
	wg.Wait()
	all := slices.Concat(took...)
	return len(all), float64(len(all)) / callTurn.Seconds(), median(all), errors.Join(errs...)
}

func callOnce(client *http.Client, address, key string, status int, call func() (method, path, body string)) error {
	method, path, body := call()
	req, err := http.NewRequest(method, address+path, strings.NewReader(body))
	if err != nil {
		return err
	}
	if key != "" {
		req.Header.Set("Api-Key", key)
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != status {
		err = fmt.Errorf("%s %s is answered with %d: %.200s", method, path, resp.StatusCode, text)
	}
	return err
}

// served serves on a port of this machine.
func served(h http.Handler) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	server := &http.Server{Handler: h}
	go server.Serve(l)
	return "http://" + l.Addr().String(), func() { server.Close() }, nil
}

// bareCalls is a handler as one would write it by hand.
func bareCalls(ctx context.Context, server *localpg.Server) (side, func(), error) {
	url, err := server.Create(ctx, "call_bare")
	if err != nil {
		return side{}, nil, err
	}
	open := func(commit string) (*pgxpool.Pool, error) {
		config, err := pgxpool.ParseConfig(url)
		if err != nil {
			return nil, err
		}
		config.MaxConns = 24
		config.ConnConfig.RuntimeParams["synchronous_commit"] = commit
		return pgxpool.NewWithConfig(ctx, config)
	}
	db, err := open("on")
	if err != nil {
		return side{}, nil, err
	}
	quick, err := open("off")
	if err != nil {
		return side{}, nil, err
	}
	if _, err := db.Exec(ctx, "create table told (no bigint generated always as identity primary key, id text not null, message jsonb not null, at timestamptz not null default now())"); err != nil {
		return side{}, nil, err
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	report := func(c *gin.Context) {
		var m struct {
			ID       string `json:"id"`
			Vessel   string `json:"vessel"`
			Severity int    `json:"severity"`
			Remark   string `json:"remark"`
		}
		if err := json.NewDecoder(c.Request.Body).Decode(&m); err != nil || m.ID == "" || m.Vessel == "" {
			c.Status(http.StatusUnprocessableEntity)
			return
		}
		if _, err := db.Exec(c, "insert into told (id, message) values ($1, $2)", m.ID, m); err != nil {
			c.Status(http.StatusInternalServerError)
			return
		}
		c.JSON(http.StatusCreated, map[string]bool{"noted": true})
	}
	r.POST("/in/reports", report)
	r.POST("/in/once", report)
	r.GET("/in/quick/where/:vessel", func(c *gin.Context) {
		if _, err := quick.Exec(c, "insert into told (id, message) values ($1, '{}')", c.Param("vessel")); err != nil {
			c.Status(http.StatusInternalServerError)
			return
		}
		c.JSON(http.StatusOK, map[string]string{"berth": "north"})
	})
	r.GET("/in/nothing/where/:vessel", func(c *gin.Context) {
		if len(c.Param("vessel")) > 80 {
			c.Status(http.StatusUnprocessableEntity)
			return
		}
		c.JSON(http.StatusOK, map[string]string{"berth": "north"})
	})
	address, stop, err := served(r)
	return side{name: "bare Gin and pgx, one row each", address: address + "/in/"}, func() { stop(); db.Close(); quick.Close() }, err
}

// engineCalls is the product, with the listener that calls come in at.
func engineCalls(ctx context.Context, server *localpg.Server) (side, func(), error) {
	url, err := server.Create(ctx, "call_ours")
	if err != nil {
		return side{}, nil, err
	}
	db, err := store.Open(ctx, url)
	if err != nil {
		return side{}, nil, err
	}
	app.CollectSeldom() // as the program does
	outside := connector.Same[store.Scope](connector.StaticSettings{}, connector.Rules{})
	e, err := engine.New(db, outside, engine.Options{})
	if err != nil {
		return side{}, nil, err
	}
	if err := prepareCalls(ctx, db, e); err != nil {
		return side{}, nil, err
	}
	if err := e.Start(ctx); err != nil {
		return side{}, nil, err
	}
	sites := &page.Sites{Shared: page.Shared{DB: db, Engine: e, Pools: outside, Vault: &vault.Vault{DB: db}, Log: slog.New(slog.DiscardHandler), Environment: callScope.Environment}}
	address, stop, err := served(inbound.Handler(sites))
	recorded := func() (n int, err error) {
		return n, db.QueryRow(ctx, "select count(*) from run").Scan(&n)
	}
	return side{name: "Hollow Reed, a run each", address: address + inbound.Prefix, recorded: recorded}, func() { stop(); e.Stop(); outside.Close(); db.Close() }, err
}

// callScope is what the calls run in.
var callScope = store.Scope{Project: "calls", Environment: store.Environments[0]}

func prepareCalls(ctx context.Context, db *pgxpool.Pool, e *engine.Engine) error {
	if err := store.AddPerson(ctx, db, store.Person{ID: "bench", Name: "Bench", Initials: "B"}); err != nil {
		return err
	}
	err := pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		_, err := store.AddProject(ctx, tx, "calls", "Calls", callFlows, "bench")
		return err
	})
	for _, flow := range []string{"reports", "once", "where"} {
		if err == nil {
			_, err = e.CreateRelease(ctx, callScope, flow, "", "bench")
		}
	}
	return err
}
