package contract

import (
	"fmt"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/route"
)

func bookings(t testing.TB, changes ...string) *Contract {
	t.Helper()
	text, err := os.ReadFile("testdata/bookings-1.yaml")
	require.NoError(t, err)
	for i := 0; i < len(changes); i += 2 {
		require.Contains(t, string(text), changes[i])
	}
	c, err := Read("bookings.yaml", []byte(strings.NewReplacer(changes...).Replace(string(text))))
	require.NoError(t, err)
	return c
}

func TestADocumentIsRead(t *testing.T) {
	c := bookings(t)
	require.Empty(t, c.Faults)
	require.Empty(t, c.Notes)
	require.Equal(t, []string{"Bookings", "1.4.0"}, []string{c.Title, c.Version})
	require.Len(t, c.Operations, 6)
	list := c.Operation("list-bookings")
	require.Equal(t, "GET /bookings", list.Name())
	require.Equal(t, []string{"form", "form", "deepObject", "simple"}, []string{list.Parameters[0].Style, list.Parameters[1].Style, list.Parameters[2].Style, list.Parameters[3].Style})
	require.Equal(t, [][]Need{{{"key", nil}}}, list.Security)
	require.Equal(t, `[{"number":"B-7","seats":2}]`, list.Answers[0].Media[0].Examples[0].Value)
	require.Equal(t, "X-Total", list.Answers[0].Headers[0].Name)
	book := c.Operation("POST /bookings")
	require.True(t, book.Body.Required)
	require.Equal(t, Example{"two", `{"seats":2}`}, book.Body.Media[0].Examples[0])
	require.Equal(t, "/components/schemas/Booking", c.Operation("get-booking").Answers[0].Media[0].Schema)
	require.Equal(t, "number", c.Operation("DELETE /bookings/{number}").Parameters[0].Name)
	require.Empty(t, c.Operation("latest").Security)
	d, err := c.Schema("/components/schemas/Booking")
	require.NoError(t, err)
	require.Len(t, d.Schema.Root.Fields, 3)
}

// TestWhatIsWrongWithADocumentIsTold, with its line.
func TestWhatIsWrongWithADocumentIsTold(t *testing.T) {
	for _, c := range []struct{ old, now, want string }{
		{"operationId: book\n", "operationId: list-bookings\n", `bookings.yaml:23:20 /paths/~1bookings/post/operationId: the id "list-bookings" is that of GET /bookings, too`},
		{"'#/components/requestBodies/Wish'", "'#/components/requestBodies/None'", "bookings.yaml:24:20 /paths/~1bookings/post/requestBody: #/components/requestBodies/None leads nowhere"},
		{"'#/components/requestBodies/Wish'", "'other.yaml#/Wish'", "other.yaml#/Wish stands in another document"},
		{"/bookings/latest:", "/bookings/{id}:", `GET /bookings/{id}: the path names "id", which is no parameter`},
		{"/bookings/latest:", "/bookings/{id}:", "a request for GET /bookings/{id} could be one for /bookings/{number}"},
		{"name: number, in: path, required: true", "name: number, in: path", "is not required, though it always is there"},
		{"security: [{key: []}]", "security: [{keys: []}]", `there is no security scheme "keys"`},
		{`responses: {"204": {description: gone}}`, "responses: {}", "says nothing of its answers"},
		{`"404": {`, `"four": {`, `expected a status as 200, 4XX or default, found "four"`},
		{"in: header, schema", "in: head, schema", `expected a place as path, query, header or cookie, found "head"`},
	} {
		var told []string
		for _, f := range bookings(t, c.old, c.now).Faults {
			told = append(told, f.Error())
		}
		require.Contains(t, strings.Join(told, "\n"), c.want)
	}
	for in, want := range map[string]string{"swagger: '2.0'": "found \"swagger: 2.0\"", "a: [": "the document cannot be read", "": "expected an OpenAPI document"} {
		_, err := Read("x.yaml", []byte(in))
		require.ErrorContains(t, err, want)
	}
}

// TestWhatBreaksCallers: who sends less or more than before, and who reads what he is answered.
func TestWhatBreaksCallers(t *testing.T) {
	for _, c := range []struct{ old, now, want string }{
		{"", "", ""},
		{"schema: {type: string, format: date}}", "required: true, schema: {type: string, format: date}}", "! GET /bookings, query parameter since: required now"},
		{"{name: X-Page, in: header, schema: {type: integer, minimum: 1}}", "{name: X-Size, in: header, schema: {type: integer}}", "GET /bookings, header parameter X-Size: added\n! GET /bookings, header parameter X-Page: removed: what callers say with it is passed over"},
		{"enum: [open, void]", "enum: [open, void, gone]", "GET /bookings, query parameter state: codes added: gone"},
		{"enum: [open, void]", "enum: [open]", "! GET /bookings, query parameter state: codes removed: void"},
		{"explode: false", "explode: true", "! GET /bookings, query parameter state: written as form → form, each value by itself"},
		{"maximum: 9", "maximum: 4", "! POST /bookings, body, seats: maximum 9 → 4"},
		{"maximum: 9", "maximum: 12", "POST /bookings, body, seats: maximum 9 → 12"},
		{"required: [seats]", "required: [seats, note]", "! POST /bookings, body, note: occurs 0..1 → 1"},
		{`"404": {description: there is none}`, `"410": {description: it is gone}`, "GET /bookings/{number}, answer 410: added\nGET /bookings/{number}, answer 404: removed"},
		{"headers: {X-Total: {required: true, schema: {type: integer}}}", "headers: {}", "! GET /bookings, answer 200: the header X-Total is removed"},
		{"/bookings/latest:", "/bookings/newest:", "GET /bookings/newest: added\n! GET /bookings/latest: removed, and it was not deprecated before"},
		{"deprecated: true", "deprecated: false", ""},
		{"operationId: latest, security: []", "operationId: latest", "GET /bookings/latest, security: may be called with apiKey header X-Key\n! GET /bookings/latest, security: can no longer be called with nothing"},
		{"/bookings/{number}:\n    parameters: [{name: number,", "/bookings/{no}:\n    parameters: [{name: no,", ""},
	} {
		now := bookings(t)
		if c.old != "" {
			now = bookings(t, c.old, c.now)
		}
		var told []string
		for _, ch := range Compare(bookings(t), now) {
			told = append(told, strings.TrimSpace(map[bool]string{true: "! "}[ch.Breaks]+ch.String()))
		}
		assert.Equal(t, c.want, strings.Join(told, "\n"), c.now)
	}
	var told []string
	for _, ch := range Compare(bookings(t), bookings(t, "required: [number, seats]", "required: [seats]")) {
		require.True(t, ch.Breaks)
		told = append(told, ch.String())
	}
	require.Equal(t, []string{"GET /bookings, answer 200, number: occurs 1 → 0..1", "POST /bookings, answer 201, number: occurs 1 → 0..1", "GET /bookings/{number}, answer 200, number: occurs 1 → 0..1", "GET /bookings/latest, answer default, number: occurs 1 → 0..1"}, told)
}

func TestARequestFindsItsOperation(t *testing.T) {
	r := newRouter(bookings(t).Operations)
	for _, c := range []struct{ method, path, want string }{
		{"GET", "/bookings", "GET /bookings"},
		{"GET", "/bookings/latest", "GET /bookings/latest"},
		{"GET", "/bookings/B-7", "GET /bookings/{number} number=B-7"},
		{"DELETE", "/bookings/latest", "DELETE /bookings/{number} number=latest"},
		{"GET", "/bookings/a%2Fb", "GET /bookings/{number} number=a/b"},
		{"GET", "/papers/bill.of.lading.pdf", "GET /papers/{name}.{ending} name=bill ending=of.lading.pdf"},
		{"GET", "/papers/x", ""},
		{"GET", "/bookings/", ""},
		{"GET", "/bookings/B-7/x", ""},
		{"GET", "/", ""},
		{"GET", "", ""},
		{"PUT", "/bookings", "allowed GET POST"},
		{"PATCH", "/bookings/B-7", "allowed DELETE GET"},
	} {
		m, allowed, ft := r.Find(c.method, c.path)
		require.Nil(t, ft)
		got := ""
		switch {
		case m.Operation != nil:
			got = m.Operation.Name()
			for _, v := range m.Path {
				got += " " + v.Name + "=" + v.Text
			}
		case allowed != nil:
			got = "allowed " + strings.Join(allowed, " ")
		}
		assert.Equal(t, c.want, got, c.path)
	}
	_, _, ft := r.Find("GET", "/bookings/%zz")
	require.ErrorContains(t, ft, "not well escaped")
	_, _, ft = r.Find("GET", strings.Repeat("/a", 1000))
	require.ErrorContains(t, ft, "more than 64 segments")
}

// TestRequestsAreChecked: what comes is read as the contract says, and each fault names where it is.
func TestRequestsAreChecked(t *testing.T) {
	k := bookings(t)
	r := newRouter(k.Operations)
	for _, c := range []struct{ method, address, body, want string }{
		{"GET", "/bookings?since=2031-03-09&state=open,void&at[lat]=58.1", "", `at={"lat":58.1} since="2031-03-09" state=["open","void"]`},
		{"GET", "/bookings?since=yesterday", "", `! query since: expected a date as YYYY-MM-DD, found "yesterday"`},
		{"GET", "/bookings?since=2031-03-09&since=2031-03-10", "", "! query since: expected one value, found several"},
		{"GET", "/bookings?state=open,lost", "", `! query state: expected open · void, found "lost"`},
		{"GET", "/bookings?state=open,void,open", "", "! query state: expected"},
		{"GET", "/bookings?at[lat]=-91", "", "! query at: expected at least -90, found -91"},
		{"GET", "/bookings?at[lon]=1", "", "! query at: expected the member lat, found none"},
		{"GET", "/bookings?at[lat]=1&at[x]=2", "", `! query at: expected one of lat, lon, found "x"`},
		{"GET", "/bookings/B-7", "", `number="B-7"`},
		{"GET", "/bookings/7", "", `! path number: expected text like B-[0-9]+, found "7"`},
		{"POST", "/bookings", `{"seats": 2}`, `body={"seats":2}`},
		{"POST", "/bookings", "", "! body: expected a body, found none"},
		{"POST", "/bookings", `{"seats": 12, "cat": 1}`, "! seats: expected at most 9, found 12"},
		{"POST", "/bookings", `{"seats": `, "! this is not JSON"},
		{"GET", "/papers/a.exe", "", `! path ending: expected pdf · txt, found "exe"`},
	} {
		at, err := url.Parse(c.address)
		require.NoError(t, err)
		m, _, ft := r.Find(c.method, at.EscapedPath())
		require.Nil(t, ft)
		require.NotNil(t, m.Operation, c.address)
		got, faults := k.Check(m, Request{Query: at.Query(), ContentType: "application/json; charset=utf-8", Body: []byte(c.body)})
		if strings.HasPrefix(c.want, "!") {
			var told []string
			for _, f := range faults {
				f.Place.Source, f.Place.Line, f.Place.Path = "", 0, ""
				told = append(told, "! "+f.Error())
			}
			assert.Contains(t, strings.Join(told, "\n"), c.want, c.address)
			continue
		}
		require.Empty(t, faults, c.address)
		var list []string
		for _, p := range m.Operation.Parameters {
			if v, there := got.Parameters[p.Name]; there {
				list = append(list, fmt.Sprintf("%s=%s", p.Name, json.Text(v)))
			}
		}
		if !got.Body.IsMissing() {
			list = append(list, "body="+json.Text(got.Body))
		}
		assert.ElementsMatch(t, strings.Split(c.want, " "), list, c.address)
	}
	m, _, _ := r.Find("POST", "/bookings")
	_, faults := k.Check(m, Request{ContentType: "text/csv", Body: []byte("a")})
	require.ErrorContains(t, faults, `expected a body as application/json, found "text/csv"`)
	m, _, _ = r.Find("GET", "/bookings")
	_, faults = k.Check(m, Request{Headers: map[string][]string{"x-page": {"0"}}})
	require.ErrorContains(t, faults, "header X-Page: expected at least 1, found 0")
}

// router finds the operations of a contract, as who serves it does.
type router struct{ table route.Table[*Operation] }

func newRouter(operations []*Operation) *router {
	r := &router{}
	for _, o := range operations {
		r.table.Add(o.Method, o.Path, o)
	}
	return r
}

func (r *router) Find(method, path string) (Match, []string, *fault.Fault) {
	o, values, allowed, ft := r.table.Find(method, path)
	return Match{o, values}, allowed, ft
}
