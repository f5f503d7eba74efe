// Package tariff is the stand-in for the Tariff, a small public service that tells what a crossing costs: a REST interface that anybody
// may read, described by an OpenAPI document.
package tariff

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"hollowreed/internal/standin"
)

//go:embed openapi.json
var document []byte

// ends is the last day for which fares are told.
const ends = "2031-12-31"

type route struct {
	Code    string `json:"code"`
	From    string `json:"from"`
	To      string `json:"to"`
	Minutes int    `json:"minutes"`
	metre   int    // øre
}

var routes = []route{{"LING-ORMA", "Ling", "Orma", 45, 5600}, {"LING-HOLM", "Ling", "Holm", 80, 8250}, {"ORMA-HOLM", "Orma", "Holm", 30, 4100}}

// base is what a class costs whatever its length, in øre.
var base = map[string]int{"CAR": 12000, "VAN": 19500, "LOR": 48000}

// Tariff is the service.
type Tariff struct {
	Moods standin.FaultInjection
	Log   standin.Log
}

// Handler serves it.
func (t *Tariff) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(document)
	})
	mux.HandleFunc("GET /fares", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		length, err := strconv.ParseFloat(q.Get("length_m"), 64)
		class, known := base[q.Get("class")]
		if err != nil || length <= 0 || length > 30 || !known {
			answer(w, http.StatusUnprocessableEntity, map[string]string{"title": "a fare needs a class and a length in metres"})
			return
		}
		for _, one := range routes {
			if one.Code == q.Get("route") {
				fare := class + int(length*float64(one.metre)+0.5)
				answer(w, http.StatusOK, json.RawMessage(fmt.Sprintf(`{"fare":%d.%02d,"currency":"NOK","validUntil":"%s"}`, fare/100, fare%100, ends)))
				return
			}
		}
		answer(w, http.StatusNotFound, map[string]string{"title": "there is no route " + q.Get("route")})
	})
	mux.HandleFunc("GET /routes", func(w http.ResponseWriter, _ *http.Request) { answer(w, http.StatusOK, routes) })
	mux.HandleFunc("GET /surcharges/{day}", func(w http.ResponseWriter, r *http.Request) {
		day, err := time.Parse(time.DateOnly, r.PathValue("day"))
		if err != nil {
			answer(w, http.StatusUnprocessableEntity, map[string]string{"title": "a day is written as 2031-03-09"})
			return
		}
		percent := 0
		if day.Weekday() == time.Friday || day.Weekday() == time.Sunday {
			percent = 15
		}
		answer(w, http.StatusOK, map[string]any{"day": r.PathValue("day"), "percent": percent})
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]string{"service": "Tariff"})
	})
	return mux
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

// Page shows the routes.
func (t *Tariff) Page(context.Context) (standin.Page, error) {
	table := standin.Table{Title: "Routes", Head: []string{"code", "from", "to", "minutes"}}
	for _, r := range routes {
		table.Rows = append(table.Rows, []string{r.Code, r.From, r.To, strconv.Itoa(r.Minutes)})
	}
	return standin.Page{
		Title: "Tariff", About: "A public service that tells what a crossing costs.", Tables: []standin.Table{table, {Title: "Asked for", Head: []string{"at", "method", "path", "answered"}, Rows: t.Log.Rows()}},
		Actions: t.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Limit),
	}, nil
}

// Standin is the Tariff.
var Standin = standin.Standin{
	Name: "tariff", About: "what a crossing costs: REST",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		t := &Tariff{}
		address, err := standin.HTTP(ctx, &t.Moods, &t.Log, t.Handler())
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, t.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{"tariff": {Kind: "http", Values: map[string]string{"address": address}}}}, err
	},
}
