package http

import (
	"context"
	"crypto/tls"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/connector/http/openapi"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/quayside"
)

// desk is Quayside with the operations of its own document.
type desk struct {
	*quayside.Desk
	service *Service
	part    *connection.Connection
}

func newDesk(t *testing.T, change map[string]string) *desk {
	t.Helper()
	d := &desk{Desk: quayside.New()}
	address, err := standin.HTTP(t.Context(), &d.Moods, &d.Log, d.Handler())
	require.NoError(t, err)
	values := map[string]string{"address": address, "sign in": "bearer token", "token": quayside.Token, "timeout": "5"}
	for name, v := range change {
		values[name] = v
	}
	d.service = open(t, values)
	text, err := d.service.Fetch(t.Context(), "/openapi.json")
	require.NoError(t, err)
	im, err := openapi.Take("desk", "openapi.json", text)
	require.NoError(t, err)
	require.Empty(t, im.Notes)
	require.Equal(t, map[string]string{"address": address, "sign in": "bearer token"}, im.Settings)
	out := partfile.Ordered{{Key: "connection", Value: "Desk"}, {Key: "kind", Value: "http"}, {Key: "operations", Value: im.Operations}}
	d.part = contract.Part(t, string(partfile.Encode(out)), im.Schemas...)
	return d
}

func open(t *testing.T, values map[string]string) *Service {
	t.Helper()
	s, err := Open(contract.Env("http", values))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s.(*Service)
}

func TestEveryOperationOfTheDocumentWorks(t *testing.T) {
	d := newDesk(t, nil)
	well, told := contract.Probe(t, d.service)
	require.True(t, well, told)
	all := contract.All(t, d.service, contract.Request(t, d.part, "list-bookings", `{"since": "2031-03-08T12:02:00Z"}`))
	require.Len(t, all, 20, "the pages were followed by their Link headers")
	require.Equal(t, value.Timestamp, all[0].Field("departs").Kind())
	require.Equal(t, value.Decimal, all[0].Field("line").Items()[0].Field("price").Kind())

	one, err := d.service.Call(t.Context(), contract.Request(t, d.part, "get-booking", `{"number": "B-20418"}`))
	require.NoError(t, err)
	require.Equal(t, "Ormlet Fish", one.Field("customer").Field("name").String())
	same, err := d.service.Call(t.Context(), contract.Request(t, d.part, "get-booking", `{"number": "B-20418", "If_None_Match": "\"1\""}`))
	require.NoError(t, err)
	require.Equal(t, value.Absent, same.Kind(), "one that has not changed is not sent again")
	one, err = d.service.Call(t.Context(), contract.Request(t, d.part, "set-invoice", `{"number": "B-20418", "body": {"invoice": "7001"}}`))
	require.NoError(t, err)
	require.Equal(t, "7001", one.Field("invoice").String())
	require.Equal(t, "7001", d.Booked()[1].Invoice)
	require.Len(t, contract.All(t, d.service, contract.Request(t, d.part, "list-sign-ups", "")), 12, "the pages were followed by cursor")

	add := contract.Request(t, d.part, "add-booking", `{"body": {"sailing": "LS204", "departs": "2031-03-09T07:30:00Z", "customer": {"name": "Eir", "country": "NO"}, "line": [{"class": "PAX", "price": 96.50}]}}`)
	add.Key = "run-1-record-4"
	first, err := d.service.Call(t.Context(), add)
	require.NoError(t, err)
	again, err := d.service.Call(t.Context(), add)
	require.NoError(t, err)
	require.Equal(t, json.Text(first), json.Text(again), "one that is sent again with its key is the same")
}

func TestRefusalsAreFaultsOfTheRequest(t *testing.T) {
	d := newDesk(t, nil)
	for json, want := range map[string]string{`{"number": "B-99999"}`: "404 Not Found: there is no booking B-99999", `{"number": "../x?y#z"}`: "there is no booking ../x?y#z"} {
		_, err := d.service.Call(t.Context(), contract.Request(t, d.part, "get-booking", json))
		var f *fault.Fault
		require.ErrorAs(t, err, &f)
		require.Contains(t, f.What(), want)
	}
	_, err := d.service.Call(t.Context(), system.Request{Op: d.part.Operation("get-booking"), Value: value.NewRecord(d.part.Operation("get-booking").Request.Root.Layout(), []value.Value{{}, {}})})
	require.ErrorContains(t, err, "the request has no number")
}

// TestEveryMood: what may pass is an error that says so; what waiting does not mend is a fault; nothing hangs.
func TestEveryMood(t *testing.T) {
	d := newDesk(t, map[string]string{"tries": "2", "largest": "1", "timeout": "2"})
	d.Moods.SlowFor(3 * time.Second)
	ask := contract.Request(t, d.part, "get-booking", `{"number": "B-20418"}`)
	for _, c := range []struct {
		mood, want string
		final      bool
	}{
		{standin.Slow, "did not answer in time (tried 2 times)", false},
		{standin.Refuse, "403 Forbidden: not today", true},
		{standin.Wrong, "is not JSON", true},
		{standin.Drop, "broke off in the middle", false},
		{standin.Bomb, "longer than 1 MB and was cut off", true},
		{standin.Expire, "401 Unauthorized", true},
	} {
		t.Run(c.mood, func(t *testing.T) {
			d.Moods.Reset()
			d.Moods.Set(c.mood, true)
			_, err := d.service.Call(t.Context(), ask)
			require.ErrorContains(t, err, c.want)
			var f *fault.Fault
			require.Equal(t, c.final, errorsAs(err, &f), "%v", err)
			require.NotContains(t, err.Error(), quayside.Token)
		})
	}
	d.Moods.Reset()
	d.Moods.TakeDown(time.Minute)
	_, err := d.service.Call(t.Context(), ask)
	require.Error(t, err)
	require.Error(t, d.service.Check(t.Context()))
}

func errorsAs(err error, f **fault.Fault) bool {
	for ; err != nil; err = unwrap(err) {
		if is, ok := err.(*fault.Fault); ok {
			*f = is
			return true
		}
	}
	return false
}

func unwrap(err error) error {
	u, ok := err.(interface{ Unwrap() error })
	if !ok {
		return nil
	}
	return u.Unwrap()
}

func TestABusyServiceIsAskedAgainWhenItSays(t *testing.T) {
	d := newDesk(t, nil)
	d.Moods.Set(standin.Limit, true)
	began := time.Now()
	for range 5 {
		_, err := d.service.Call(t.Context(), contract.Request(t, d.part, "get-booking", `{"number": "B-20418"}`))
		require.NoError(t, err)
	}
	require.Greater(t, time.Since(began), 900*time.Millisecond, "Retry-After was kept")
}

// scripted answers what it is told and keeps what it is asked.
func scripted(t *testing.T, h http.HandlerFunc) string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.URL
}

const oneOperation = `
connection: Desk
kind: http
operations:
  - operation: ask
    kind: %KIND%
    path: /things
    %MORE%
`

func asking(t *testing.T, does, more string) system.Request {
	t.Helper()
	text := strings.ReplaceAll(strings.ReplaceAll(oneOperation, "%KIND%", does), "%MORE%", strings.ReplaceAll(more, "\n", "\n    "))
	return system.Request{Op: contract.Part(t, text).Operation("ask")}
}

func TestPagesAreFollowedInEveryWay(t *testing.T) {
	pages := [][]string{{"1", "2"}, {"3", "4"}, {"5"}}
	for name, c := range map[string]struct {
		more   string
		answer func(w http.ResponseWriter, r *http.Request) int // the page that is asked for
		next   func(w http.ResponseWriter, page int) string
	}{
		"page number": {"pages: page number\npage: p\nfirst: 0", func(_ http.ResponseWriter, r *http.Request) int { return int(r.URL.Query().Get("p")[0] - '0') }, nil},
		"offset":      {"pages: offset\npage: o", func(_ http.ResponseWriter, r *http.Request) int { return int(r.URL.Query().Get("o")[0]-'0'+1) / 2 }, nil},
		"cursor": {"pages: cursor\npage: c\nnext: /next", func(_ http.ResponseWriter, r *http.Request) int {
			return strings.Index("abc", r.URL.Query().Get("c")+"")
		}, func(_ http.ResponseWriter, page int) string { return string("abc"[page+1]) }},
		"next field": {"pages: next field\nnext: /next", func(_ http.ResponseWriter, r *http.Request) int { return len(r.URL.Query().Get("at")) }, func(_ http.ResponseWriter, page int) string { return "/things?at=" + strings.Repeat("x", page+1) }},
		"link header": {"pages: link header", func(_ http.ResponseWriter, r *http.Request) int { return len(r.URL.Query().Get("at")) }, func(w http.ResponseWriter, page int) string {
			w.Header().Add("Link", `</things?at=zzz>; rel="last"; title="a, b", <?at=`+strings.Repeat("x", page+1)+`>; title=z; rel="prefetch next"`)
			return ""
		}},
	} {
		t.Run(name, func(t *testing.T) {
			at := scripted(t, func(w http.ResponseWriter, r *http.Request) {
				page := c.answer(w, r)
				next := ""
				if c.next != nil && page < len(pages)-1 {
					next = c.next(w, page)
				}
				items := ""
				if page < len(pages) {
					items = `{"n": ` + strings.Join(pages[page], `}, {"n": `) + `}`
				}
				w.Header().Set("Content-Type", "application/json")
				if next != "" {
					items += `], "next": "` + next + `", "x": [`
				}
				w.Write([]byte(`{"items": [` + items + `]}`))
			})
			s := open(t, map[string]string{"address": at})
			var got []string
			for _, v := range contract.All(t, s, asking(t, "read", "records: /items\n"+c.more)) {
				got = append(got, v.Field("n").String())
			}
			require.Equal(t, []string{"1", "2", "3", "4", "5"}, got)
		})
	}
}

func TestPagesThatGoInACircleOrElsewhereEnd(t *testing.T) {
	next := "/things?at=x"
	at := scripted(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Write([]byte(`{"items": [{"n": 1}], "next": "` + next + `"}`))
	})
	s := open(t, map[string]string{"address": at})
	ask := asking(t, "read", "records: /items\npages: next field\nnext: /next")
	list, err := contract.Some(s, t, ask)
	require.ErrorContains(t, err, "circle")
	require.Len(t, list, 2)
	next = "http://elsewhere.example/things"
	_, err = contract.Some(s, t, ask)
	require.ErrorContains(t, err, "to which the sign-in is not sent")
}

func TestWhatIsSentInEachForm(t *testing.T) {
	var got *http.Request
	var body string
	at := scripted(t, func(w http.ResponseWriter, r *http.Request) {
		b := new(strings.Builder)
		if strings.HasPrefix(r.Header.Get("Content-Type"), "multipart/") {
			if err := r.ParseMultipartForm(1 << 20); err == nil {
				for name, v := range r.MultipartForm.Value {
					b.WriteString(name + "=" + v[0] + ";")
				}
				for name, f := range r.MultipartForm.File {
					b.WriteString(name + ":" + f[0].Filename + ":" + f[0].Header.Get("Content-Type"))
				}
			}
		} else {
			buf := make([]byte, 1000)
			n, _ := r.Body.Read(buf)
			b.Write(buf[:n])
		}
		got, body = r, b.String()
		w.Write([]byte(`{"ok": true}`))
	})
	s := open(t, map[string]string{"address": at + "/api", "sign in": "key in the query", "key name": "k", "token": "very-secret-1"})
	for more, want := range map[string]string{
		`body: 'record("a", "x&y", "b", 0.10)'`:                                              `{"a":"x&y","b":0.10}`,
		"body: 'record(\"a\", \"x&y\", \"b\", 2)'\nmedia: application/x-www-form-urlencoded": "a=x%26y&b=2",
		"body: 'record(\"note\", \"n\", \"paper\", record(\"name\", \"p.txt\", \"type\", \"text/plain\", \"text\", \"hi\"))'\nmedia: multipart/form-data": "note=n;paper:p.txt:text/plain",
		"body: '\"as it is\"'\nmedia: text/plain": "as it is",
	} {
		_, err := s.Call(t.Context(), asking(t, "call", more+"\nquery: {tag: '[\"a\", \"b\"]'}\nheaders: {X-Run: '\"7\"'}\nmethod: PUT"))
		require.NoError(t, err)
		require.Equal(t, want, body)
		require.Equal(t, "/api/things", got.URL.Path)
		require.Equal(t, []string{"a", "b"}, got.URL.Query()["tag"])
		require.Equal(t, "very-secret-1", got.URL.Query().Get("k"))
		require.Equal(t, "7", got.Header.Get("X-Run"))
		require.Equal(t, "PUT", got.Method)
	}
	_, err := s.Call(t.Context(), asking(t, "call", `headers: {X-Run: '"a\nb"'}`))
	require.ErrorContains(t, err, "cannot hold a line break")
}

func TestWhatCountsAsFailureIsChosen(t *testing.T) {
	at := scripted(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Write([]byte(`{"ok": false, "error": "no such board"}`))
	})
	s := open(t, map[string]string{"address": at})
	_, err := s.Call(t.Context(), asking(t, "call", ""))
	require.NoError(t, err)
	_, err = s.Call(t.Context(), asking(t, "call", `fails when: 'response.body contains "\"ok\": false"'`))
	require.ErrorContains(t, err, "no such board")
}

func TestACallThatMayHaveWorkedIsNotSentAgain(t *testing.T) {
	n := 0
	at := scripted(t, func(w http.ResponseWriter, _ *http.Request) { n++; w.WriteHeader(500) })
	s := open(t, map[string]string{"address": at, "tries": "3"})
	_, err := s.Call(t.Context(), asking(t, "call", ""))
	require.ErrorContains(t, err, "it answers 500")
	require.Equal(t, 1, n)
	keyed := asking(t, "call", "key: Idempotency-Key")
	keyed.Key = "k"
	_, err = s.Call(t.Context(), keyed)
	require.ErrorContains(t, err, "tried 3 times")
	require.Equal(t, 4, n, "with a key it is sent again")
}

// TestWhatAServiceSaysWith500IsItsAnswer: problem details and faults of SOAP are no trouble that passes; they reach the
// record, and are not asked for again.
func TestWhatAServiceSaysWith500IsItsAnswer(t *testing.T) {
	for media, body := range map[string]string{
		"application/problem+json": `{"title": "no such booking"}`,
		"text/xml; charset=utf-8":  `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>no such booking</faultstring></s:Fault></s:Body></s:Envelope>`,
	} {
		n := 0
		at := scripted(t, func(w http.ResponseWriter, _ *http.Request) {
			n++
			w.Header().Set("Content-Type", media)
			w.WriteHeader(500)
			w.Write([]byte(body))
		})
		s := open(t, map[string]string{"address": at, "tries": "3"})
		for _, does := range []string{"call", "read"} {
			n = 0
			_, err := s.Call(t.Context(), asking(t, does, ""))
			var f *fault.Fault
			require.ErrorAs(t, err, &f, media)
			require.Contains(t, f.What(), "it answers 500 Internal Server Error: ")
			require.Contains(t, f.What(), "no such booking")
			require.Equal(t, 1, n)
		}
	}
}

func TestCertificatesAreChecked(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(`{"n": 1}`)) }))
	t.Cleanup(server.Close)
	s := open(t, map[string]string{"address": server.URL})
	well, told := contract.Probe(t, s)
	require.False(t, well)
	require.Contains(t, told, "encryption agreed: the certificate is not of an authority that is trusted here")
	_, err := s.Call(t.Context(), asking(t, "read", ""))
	require.ErrorContains(t, err, "CA certificates")
	own := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	s = open(t, map[string]string{"address": server.URL, "authority": string(own)})
	well, told = contract.Probe(t, s)
	require.True(t, well, told)
	require.Contains(t, told, tls.VersionName(tls.VersionTLS13))
}

func TestAddressesThatAreRefused(t *testing.T) {
	at := scripted(t, func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(`{}`)) })
	n, err := system.NewNet("127.0.0.0/8", "")
	require.NoError(t, err)
	env := contract.Env("http", map[string]string{"address": strings.Replace(at, "127.0.0.1", "localhost", 1)})
	env.Net = n
	s, err := Open(env)
	require.NoError(t, err)
	_, err = s.(*Service).Call(t.Context(), asking(t, "read", ""))
	require.ErrorContains(t, err, "may not be reached from here", "a name that leads to a refused address does not help")
	n.Allow = append(n.Allow, netip.MustParseAddrPort(strings.TrimPrefix(at, "http://")))
	_, err = s.(*Service).Call(t.Context(), asking(t, "read", ""))
	require.NoError(t, err)
}

func TestTheExchangeIsKeptWithSecretsMasked(t *testing.T) {
	d := newDesk(t, nil)
	ctx, said := system.Listen(context.Background(), func(s string) string { return strings.ReplaceAll(s, quayside.Token, "•••") })
	_, err := d.service.Call(ctx, contract.Request(t, d.part, "get-booking", `{"number": "B-20418"}`))
	require.NoError(t, err)
	require.Len(t, said.Turns, 2)
	require.Contains(t, said.Turns[0].Head, "GET http://127.0.0.1")
	require.Contains(t, said.Turns[0].Text, "Authorization: Bearer •••")
	require.Contains(t, said.Turns[1].Head, "200 OK")
	require.Contains(t, said.Turns[1].Text, "Ormlet Fish")
}

// TestAPreviewIsWhatIsSent: byte for byte, and nothing is sent by it.
func TestAPreviewIsWhatIsSent(t *testing.T) {
	d := newDesk(t, nil)
	asked := contract.Request(t, d.part, "get-booking", `{"number": "B-20418"}`)
	ctx, said := system.Listen(t.Context(), func(s string) string { return s })
	would, err := d.service.Preview(ctx, asked)
	require.NoError(t, err)
	require.Empty(t, said.Turns)
	_, err = d.service.Call(ctx, asked)
	require.NoError(t, err)
	require.Equal(t, said.Turns[0], would)
}

// TestABriefExchangeHoldsNoTokens: what is kept with every record is the request and its answer, not how the token was got.
func TestABriefExchangeHoldsNoTokens(t *testing.T) {
	at := scripted(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/token") {
			w.Header().Set("Content-Type", "application/json")
			w.Write([]byte(`{"access_token":"tok-1","token_type":"Bearer","expires_in":3600}`))
			return
		}
		w.Write([]byte(`{}`))
	})
	s := open(t, map[string]string{"address": at, "sign in": "oauth client credentials", "client": "c", "client secret": "s", "token at": at + "/token"})
	would, err := s.Preview(t.Context(), asking(t, "read", ""))
	require.NoError(t, err)
	require.Contains(t, would.Text, "Authorization: Bearer (a token that is fetched when it is sent)")
	ctx, said := system.ListenBriefly(t.Context(), func(s string) string { return strings.ReplaceAll(s, "tok-1", "•••") })
	_, err = s.Call(ctx, asking(t, "read", ""))
	require.NoError(t, err)
	require.Len(t, said.Turns, 2)
	require.Contains(t, said.Turns[0].Text, "Authorization: Bearer •••")
}
