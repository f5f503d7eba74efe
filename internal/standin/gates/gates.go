// Package gates is the stand-in for the Gate scanners: hand scanners at the gates that put a scan on a queue every few seconds, and the
// program that has always emptied it. Both use the queue over HTTP, as any program does.
package gates

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"hollowreed/internal/standin"
)

// Gates are the scanners and the reader.
type Gates struct {
	Address string        // of the queue
	Key     string        // of the caller
	Every   time.Duration // between two scans

	mu     sync.Mutex
	n      int
	odd    bool // the next scan is none
	silent bool // the scanners are off
	stuck  bool // the reader is off
	put    []string
	read   []string
	fault  string
}

// shown bounds the scans on the page.
const shown = 12

// vehicles pass the gates.
var vehicles = []string{"SK 40117", "SK 22090", "SK 71804", "FO 10233", "SK 30551", "SK 88120"}

// Scan is the message of a scan by its number.
func Scan(n int, at time.Time) []byte {
	gate := fmt.Sprintf("G%d", 1+n%3)
	return fmt.Appendf(nil, `{"scan": "%s-%06d", "gate": "%s", "plate": "%s", "sailing": "LS%d", "at": "%s"}`, gate, n, gate, vehicles[n%len(vehicles)], 204+n/40%5, at.UTC().Format(time.RFC3339))
}

// Start lets the scanners scan and the reader read until the context ends, and gives their page.
func (g *Gates) Start(ctx context.Context) (page string, err error) {
	g.n = int(time.Now().Unix() % 1_000_000) // numbers go on when they are started anew
	if page, err = standin.Serve(ctx, g.page); err != nil {
		return "", err
	}
	go g.scan(ctx)
	go g.reads(ctx)
	return page, nil
}

func (g *Gates) scan(ctx context.Context) {
	t := time.NewTicker(g.Every)
	defer t.Stop()
	for {
		g.mu.Lock()
		silent, odd := g.silent, g.odd
		g.n++
		n := g.n
		g.odd = false
		g.mu.Unlock()
		if !silent {
			body := Scan(n, time.Now())
			if odd {
				body = []byte(`{"scan": "G1-000000", "gate": 1`)
			}
			_, err := g.ask(ctx, "messages", body, fmt.Sprint("scan-", n))
			g.noted(&g.put, string(body), err)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// handed is what the reader is handed out.
type handed struct {
	Token    string `json:"token"`
	Messages []struct {
		Place string          `json:"place"`
		Body  json.RawMessage `json:"body"`
	} `json:"messages"`
}

// reads takes scans as they come, and acknowledges them.
func (g *Gates) reads(ctx context.Context) {
	for ctx.Err() == nil {
		g.mu.Lock()
		stuck := g.stuck
		g.mu.Unlock()
		var out handed
		text, err := []byte(nil), error(nil)
		if !stuck {
			if text, err = g.ask(ctx, "take", []byte(`{"most": 20, "wait": 10, "hold": 30}`), ""); err == nil {
				err = json.Unmarshal(text, &out)
			}
		}
		var places []string
		for _, m := range out.Messages {
			places = append(places, m.Place)
			g.noted(&g.read, string(m.Body), nil)
		}
		if len(places) > 0 {
			ack, _ := json.Marshal(map[string]any{"token": out.Token, "messages": places}) // texts can be written
			_, err = g.ask(ctx, "acknowledge", ack, "")
		}
		if err != nil {
			g.noted(&g.read, "", err)
		}
		if stuck || err != nil {
			select {
			case <-ctx.Done():
			case <-time.After(g.Every):
			}
		}
	}
}

// noted keeps what was done lately.
func (g *Gates) noted(list *[]string, text string, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.fault = ""; err != nil {
		g.fault = err.Error()
		return
	}
	*list = append(*list, text)
	*list = (*list)[max(0, len(*list)-shown):]
}

func (g *Gates) ask(ctx context.Context, what string, body []byte, id string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, g.Address+"/"+what, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Api-Key", g.Key)
	req.Header.Set("Content-Type", "application/json")
	if id != "" {
		req.Header.Set("Message-Id", id)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("%d %s", res.StatusCode, text)
	}
	return text, err
}

// page shows what was put and read, and lets a person make trouble.
func (g *Gates) page(context.Context) (standin.Page, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := standin.Page{Title: "Gate scanners", About: "Hand scanners put a scan on the queue gate-scans every few seconds; the tally of the gates empties it.", Said: g.fault}
	flag := func(name, label, about string, of *bool) {
		p.Actions = append(p.Actions, standin.Action{Name: name, Label: label, About: about, Do: func(context.Context) (string, error) {
			g.mu.Lock()
			defer g.mu.Unlock()
			*of = !*of
			return label + " was pressed.", nil
		}})
	}
	flag("silent", map[bool]string{true: "Scan again", false: "Stop scanning"}[g.silent], "the scanners go off or on", &g.silent)
	flag("odd", "Send half a scan", "the next one breaks off", &g.odd)
	flag("stuck", map[bool]string{true: "Read again", false: "Stop reading"}[g.stuck], "the tally goes off or on", &g.stuck)
	rows := func(list []string) (out [][]string) {
		for _, text := range slices.Backward(list) {
			out = append(out, []string{text})
		}
		return out
	}
	p.Tables = []standin.Table{{Title: "Scanned", Head: []string{"scan"}, Rows: rows(g.put)}, {Title: "Counted by the tally", Head: []string{"scan"}, Rows: rows(g.read)}}
	return p, nil
}
