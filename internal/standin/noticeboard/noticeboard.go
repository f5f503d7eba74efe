// Package noticeboard is the stand-in for the Noticeboard, the crews' message board: posts over HTTP with
// a token. As many boards do it answers 200 whatever happens, and says in the answer whether it worked.
package noticeboard

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"sync"

	"hollowreed/internal/standin"
)

// Token is the one that is taken.
const Token = "board-token-55-crew"

// Post is one message.
type Post struct {
	Board string `json:"board"`
	Text  string `json:"text"`
}

// Board is the message board.
type Board struct {
	Moods standin.FaultInjection
	Log   standin.Log
	mu    sync.Mutex
	posts []Post
	keys  []string
}

var boards = []string{"crew", "trouble", "galley", "deck"}

// Handler serves the board.
func (b *Board) Handler() http.Handler {
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, v map[string]any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("POST /posts", func(w http.ResponseWriter, r *http.Request) {
		var p Post
		switch err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&p); {
		case r.Header.Get("X-Board-Token") != Token || b.Moods.Is(standin.Expire):
			answer(w, map[string]any{"ok": false, "error": "token not known"})
		case err != nil || p.Text == "":
			answer(w, map[string]any{"ok": false, "error": "a post needs a text"})
		case !slices.Contains(boards, p.Board):
			answer(w, map[string]any{"ok": false, "error": "there is no board " + p.Board})
		default:
			answer(w, map[string]any{"ok": true, "number": b.post(p, r.Header.Get("Idempotency-Key")), "text": p.Text})
		}
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { answer(w, map[string]any{"ok": true, "boards": boards}) })
	return mux
}

// post keeps a post, once for each key.
func (b *Board) post(p Post, key string) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	if i := slices.Index(b.keys, key); key != "" && i >= 0 {
		return i + 1
	}
	b.posts, b.keys = append(b.posts, p), append(b.keys, key)
	return len(b.posts)
}

// Posts gives a copy of what was posted.
func (b *Board) Posts() []Post {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Post(nil), b.posts...)
}

// Page shows the posts, the newest first.
func (b *Board) Page(context.Context) (standin.Page, error) {
	t := standin.Table{Title: "Posts", Head: []string{"board", "text"}}
	for _, p := range b.Posts() {
		t.Rows = append(t.Rows, []string{p.Board, p.Text})
	}
	slices.Reverse(t.Rows)
	return standin.Page{
		Title: "Noticeboard", About: "The crews' message board.", Tables: []standin.Table{t},
		Actions: b.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Limit, standin.Expire),
	}, nil
}

// Standin is the Noticeboard.
var Standin = standin.Standin{
	Name: "noticeboard", About: "the crews' message board: HTTP with a token",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		b := &Board{}
		address, err := standin.HTTP(ctx, &b.Moods, &b.Log, b.Handler())
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, b.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{
			"noticeboard": {Kind: "http", Values: map[string]string{"address": address, "sign in": "key in a header", "key name": "X-Board-Token", "token": Token}},
		}}, err
	},
}
