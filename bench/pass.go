package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/app"
	"hollowreed/internal/connector"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/page"
)

// passKey is the key of the caller in the bench.
const passKey = "bench"

// passContract is a contract of which each answer is held against a schema.
const passContract = `openapi: 3.1.0
info: {title: Orders, version: "1"}
paths:
  /orders/{id}:
    get:
      operationId: order
      parameters: [{name: id, in: path, required: true, schema: {type: integer, minimum: 1}}]
      responses:
        "200":
          description: the order
          content: {application/json: {schema: {$ref: "#/components/schemas/Order"}}}
  /large:
    get: {operationId: largest, responses: {"200": {description: x, content: {application/octet-stream: {}}}}}
    post:
      operationId: large
      requestBody: {content: {application/octet-stream: {schema: {}}}}
      responses: {"200": {description: x, content: {application/octet-stream: {}}}}
components:
  schemas:
    Order:
      type: object
      required: [id, customer, lines]
      properties:
        id: {type: integer}
        customer: {type: string, maxLength: 60}
        at: {type: string, format: date-time}
        lines: {type: array, items: {type: object, required: [article, quantity, price], properties: {article: {type: string}, quantity: {type: integer, minimum: 1}, price: {type: number}}}}
`

const passWays = "operations:\n  - {operation: order, answered by: pass-through, connection: backend}\n  - {operation: large, answered by: pass-through, connection: backend}\n  - {operation: largest, answered by: pass-through, connection: backend}\n"

var passParts = map[string]string{
	"project.yaml":             "project: Passed through\n",
	"contracts/orders.yaml":    passContract,
	"connections/backend.yaml": "connection: Backend\nkind: http\n",
	"apis/plain.yaml":          "api: Plain\ncontract: orders.yaml\nrequest validation: off\nresponse validation: off\nmax body: 1048576\n" + passWays,
	"apis/guarded.yaml":        "api: Guarded\ncontract: orders.yaml\ncallers: with a key\nrate limit: 1000000\nrequest validation: refuse\nresponse validation: refuse\n" + passWays,
}

// order is an answer of about a kilobyte.
func order() []byte {
	var b strings.Builder
	b.WriteString(`{"id": 17, "customer": "Ormlet Fish", "at": "2031-03-09T07:40:00Z", "lines": [`)
	for i := range 16 {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, `{"article": "A-%04d", "quantity": %d, "price": %d.50}`, i, i+1, 10*i)
	}
	b.WriteString("]}")
	return []byte(b.String())
}

// passes compares requests that are passed through to a backend with Go's reverse proxy and, where it is installed, with nginx: without
// guards, and with a key, a limit and both messages held against the contract.
func passes(dir string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	text := order()
	backend, stopBackend, err := served(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodPost:
			sum := sha256.New()
			io.Copy(sum, r.Body)
			fmt.Fprintf(w, "%x", sum.Sum(nil))
			return
		case r.URL.Path == "/large":
			w.Header().Set("Content-Type", "application/octet-stream")
			io.Copy(w, large())
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.Write(text)
	}))
	if err != nil {
		return err
	}
	defer stopBackend()
	to, err := url.Parse(backend)
	if err != nil {
		return err
	}
	proxy, stopProxy, err := served(&httputil.ReverseProxy{
		Rewrite:   func(p *httputil.ProxyRequest) { p.SetURL(to); p.SetXForwarded() },
		Transport: &http.Transport{MaxIdleConnsPerHost: 128},
	})
	if err != nil {
		return err
	}
	defer stopProxy()
	ours, stopOurs, err := passServer(ctx, dir, backend)
	if err != nil {
		return err
	}
	defer stopOurs()
	get := func() (string, string, string) { return http.MethodGet, "orders/17", "" }
	base := side{name: "Go's reverse proxy", address: proxy + "/"}
	plain := side{name: "Hollow Reed, no guards", address: ours + "/in/plain/"}
	guarded := side{name: "Hollow Reed, all guards", address: ours + "/in/guarded/", key: passKey}
	if err := compareCalls("passed through, 32 callers", base, plain, 32, 200, get); err != nil {
		return err
	}
	if err := compareCalls("passed through past guards, 32 callers", base, guarded, 32, 200, get); err != nil {
		return err
	}
	if at, stop, err := nginx(dir, to.Host); err != nil {
		fmt.Println("  nginx is not compared:", err)
	} else {
		defer stop()
		if err := compareCalls("passed through, beside nginx", side{name: "nginx", address: at}, plain, 32, 200, get); err != nil {
			return err
		}
	}
	return passLarge(ours + "/in/plain/large")
}

// large is a gigabyte.
func large() io.Reader {
	return io.LimitReader(&repeated{chunk: bytes.Repeat([]byte("hollow reed "), 1<<16/12)}, 1<<30)
}

// passLarge sends a gigabyte through to the backend and takes one from it, and says how much memory that took.
func passLarge(address string) error {
	sum := sha256.New()
	if _, err := io.Copy(sum, large()); err != nil {
		return err
	}
	want := fmt.Sprintf("%x", sum.Sum(nil))
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	before, peak := m.HeapInuse, m.HeapInuse
	stop, watched := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(watched)
		for {
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
				runtime.ReadMemStats(&m)
				peak = max(peak, m.HeapInuse)
			}
		}
	}()
	began := time.Now()
	err := passBoth(address, want)
	took := time.Since(began)
	close(stop)
	<-watched
	if err == nil {
		fmt.Printf("1 GB to the backend and 1 GB from it in %.1f s, at most %d MB more memory in use\n", took.Seconds(), (peak-before)>>20)
	}
	return err
}

func passBoth(address, want string) error {
	resp, err := http.Post(address, "application/octet-stream", large())
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil || string(text) != want {
		return fmt.Errorf("what the backend got is another thing (%d, %.100s, %v)", resp.StatusCode, text, err)
	}
	down, err := http.Get(address)
	if err != nil {
		return err
	}
	defer down.Body.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, down.Body); err != nil || fmt.Sprintf("%x", sum.Sum(nil)) != want {
		return fmt.Errorf("what came from the backend is another thing (%d, %v)", down.StatusCode, err)
	}
	return nil
}

// repeated reads the same bytes again and again.
type repeated struct {
	chunk []byte
	at    int
}

func (r *repeated) Read(p []byte) (int, error) {
	n := copy(p, r.chunk[r.at:])
	r.at = (r.at + n) % len(r.chunk)
	return n, nil
}

// passServer is the product with the two APIs.
func passServer(ctx context.Context, dir, backend string) (string, func(), error) {
	server, err := localpg.Start(ctx, filepath.Join(dir, "pg-pass"), localpg.Options{Durable: true})
	if err != nil {
		return "", nil, err
	}
	at, err := server.Create(ctx, "pass")
	if err != nil {
		return "", nil, err
	}
	db, err := store.Open(ctx, at)
	if err != nil {
		return "", nil, err
	}
	app.CollectSeldom() // as the program does
	outside := connector.Same[store.Scope](connector.StaticSettings{"backend": {Kind: "http", Values: map[string]string{"address": backend}}}, connector.Rules{})
	e, err := engine.New(db, outside, engine.Options{})
	if err != nil {
		return "", nil, err
	}
	scope := store.Scope{Project: "pass", Environment: store.Environments[0]}
	if err := store.AddPerson(ctx, db, store.Person{ID: "bench", Name: "Bench", Initials: "B"}); err != nil {
		return "", nil, err
	}
	err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		_, err := store.AddProject(ctx, tx, scope.Project, "Passed through", passParts, "bench")
		return err
	})
	for _, id := range []string{"plain", "guarded"} {
		if err == nil {
			_, err = e.CreateRelease(ctx, scope, project.ReleaseID(project.APIs, id), "", "bench")
		}
	}
	digest := sha256.Sum256([]byte(passKey))
	caller := store.APICaller{ID: uuid.New(), Name: "bench", MadeBy: "bench"}
	if err == nil {
		_, err = store.AddCaller(ctx, db, scope, caller)
	}
	if err == nil {
		err = store.AddCallerKey(ctx, db, scope, store.CallerKey{Digest: digest[:], Caller: caller.ID, Hint: "bench", MadeBy: "bench"})
	}
	if err == nil {
		err = e.Start(ctx)
	}
	if err != nil {
		return "", nil, err
	}
	sites := &page.Sites{Shared: page.Shared{DB: db, Engine: e, Pools: outside, Vault: &vault.Vault{DB: db}, Log: slog.New(slog.DiscardHandler), Environment: scope.Environment}}
	address, stop, err := served(inbound.Handler(sites))
	return address, func() { stop(); e.Stop(); outside.Close(); db.Close(); server.Stop() }, err
}

// nginx passes requests on with two processes, as there are processors, and connections to the backend that stay open.
func nginx(dir, to string) (address string, stop func(), err error) {
	program, err := exec.LookPath("nginx")
	if err != nil {
		return "", nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	at := filepath.Join(dir, "nginx")
	if err := os.MkdirAll(filepath.Join(at, "logs"), 0o755); err != nil {
		return "", nil, err
	}
	config := fmt.Sprintf(`daemon off; worker_processes %d; pid %s/pid; error_log %s/errors;
events { worker_connections 1024; }
http {
  access_log off; client_body_temp_path %s/body; proxy_temp_path %s/proxy; fastcgi_temp_path %s/f; uwsgi_temp_path %s/u; scgi_temp_path %s/s;
  upstream back { server %s; keepalive 128; }
  server { listen 127.0.0.1:%d; keepalive_requests 10000000; location / { proxy_pass http://back; proxy_http_version 1.1; proxy_set_header Connection ""; } }
}`, runtime.GOMAXPROCS(0), at, at, at, at, at, at, at, to, port)
	file := filepath.Join(at, "nginx.conf")
	if err := os.WriteFile(file, []byte(config), 0o644); err != nil {
		return "", nil, err
	}
	cmd := exec.Command(program, "-p", at, "-c", file)
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	}
	address = fmt.Sprintf("http://127.0.0.1:%d/", port)
	for range 50 {
		if resp, err := http.Get(address + "orders/1"); err == nil {
			resp.Body.Close()
			return address, stop, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	stop()
	return "", nil, fmt.Errorf("it does not answer")
}
