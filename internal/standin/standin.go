// Package standin serves the small pages of the simulated outside systems. Each system has a
// folder below and a page of its own on loopback, where one sees what it received and can make it
// misbehave.
package standin

import (
	"context"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"time"

	"hollowreed/internal/loopback"
)

var frame = template.Must(template.New("page").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>{{.Title}} (stand-in)</title>
<style>body{font:14px/1.5 sans-serif;margin:24px;max-width:1000px;color:#1e2a2f;background:#f7f5ee}table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:4px 10px;border-bottom:1px solid #d9d3c3}button{font:inherit;margin:0 8px 8px 0;padding:4px 12px}form{display:inline}</style>
<h1>{{.Title}}</h1><p>{{.About}}</p><p>{{range .Actions}}<form method="post" action="/do/{{.Name}}"><button title="{{.About}}">{{.Label}}</button></form>{{end}}</p>
{{if .Said}}<p><b>{{.Said}}</b></p>{{end}}{{range .Tables}}<h2>{{.Title}}</h2><table><tr>{{range .Head}}<th>{{.}}</th>{{end}}</tr>{{range .Rows}}<tr>{{range .}}<td>{{.}}</td>{{end}}</tr>{{end}}</table>{{end}}</html>`))

// Standin is one simulated system that can be started.
type Standin struct {
	Name  string // as its connection in the demo
	About string
	// Start starts it until the context ends. data is a folder for what it keeps.
	Start func(ctx context.Context, data string) (*Running, error)
}

// Running is a stand-in that has been started.
type Running struct {
	Name  string
	Page  string           // the address of its own page
	Reach map[string]Reach // how it is reached, by the connections of the demo
}

// Reach is how a system is reached: the kind and the settings of its connection, secrets among them.
type Reach struct {
	Kind   string
	Values map[string]string
}

// Page is what a stand-in shows.
type Page struct {
	Title, About, Said string
	Actions            []Action
	Tables             []Table
}

// Action is a button.
type Action struct {
	Name, Label, About string
	Do                 func(ctx context.Context) (said string, err error)
}

// Table is a table of the page.
type Table struct {
	Title string
	Head  []string
	Rows  [][]string
}

// Serve serves a stand-in's page on a free loopback port until the context ends, and gives its address.
func Serve(ctx context.Context, show func(ctx context.Context) (Page, error)) (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	answer := func(w http.ResponseWriter, r *http.Request, said string) {
		p, err := show(r.Context())
		if err != nil {
			p.Said = "Not available now."
		}
		if said != "" {
			p.Said = said
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		frame.Execute(w, p)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) { answer(w, r, "") })
	mux.HandleFunc("POST /do/{name}", func(w http.ResponseWriter, r *http.Request) {
		p, _ := show(r.Context())
		for _, a := range p.Actions {
			if a.Name != r.PathValue("name") {
				continue
			}
			said, err := a.Do(r.Context())
			if err != nil {
				said = fmt.Sprintf("That failed: %v", err)
			}
			answer(w, r, said)
			return
		}
		http.NotFound(w, r)
	})
	server := &http.Server{Handler: loopback.Handler(http.NewCrossOriginProtection().Handler(mux)), ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(l)
	go func() {
		<-ctx.Done()
		server.Close()
	}()
	return "http://" + l.Addr().String() + "/", nil
}
