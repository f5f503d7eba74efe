package web_test

import (
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/web"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/webtest"
)

// formNames are the names that the pages' forms and addresses use.
var formNames = strings.Fields(`about alert as ask at back before branch by case cases cause code column columns condition connection content
	do entry env error expires field find first flow formula from function gap id into key kind label like line list look manner mend
	message most move name new none notation note off on_fault op operation out owner params part path place q query reason record reference
	release remove request response result revision rows rule said sample schema seed set show since source span state step system target
	text title to type until value version view way when with`)

// bad are values that nobody means well with, or that no form would send.
var bad = map[string]string{
	"nothing":    "",
	"markup":     "<script>alert(1)</script>\"'><img src=x>",
	"a zero":     "a\x00b",
	"not UTF-8":  "\xff\xfe\xc3\x28",
	"a path":     "../../../../etc/passwd",
	"below zero": "-1",
	"too large":  "99999999999999999999999999",
	"SQL":        "'; drop table run; --",
	"a tree":     "0/0/0/1/2/99",
	"brackets":   strings.Repeat("[", 3000),
	"a formula":  "(" + strings.Repeat("1+(", 500) + "1",
	"YAML":       "a: &x [*x]\n? b",
	"long":       strings.Repeat("wide", 5000),
}

// parts of the demo that stand in the place of an address's parameters.
func placed(route, name string) string {
	kind, _, _ := strings.Cut(strings.TrimPrefix(route, "/bench/"), "/")
	id := map[string]string{
		"flows": "gauge-readings", "mappings": "booking-to-invoice", "connections": "harbour-ledger", "tables": "cargo-articles",
		"libraries": "freight", "schemas": "booking", "apis": "bookings",
	}[kind]
	switch {
	case name == "id" && id != "":
		return id
	case name == "id":
		return "1"
	case name == "op":
		return "boarding-upsert"
	case name == "step":
		return "read"
	}
	return "018f0000-0000-7000-8000-000000000000"
}

// fill puts values into an address.
func fill(route string, value func(name string) string) string {
	parts := strings.Split(route, "/")
	for i, p := range parts {
		if strings.HasPrefix(p, ":") || strings.HasPrefix(p, "*") {
			parts[i] = url.PathEscape(value(p[1:]))
		}
	}
	return strings.Join(parts, "/")
}

// TestNoAddressFailsOnBadInput: whatever is sent to any address is answered without a fault of the server's, without a panic,
// and never comes back as markup.
func TestNoAddressFailsOnBadInput(t *testing.T) {
	w := webtest.New(t)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answered := map[string]int{}
	send := func(what, method, path string, form url.Values) {
		t.Helper()
		address, body := w.Base()+path, io.Reader(nil)
		if method == http.MethodGet {
			address += "?" + form.Encode()
		} else {
			body = strings.NewReader(form.Encode())
		}
		req, err := http.NewRequestWithContext(t.Context(), method, address, body)
		require.NoError(t, err, what)
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		res, err := client.Do(req)
		require.NoError(t, err, what)
		defer res.Body.Close()
		page, err := io.ReadAll(res.Body)
		require.NoError(t, err, what)
		if res.StatusCode >= 500 || strings.Contains(string(page), "<script>alert(1)") {
			t.Errorf("%s: %s %s was answered with %d: %s", what, method, path, res.StatusCode, regexp.MustCompile(`(?s)<main.*`).FindString(string(page)))
		}
		answered[method]++
	}
	for _, r := range web.Routes(w.Site).Routes() {
		if r.Path == "/live" || strings.HasPrefix(r.Path, inbound.Prefix) || !slices.Contains([]string{http.MethodGet, http.MethodPost}, r.Method) {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(bad)) { // in one order, so that a fault comes again
			value := bad[name]
			form := url.Values{}
			for _, f := range formNames {
				form[f] = []string{value, value}
			}
			send("all "+name, r.Method, fill(r.Path, func(string) string { return value }), form)
			form.Set("revision", "1")
			send("revision and "+name, r.Method, fill(r.Path, func(name string) string { return placed(r.Path, name) }), form)
		}
	}
	send("a field \xff", http.MethodGet, "/bench/parts", url.Values{"a\xff": {"x"}})
	require.Greater(t, answered[http.MethodPost], 500)
	require.Greater(t, answered[http.MethodGet], 500)
	require.NotContains(t, w.Logs.String(), "panic")
}
