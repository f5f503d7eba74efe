// Package driftbox is the stand-in for Driftbox, a cloud folder for scanned papers: a REST interface
// behind OAuth 2.0, with the authorization server, its consent page, refresh and revocation.
package driftbox

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sort"
	"strings"
	"sync"
	"time"

	"hollowreed/internal/standin"
)

// Box is the cloud folder with its authorization server.
type Box struct {
	Moods     standin.FaultInjection
	Log       standin.Log
	Lasts     time.Duration // of an access token
	mu        sync.Mutex
	codes     map[string]*grant
	grants    []*grant
	tokens    map[string]*token
	refreshed int
	files     map[string]paper
}

type paper struct {
	Name    string `json:"name"`
	Size    int    `json:"size"`
	Type    string `json:"type"`
	Scanned string `json:"scanned"`
	content []byte
}

// New makes a box with the same papers each time.
func New() *Box {
	b := &Box{Lasts: 2 * time.Minute, codes: map[string]*grant{}, tokens: map[string]*token{}, files: map[string]paper{}}
	for i, name := range []string{"bill-of-lading-LS204.txt", "customs-OF221.txt", "damage-report-SK118.txt", "waybill-B-20418.txt", "waybill-B-20419.txt"} {
		text := fmt.Sprintf("Scanned paper %s\nSkerry Line, %d of March\nKaren's hand, page 1 of %d\n", strings.TrimSuffix(name, ".txt"), 9+i, 1+i%3)
		b.put(name, "text/plain", []byte(text), time.Date(2031, 3, 9+i, 8, 15, 0, 0, time.UTC))
	}
	return b
}

func (b *Box) put(name, media string, content []byte, at time.Time) {
	b.files[name] = paper{Name: name, Size: len(content), Type: media, Scanned: at.UTC().Format(time.RFC3339), content: content}
}

// Handler serves the authorization server and the folder.
func (b *Box) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /favicon.ico", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	mux.HandleFunc("GET /authorize", b.authorize)
	mux.HandleFunc("POST /consent", b.consent)
	mux.HandleFunc("POST /token", b.issue)
	mux.HandleFunc("GET /files", b.signed("files.read", b.list))
	mux.HandleFunc("GET /files/{name}", b.signed("files.read", b.content))
	mux.HandleFunc("PUT /files/{name}", b.signed("files.write", b.upload))
	mux.HandleFunc("GET /{$}", b.signed("files.read", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, `{"box": "Driftbox"}`) }))
	return mux
}

// list gives two papers a page, with the address of the next.
func (b *Box) list(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	names := make([]string, 0, len(b.files))
	for n := range b.files {
		if n > r.URL.Query().Get("after") {
			names = append(names, n)
		}
	}
	sort.Strings(names)
	out := map[string]any{}
	if len(names) > 2 {
		names = names[:2]
		out["next"] = "/files?after=" + names[1]
	}
	list := []paper{}
	for _, n := range names {
		list = append(list, b.files[n])
	}
	out["files"] = list
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(out)
}

func (b *Box) content(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	f, ok := b.files[r.PathValue("name")]
	b.mu.Unlock()
	if !ok {
		refuse(w, 404, "not_found", "there is no paper of that name")
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Write(f.content)
}

func (b *Box) upload(w http.ResponseWriter, r *http.Request) {
	content, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 8<<20))
	if err != nil {
		refuse(w, 413, "too_large", "a paper may have 8 MB")
		return
	}
	b.mu.Lock()
	b.put(r.PathValue("name"), r.Header.Get("Content-Type"), content, time.Now())
	b.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

// Page shows the papers, who consented, and what was asked for.
func (b *Box) Page(context.Context) (standin.Page, error) {
	do := func(what func(), said string) func(context.Context) (string, error) {
		return func(context.Context) (string, error) { what(); return said, nil }
	}
	p := standin.Page{Title: "Driftbox", About: "A cloud folder for scanned papers, behind OAuth 2.0. Client: " + Client}
	p.Actions = append([]standin.Action{
		{Name: "end", Label: "End the access tokens", About: "refresh tokens stay good", Do: do(b.Expire, "All access tokens have ended.")},
		{Name: "revoke", Label: "Take the consent back", About: "no refresh any more", Do: do(b.Revoke, "Nobody has consented any more.")},
	}, b.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Limit)...)
	b.mu.Lock()
	defer b.mu.Unlock()
	papers := standin.Table{Title: "Papers", Head: []string{"name", "bytes", "scanned"}}
	for _, f := range b.files {
		papers.Rows = append(papers.Rows, []string{f.Name, fmt.Sprint(f.Size), f.Scanned})
	}
	sort.Slice(papers.Rows, func(i, j int) bool { return papers.Rows[i][0] < papers.Rows[j][0] })
	consents := standin.Table{Title: fmt.Sprintf("Consents (refreshed %d times)", b.refreshed), Head: []string{"person", "scopes", "since"}}
	for _, g := range b.grants {
		consents.Rows = append(consents.Rows, []string{g.Person, strings.Join(g.Scopes, " "), g.At.UTC().Format("15:04:05")})
	}
	p.Tables = []standin.Table{papers, consents, {Title: "Asked for", Head: []string{"at", "method", "path", "answered"}, Rows: b.Log.Rows()}}
	return p, nil
}

// Settings are those of a connection to a box at an address.
func Settings(address string) map[string]string {
	return map[string]string{
		"address": address, "sign in": "oauth consent", "client": Client, "client secret": ClientSecret, "scopes": Scopes,
		"authorize at": address + "/authorize", "token at": address + "/token",
	}
}

// Standin is Driftbox.
var Standin = standin.Standin{
	Name: "driftbox", About: "a cloud folder for scanned papers: REST behind OAuth 2.0",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		b := New()
		address, err := standin.HTTP(ctx, &b.Moods, &b.Log, b.Handler())
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, b.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{"driftbox": {Kind: "http", Values: Settings(address)}}}, err
	},
}
