// Package hostile attacks the running program: scripts, formulas, messages, callers and pages that are made to end it, to hold it
// up or to make it lose something. The program has limits of the operating system around it, and must live, answer its pages
// meanwhile, and keep every run that it took. HOSTILE=full attacks with more and larger inputs.
package hostile

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"hollowreed/internal/child"
	"hollowreed/internal/testdb"
)

func TestMain(m *testing.M) {
	if address := os.Getenv(lookAt); address != "" {
		lookOn(address)
		return
	}
	os.Exit(testdb.Main(m))
}

var full = os.Getenv("HOSTILE") == "full"

// Around the program.
const (
	maxData = 1536 << 20 // bytes of memory
	patient = 60 * time.Second
)

// within is how long a page may take while the program is attacked.
func within() time.Duration {
	if full {
		return time.Second
	}
	return 10 * time.Second // on a machine that has other things to do, too
}

// program is the running program.
type program struct {
	t            *testing.T
	process      *child.Process
	pages, calls string
	client       *http.Client
	taken        sync.Map // runs that it said it took
	refused      atomic.Int64
}

var addresses = regexp.MustCompile(`http://127\.0\.0\.1:\d+`)

// start builds the program, brings a project into a database of its own and serves it.
func start(t *testing.T, texts map[string]string) *program {
	t.Helper()
	dir := t.TempDir()
	binary := filepath.Join(dir, "hollowreed")
	out, err := exec.Command("go", "build", "-o", binary, "hollowreed/cmd/hollowreed").CombinedOutput()
	require.NoError(t, err, string(out))
	for name, text := range texts {
		path := filepath.Join(dir, "project", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	database := filepath.Join(dir, "database")
	require.NoError(t, os.WriteFile(database, []byte(testdb.New(t)), 0o600))
	in := exec.Command(binary, "import", "project", "--database-file", database)
	in.Dir = dir
	out, err = in.CombinedOutput()
	require.NoError(t, err, string(out))

	p := &program{t: t, client: &http.Client{Timeout: patient, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	p.client.Transport = &http.Transport{MaxIdleConnsPerHost: 100}
	cmd := exec.Command(binary, "serve", "--database-file", database, "--listen", "127.0.0.1:0", "--calls", "127.0.0.1:0")
	cmd.Dir = dir
	said, err := cmd.StderrPipe()
	require.NoError(t, err)
	p.process, err = child.Start(cmd, syscall.SIGTERM)
	require.NoError(t, err)
	t.Cleanup(func() { p.process.Process.Kill(); p.process.Wait() })
	require.NoError(t, unix.Prlimit(p.process.Process.Pid, unix.RLIMIT_DATA, &unix.Rlimit{Cur: maxData, Max: maxData}, nil))
	lines := bufio.NewScanner(said)
	for p.pages == "" && lines.Scan() {
		if found := addresses.FindAllString(lines.Text(), 2); len(found) == 2 {
			p.pages, p.calls = found[0]+"/p/hostile", found[1]
		}
	}
	require.NotEmpty(t, p.pages)
	go func() {
		for lines.Scan() {
			t.Log(lines.Text())
		}
	}()
	return p
}

// page asks for a page and gives its status.
func (p *program) page(path string) (int, error) {
	resp, err := p.client.Get(p.pages + path)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	_, err = io.Copy(io.Discard, resp.Body)
	return resp.StatusCode, err
}

// post sends a form to a page.
func (p *program) post(path string, form url.Values) int {
	resp, err := p.client.PostForm(p.pages+path, form)
	if err != nil {
		p.t.Errorf("POST %s: %s", path, err)
		return 0
	}
	defer resp.Body.Close()
	io.Copy(io.Discard, resp.Body)
	return resp.StatusCode
}

// call sends a body to a flow, and notes the run that it became.
func (p *program) call(path string, body io.Reader) (status int, answer string) {
	resp, err := p.client.Post(p.calls+"/in/"+path, "application/octet-stream", body)
	if err != nil {
		p.t.Errorf("calling %s: %s", path, err)
		return 0, ""
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	if run := resp.Header.Get("Hollowreed-Run"); run != "" {
		p.taken.Store(run, path)
	}
	if resp.StatusCode == http.StatusTooManyRequests {
		p.refused.Add(1)
	}
	return resp.StatusCode, string(text)
}

// Flows whose answer is a formula of the message.
const (
	asks = "schema: Question\nnotation: %s\n%sfields:\n  - {name: text, type: text}\n  - {name: n, type: integer, occurs: 0..1}\n"
	flow = "flow: %s\ntrigger: {kind: request, path: %[1]s, input: %s, output: said, as: ask, wait: 20}\nsteps:\n  - {step: answer, id: a, with: {text: '%s'}}\n"
)

// scripts are functions of a library that are made to end who runs them.
var scripts = map[string]string{
	"array":  "const a = []; a.length = n; return a.fill(1).length",
	"apply":  "return Math.max.apply(null, {length: n})",
	"bigint": "return String(1n << (BigInt(n) * 10n))",
	"codes":  "return String.fromCharCode.apply(null, {length: n / 8}).length",
	"loop":   "for (;;) {}",
	"deep":   "let a = []; for (let i = 0; i < 1e6; i++) a = [a]; return String(a)",
	"twice":  "return n * 2",
}

// unreadable are scripts that are made to end, or to hold up, who reads them; they stand in a library that no flow uses, and are
// read with every page.
var unreadable = map[string]string{
	"close":  "return 1})\nfor(;;){}\n(function(){",
	"fold":   "return (3n ** 400000000n) % 10n",
	"braces": strings.Repeat("{", 40_000),
}

func library(title string, scripts map[string]string) string {
	var text strings.Builder
	fmt.Fprintf(&text, "library: %s\nversion: 1\nfunctions:\n", title)
	for name, body := range scripts {
		fmt.Fprintf(&text, "  - name: %s\n    about: .\n    params:\n      - {name: n, type: integer}\n    result: any\n    script: |\n      %s\n", name, strings.ReplaceAll(body, "\n", "\n      "))
	}
	return text.String()
}

// formulas of the message that would take for ever, or all memory.
var formulas = map[string]string{
	"power":   `text(ask.n * ask.n * ask.n * ask.n * ask.n * ask.n * ask.n * ask.n)`,
	"pattern": `replacePattern(ask.text, ask.text, ask.text)`,
	"repeat":  `replace(replace(replace(ask.text, "a", ask.text), "a", ask.text), "a", ask.text)`,
	"split":   `text(sum(split(ask.text, ""), sum(split(ask.text, ""), 1)))`,
}

// victims are parts of every kind that pages are asked to do something with.
var victims = map[string]string{
	"flows": "flow: Victim\ntrigger: {kind: schedule, cron: 0 0 1 1 *}\nsteps:\n  - {step: note, id: n, text: '\"x\"'}\n", "schemas": "schema: Victim\nnotation: json\nfields:\n  - {name: a, type: text}\n",
	"mappings": "mapping: Victim\nfrom:\n  - {name: victim, schema: victim}\nto: victim\nrules:\n  - {field: a, formula: victim.a}\n", "connections": "connection: Victim\nkind: file\n", "tables": "table: Victim\ncolumns:\n  - {name: a, key: true}\n  - {name: b}\nrows:\n  - [x, y]\n",
	"libraries": library("Victim", map[string]string{"one": "return 1"}),
}

func project() map[string]string {
	texts := map[string]string{
		"project.yaml":      "project: Hostile\n",
		"schemas/said.yaml": "schema: Said\nnotation: json\nfields:\n  - {name: text, type: text, occurs: 0..1}\n",
	}
	for _, notation := range []string{"json", "ndjson", "xml", "csv"} {
		written := ""
		if notation == "xml" {
			written = "notation settings:\n  root: asks\n  record: ask\n"
		}
		texts["schemas/ask-"+notation+".yaml"] = fmt.Sprintf(asks, notation, written)
		texts["flows/read-"+notation+".yaml"] = fmt.Sprintf(flow, "read-"+notation, "ask-"+notation, "ask.text")
	}
	texts["libraries/evil.yaml"], texts["libraries/unreadable.yaml"] = library("Evil", scripts), library("Unreadable", unreadable)
	for name := range scripts {
		texts["flows/script-"+name+".yaml"] = fmt.Sprintf(flow, "script-"+name, "ask-json", "text(evil."+name+"(ask.n))")
	}
	texts["flows/open.yaml"] = "flow: Open\ntrigger: {kind: request, path: open, input: ask-json, output: said, as: ask, wait: 20}\nsteps:\n  - {step: open, id: o, value: ask.text, with: open key, unsigned: go on}\n  - {step: answer, id: a, with: {text: text(length(opened.text))}}\n"
	for _, kind := range []string{"http", "soap"} {
		texts["connections/"+kind+".yaml"] = "connection: Described\nkind: " + kind + "\n"
	}
	for dir, text := range victims {
		texts[dir+"/victim.yaml"] = text
	}
	for name, formula := range formulas {
		texts["flows/formula-"+name+".yaml"] = fmt.Sprintf(flow, "formula-"+name, "ask-json", formula)
	}
	return texts
}

// messages are bodies by notation that are no messages, or ones without end.
func messages() map[string][]string {
	deep := func(open, end string, n int) string { return strings.Repeat(open, n) + strings.Repeat(end, n) }
	n := 100_000
	if full {
		n = 1_000_000
	}
	unknown := func(n int) string {
		var b strings.Builder
		b.WriteString(`{"text": "x"`)
		for i := range n {
			fmt.Fprintf(&b, `,"f%d":1`, i)
		}
		return b.String() + "}"
	}
	var laughs strings.Builder
	laughs.WriteString(`<!DOCTYPE asks [<!ENTITY a "ha">`)
	for i := range 20 {
		fmt.Fprintf(&laughs, `<!ENTITY %c "&%c;&%c;&%c;">`, 'b'+i, 'a'+i, 'a'+i, 'a'+i)
	}
	laughs.WriteString("]><asks><ask><text>&t;</text></ask></asks>")
	noise := make([]byte, 64<<10)
	for i := range noise {
		noise[i] = byte(rand.N(256))
	}
	return map[string][]string{
		"json":   {deep("[", "]", n), deep(`{"text":`, "}", n), unknown(n), `{"n": 1e999999999}`, `{"n": ` + strings.Repeat("9", n) + `}`, `{"text": "` + strings.Repeat(`\ud800`, 1000) + `"}`, "\x00\xff", string(noise), "", `{"text"`},
		"ndjson": {strings.Repeat("{}\n", n), string(noise), "{\n"},
		"xml":    {laughs.String(), deep("<ask>", "</ask>", n), `<!DOCTYPE a SYSTEM "file:///etc/passwd"><asks/>`, "<asks><ask " + strings.Repeat("a='1' ", 1000) + "/></asks>", "<asks><ask>" + strings.Repeat("<x/>", n) + "</ask></asks>", string(noise)},
		"csv":    {`"` + strings.Repeat("a", 3_000_000), strings.Repeat("a,", n), "text,n\n" + strings.Repeat(",", n), string(noise)},
	}
}

// TestTheProgramLives attacks in all ways at once.
func TestTheProgramLives(t *testing.T) {
	if testing.Short() {
		t.Skip("starts the program")
	}
	p := start(t, project())
	flows := []string{"script-twice", "script-array", "script-apply", "script-bigint", "script-codes", "script-loop", "script-deep"}
	for name := range formulas {
		flows = append(flows, "formula-"+name)
	}
	for notation := range messages() {
		flows = append(flows, "read-"+notation)
	}
	letters := p.letters()
	for _, id := range flows {
		require.Equal(t, 303, p.post("/bench/flows/"+id+"/release", url.Values{}), id)
	}
	well := func() {
		t.Helper()
		status, answer := p.call("script-twice", strings.NewReader(`{"text": "x", "n": 21}`))
		require.Equal(t, 200, status, answer)
		require.JSONEq(t, `{"text": "42"}`, answer)
	}
	well()

	slowest := p.look()
	p.attack(flows, letters)
	worst := slowest()
	t.Logf("the slowest page took %s; %d calls were told to come again", worst, p.refused.Load())
	require.Positive(t, worst)
	require.Less(t, worst, within())

	require.False(t, p.process.HasEnded(), "it lives")
	well()
	lost := 0
	p.taken.Range(func(run, path any) bool {
		if status, err := p.page("/traffic/runs/" + run.(string)); status != 200 || err != nil {
			t.Errorf("the run %s of %s: %d %v", run, path, status, err)
			lost++
		}
		return lost < 10
	})
}

// attack sends all that is hostile, several at once.
func (p *program) attack(flows, letters []string) {
	var wg sync.WaitGroup
	defer wg.Wait()
	at := func(once int) func(func()) { // so many at once
		places := make(chan struct{}, once)
		return func(one func()) {
			wg.Go(func() {
				places <- struct{}{}
				defer func() { <-places }()
				one()
			})
		}
	}
	do := at(16)
	rounds := 1
	if full {
		rounds = 10
	}
	long := strings.Repeat("a", 60_000)
	for range rounds {
		for _, id := range flows {
			if strings.HasPrefix(id, "script-") || strings.HasPrefix(id, "formula-") {
				do(func() { p.call(id, strings.NewReader(`{"text": "`+long+`", "n": 4294967295}`)) })
			}
		}
		for notation, list := range messages() {
			for _, body := range list {
				do(func() {
					if status, answer := p.call("read-"+notation, strings.NewReader(body)); status == 0 || status == 500 {
						p.t.Errorf("%s answers %d to %.60q: %.300s", notation, status, body, answer)
					}
				})
			}
		}
	}
	for _, text := range letters {
		do(func() {
			body, _ := json.Marshal(map[string]string{"text": text})
			if status, answer := p.call("open", bytes.NewReader(body)); status < 400 && status != http.StatusAccepted {
				p.t.Errorf("a letter is answered with %d: %.300s", status, answer)
			}
		})
	}
	p.holdOn(do)
	p.forms(do)
	p.documents(at(2))
	p.everyRoute(at(2))
}

// holdOn opens connections that send next to nothing, and pages that listen.
func (p *program) holdOn(do func(func())) {
	ctx, cancel := context.WithTimeout(p.t.Context(), 10*time.Second)
	p.t.Cleanup(cancel)
	for range 300 {
		go func() {
			d := net.Dialer{}
			conn, err := d.DialContext(ctx, "tcp", strings.TrimPrefix(p.calls, "http://"))
			if err != nil {
				return
			}
			defer conn.Close()
			io.WriteString(conn, "POST /in/read-json HTTP/1.1\r\nHost: localhost\r\nContent-Length: 100\r\n\r\n{")
			<-ctx.Done()
		}()
		go func() {
			if req, err := http.NewRequestWithContext(ctx, http.MethodGet, p.pages+"/live", nil); err == nil {
				if resp, err := (&http.Client{Transport: &http.Transport{}}).Do(req); err == nil {
					io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
				}
			}
		}()
	}
	for range 300 {
		do(func() { p.call("script-twice", strings.NewReader(`{"text": "x", "n": 21}`)) })
	}
}

// forms sends to pages what nobody means.
func (p *program) forms(do func(func())) {
	long := strings.Repeat("x", 1<<20)
	for _, path := range []string{
		"/bench/schemas", "/bench/schemas/ask-json/field", "/bench/schemas/ask-json/samples", "/bench/libraries", "/bench/libraries/evil", "/bench/flows",
		"/bench/flows/read-json/edit", "/bench/mappings", "/bench/connections", "/bench/import", "/bench/undo", "/estate/secrets", "/traffic/search", "/none",
	} {
		for _, form := range []url.Values{{}, {"title": {long}, "name": {long}, "text": {long}, "id": {"../../etc"}, "path": {"../../etc/passwd"}, "revision": {"99999999999999999999"}}, {"\x00": {"\x00"}, "name": {"\x00\xff"}, "revision": {"0"}}} {
			do(func() {
				if status := p.post(path, form); status >= 500 || status == 0 {
					p.t.Errorf("POST %s answers %d", path, status)
				}
			})
		}
	}
}
