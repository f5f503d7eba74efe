// Package quayside is the stand-in for Quayside, the freight and passenger booking desk: a REST
// interface with a token, described by an OpenAPI document.
package quayside

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hollowreed/internal/standin"
)

//go:embed openapi.json
var document []byte

// Token is the one that is taken.
const Token = "quay-7Kf2-desk-token"

// Line is one line of a booking.
type Line struct {
	Class  string      `json:"class"`
	Length json.Number `json:"length_m,omitempty"`
	Plate  string      `json:"plate,omitempty"`
	Price  json.Number `json:"price"`
}

// Customer of a booking.
type Customer struct {
	Name    string `json:"name"`
	Mail    string `json:"mail,omitempty"`
	Country string `json:"country"`
}

// Booking is one booking.
type Booking struct {
	Number   string   `json:"number"`
	Sailing  string   `json:"sailing"`
	Departs  string   `json:"departs"`
	Customer Customer `json:"customer"`
	Line     []Line   `json:"line"`
	Remark   *string  `json:"remark,omitempty"`
	Invoice  string   `json:"invoice,omitempty"`
	Changed  string   `json:"changed"`
	tag      int
}

// SignUp is somebody's sign-up at a kiosk; the same card may sign up again with another address.
type SignUp struct {
	Card  string `json:"card"`
	Name  string `json:"name"`
	Mail  string `json:"mail"`
	Kiosk string `json:"kiosk"`
	At    string `json:"at"`
}

// Desk is the booking desk.
type Desk struct {
	Moods   standin.FaultInjection
	Log     standin.Log
	mu      sync.Mutex
	booked  []*Booking
	signUps []SignUp
	keys    map[string]string // idempotency keys that were seen, with what they answered
	sent    int               // bookings that were made since the start
	first   int               // before the number of the first of them: another one at each start
}

// New makes a desk with the same bookings each time.
func New() *Desk {
	d := &Desk{keys: map[string]string{}, first: 30_000 + int(time.Now().Unix()/60%60_000)}
	for i := range 23 {
		d.booked = append(d.booked, seeded(i))
	}
	names := []string{"Tove Lind", "Jon Haar", "Sunniva Moe", "Eir Dahl", "Pall Joensen"}
	for i := range 12 {
		n := names[i%len(names)]
		d.signUps = append(d.signUps, SignUp{
			Card: fmt.Sprintf("K-%04d", 100+i%9), Name: n, Mail: strings.ToLower(strings.Fields(n)[0]) + fmt.Sprintf("%d@skerry.example", i), Kiosk: []string{"LC", "OR", "HV"}[i%3],
			At: time.Date(2031, 3, 9, 6, 10+i, 0, 0, time.UTC).Format(time.RFC3339),
		})
	}
	return d
}

func seeded(i int) *Booking {
	who := []Customer{{"Tove Lind", "tove@skerry.example", "NO"}, {"Ormlet Fish", "", "FO"}, {"Jon Haar", "jon@haar.example", "IS"}, {"Vane & Co", "desk@vane.example", "NO"}}
	lines := [][]Line{
		{{"CAR", "4.4", "SK 40117", "412.00"}, {"PAX", "", "", "96.50"}},
		{{"LOR", "16.5", "OF 221", "1980.00"}},
		{{"VAN", "6.2", "", "655.25"}},
		{{"PAX", "", "", "96.50"}, {"PAX", "", "", "48.25"}, {"CAR", "4.9", "HV 7781", "412.00"}},
	}
	b := &Booking{
		Number: fmt.Sprintf("B-%05d", 20417+i), Sailing: []string{"LS204", "SK118", "OR031"}[i%3], Departs: time.Date(2031, 3, 9+i/6, 7+i%12, 30, 0, 0, time.UTC).Format(time.RFC3339),
		Customer: who[i%len(who)], Line: lines[i%len(lines)], Changed: time.Date(2031, 3, 8, 12, i, 0, 0, time.UTC).Format(time.RFC3339), tag: 1,
	}
	if i == 2 {
		two := "two dogs, in the car"
		b.Remark = &two
	}
	return b
}

// Handler serves the interface.
func (d *Desk) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /openapi.json", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write([]byte(strings.ReplaceAll(string(document), "http://quayside.example", "http://"+r.Host)))
	})
	mux.HandleFunc("GET /bookings", d.signed(d.list))
	mux.HandleFunc("POST /bookings", d.signed(d.add))
	mux.HandleFunc("GET /bookings/{number}", d.signed(d.one))
	mux.HandleFunc("PUT /bookings/{number}/invoice", d.signed(d.invoiced))
	mux.HandleFunc("GET /kiosk/sign-ups", d.signed(d.kiosk))
	mux.HandleFunc("GET /{$}", d.signed(func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, map[string]string{"desk": "Quayside"}) }))
	return mux
}

func (d *Desk) signed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+Token || d.Moods.Is(standin.Expire) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="quayside"`)
			problem(w, 401, "the token is not known")
			return
		}
		next(w, r)
	}
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status, "detail": detail})
}

// list gives a page of the bookings that were changed after a time, with a Link header to the next.
func (d *Desk) list(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	q := r.URL.Query()
	size, page := number(q.Get("size"), 10), number(q.Get("page"), 1)
	if size < 1 || size > 100 || page < 1 {
		problem(w, 400, "size must be 1 to 100 and page at least 1")
		return
	}
	since := instant(q.Get("since"))
	var found []*Booking
	for _, b := range d.booked {
		if instant(b.Changed).After(since) && (q.Get("sailing") == "" || q.Get("sailing") == b.Sailing) {
			found = append(found, b)
		}
	}
	from, to := min((page-1)*size, len(found)), min(page*size, len(found))
	if to < len(found) {
		q.Set("page", strconv.Itoa(page+1))
		w.Header().Set("Link", fmt.Sprintf(`<%s?%s>; rel="next"`, r.URL.Path, q.Encode()))
	}
	answer(w, 200, map[string]any{"items": found[from:to], "total": len(found)})
}

// instant reads a time; one that is none is long ago.
func instant(text string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return time.Time{}
	}
	return t
}

func number(text string, def int) int {
	if text == "" {
		return def
	}
	n, err := strconv.Atoi(text)
	if err != nil {
		return -1
	}
	return n
}

func (d *Desk) find(n string) *Booking {
	if i := slices.IndexFunc(d.booked, func(b *Booking) bool { return b.Number == n }); i >= 0 {
		return d.booked[i]
	}
	return nil
}

// one gives a booking with an entity tag, or says that it has not changed (RFC 9110, 13.1).
func (d *Desk) one(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	b := d.find(r.PathValue("number"))
	if b == nil {
		problem(w, 404, "there is no booking "+r.PathValue("number"))
		return
	}
	tag := fmt.Sprintf(`"%d"`, b.tag)
	w.Header().Set("ETag", tag)
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	answer(w, 200, b)
}

// invoiced notes the number of a booking's invoice.
func (d *Desk) invoiced(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Invoice string `json:"invoice"`
	}
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || in.Invoice == "" {
		problem(w, 422, "an invoice number is needed")
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	b := d.find(r.PathValue("number"))
	if b == nil {
		problem(w, 404, "there is no booking "+r.PathValue("number"))
		return
	}
	if match := r.Header.Get("If-Match"); match != "" && match != fmt.Sprintf(`"%d"`, b.tag) {
		problem(w, 412, "somebody changed the booking meanwhile")
		return
	}
	b.Invoice = in.Invoice
	b.tag++
	answer(w, 200, b)
}

// add takes a new booking; a call that is sent again with its key is answered as before.
func (d *Desk) add(w http.ResponseWriter, r *http.Request) {
	var in Booking
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || in.Sailing == "" || in.Customer.Name == "" || len(in.Line) == 0 {
		problem(w, 422, "a booking needs a sailing, a customer and lines")
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	key := r.Header.Get("Idempotency-Key")
	if n := d.keys[key]; key != "" && n != "" {
		answer(w, 200, d.find(n))
		return
	}
	b := d.book(in)
	d.keys[key] = b.Number
	answer(w, 201, b)
}

func (d *Desk) book(b Booking) *Booking {
	d.sent++
	b.Number = fmt.Sprintf("B-%05d", d.first+d.sent)
	b.Changed = time.Now().UTC().AddDate(5, 0, 0).Format(time.RFC3339Nano) // behind those that are seeded, and behind those of a start before
	b.tag = 1
	d.booked = append(d.booked, &b)
	return &b
}

// kiosk gives sign-ups by cursor.
func (d *Desk) kiosk(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	from := number(r.URL.Query().Get("cursor"), 0)
	if from < 0 || from > len(d.signUps) {
		problem(w, 400, "that cursor is not one of ours")
		return
	}
	to := min(from+5, len(d.signUps))
	out := map[string]any{"sign_ups": d.signUps[from:to]}
	if to < len(d.signUps) {
		out["next"] = strconv.Itoa(to)
	}
	answer(w, 200, out)
}

// Booked gives a copy of the bookings.
func (d *Desk) Booked() []Booking {
	d.mu.Lock()
	defer d.mu.Unlock()
	var list []Booking
	for _, b := range d.booked {
		list = append(list, *b)
	}
	return list
}

// Page shows the bookings and what was asked for.
func (d *Desk) Page(context.Context) (standin.Page, error) {
	p := standin.Page{Title: "Quayside", About: "The freight and passenger booking desk."}
	p.Actions = append(p.Actions, standin.Action{Name: "book", Label: "Somebody books", About: "a new booking", Do: func(context.Context) (string, error) {
		d.mu.Lock()
		defer d.mu.Unlock()
		return "Booked " + d.book(*seeded(d.sent)).Number, nil
	}})
	p.Actions = append(p.Actions, d.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Limit, standin.Bomb, standin.Expire)...)
	t := standin.Table{Title: "Bookings", Head: []string{"number", "sailing", "customer", "lines", "invoice", "changed"}}
	for _, b := range d.Booked() {
		t.Rows = append(t.Rows, []string{b.Number, b.Sailing, b.Customer.Name, fmt.Sprint(len(b.Line)), b.Invoice, b.Changed})
	}
	slices.Reverse(t.Rows)
	p.Tables = []standin.Table{t, {Title: "Asked for", Head: []string{"at", "method", "path", "answered"}, Rows: d.Log.Rows()}}
	return p, nil
}

// Standin is Quayside.
var Standin = standin.Standin{
	Name: "quayside", About: "the booking desk: REST with an OpenAPI document and a token",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		d := New()
		address, err := standin.HTTP(ctx, &d.Moods, &d.Log, d.Handler())
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, d.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{
			"quayside": {Kind: "http", Values: map[string]string{"address": address, "sign in": "bearer token", "token": Token}},
		}}, err
	},
}
