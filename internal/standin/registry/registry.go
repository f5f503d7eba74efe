// Package registry is the stand-in for the Registry, a small public service that knows vehicles by their plates: a REST interface that
// anybody may read, described by an OpenAPI document.
package registry

import (
	"context"
	_ "embed"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"

	"hollowreed/internal/standin"
)

//go:embed openapi.json
var document []byte

// Vehicle is what is known of one.
type Vehicle struct {
	Registration string `json:"registration"`
	Make         string `json:"make"`
	Class        string `json:"vehicleClass"`
	LengthMm     int    `json:"lengthMm"`
	OwnerID      string `json:"ownerId"`
}

type owner struct {
	ID      string `json:"ownerId"`
	Name    string `json:"ownerName"`
	Country string `json:"country"`
}

type inspection struct {
	Inspected string `json:"inspected"`
	Passed    bool   `json:"passed"`
	Remark    string `json:"remark,omitempty"`
}

// Vehicles are those that are registered.
var Vehicles = []Vehicle{
	{"SK 40117", "Holm 4", "CAR", 4310, "O-11"},
	{"SK 40233", "Holm 7", "CAR", 4890, "O-12"},
	{"LI 22054", "Varg Box", "VAN", 5932, "O-13"},
	{"OR 31008", "Stag 18", "LOR", 11640, "O-14"},
	{"SK 51990", "Holm Mini", "CAR", 3610, "O-11"},
}

var owners = []owner{{"O-11", "Tove Lind", "NO"}, {"O-12", "Eli Berg", "NO"}, {"O-13", "Ling Bakery", "NO"}, {"O-14", "Ormlet Fish", "FO"}}

// Registry is the service.
type Registry struct {
	Moods standin.FaultInjection
	Log   standin.Log
}

// Handler serves it.
func (r *Registry) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(document)
	})
	mux.HandleFunc("GET /vehicles/{registration}", func(w http.ResponseWriter, req *http.Request) {
		if v := find(req.PathValue("registration")); v != nil {
			answer(w, http.StatusOK, v)
			return
		}
		answer(w, http.StatusNotFound, map[string]string{"title": "no vehicle has the plate " + req.PathValue("registration")})
	})
	mux.HandleFunc("GET /owners/{ownerId}", func(w http.ResponseWriter, req *http.Request) {
		for _, o := range owners {
			if o.ID == req.PathValue("ownerId") {
				answer(w, http.StatusOK, o)
				return
			}
		}
		answer(w, http.StatusNotFound, map[string]string{"title": "no such owner"})
	})
	mux.HandleFunc("GET /inspections", func(w http.ResponseWriter, req *http.Request) {
		list := []inspection{}
		if find(req.URL.Query().Get("registration")) != nil {
			list = append(list, inspection{"2030-05-14", true, ""}, inspection{"2029-05-09", false, "brakes"})
		}
		answer(w, http.StatusOK, list)
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]string{"service": "Registry"})
	})
	return mux
}

func find(plate string) *Vehicle {
	for i, v := range Vehicles {
		if strings.ReplaceAll(v.Registration, " ", "") == strings.ReplaceAll(plate, " ", "") {
			return &Vehicles[i]
		}
	}
	return nil
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

// Page shows the vehicles.
func (r *Registry) Page(context.Context) (standin.Page, error) {
	t := standin.Table{Title: "Vehicles", Head: []string{"plate", "make", "class", "length"}}
	for _, v := range Vehicles {
		t.Rows = append(t.Rows, []string{v.Registration, v.Make, v.Class, strconv.Itoa(v.LengthMm) + " mm"})
	}
	return standin.Page{
		Title: "Registry", About: "A public service that knows vehicles by their plates.", Tables: []standin.Table{t, {Title: "Asked for", Head: []string{"at", "method", "path", "answered"}, Rows: r.Log.Rows()}},
		Actions: r.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Limit),
	}, nil
}

// Standin is the Registry.
var Standin = standin.Standin{
	Name: "registry", About: "vehicles by their plates: REST",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		r := &Registry{}
		address, err := standin.HTTP(ctx, &r.Moods, &r.Log, r.Handler())
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, r.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{"registry": {Kind: "http", Values: map[string]string{"address": address}}}}, err
	},
}
