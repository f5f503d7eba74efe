package http

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
)

// answering is a service that answers every request in one way.
func answering(t *testing.T, status int, header http.Header, body string) *Service {
	t.Helper()
	return open(t, map[string]string{"tries": "1", "address": scripted(t, func(w http.ResponseWriter, _ *http.Request) {
		for name, list := range header {
			w.Header()[name] = list
		}
		w.WriteHeader(status)
		w.Write([]byte(body))
	})})
}

func typed(media string) http.Header { return http.Header{"Content-Type": {media}} }

// TestAnswersAreReadAsTheirMediaTypeSays: messages as records, texts as texts, bytes as bytes; an empty answer as none.
func TestAnswersAreReadAsTheirMediaTypeSays(t *testing.T) {
	for _, c := range []struct{ media, body, want string }{
		{"application/json", `{"a": 1}`, `{"a":1}`},
		{"application/problem+json", `{"a": 1}`, `{"a":1}`},
		{"application/xml", `<a><b>1</b></a>`, `{"a":{"b":"1"}}`},
		{"application/soap+xml; charset=utf-8", `<a/>`, ""},
		{"text/plain", "all is well", `"all is well"`},
		{"text/plain", `{"a": 1}`, `{"a":1}`},
		{"text/html", "", ""},
		{"application/octet-stream", "\x00\xff", `"AP8="`},
		{"image/png", "\x89PNG", `"iVBORw=="`},
		{"application/json", "", ""},
		{"application/json", " \n", ""},
	} {
		v, err := answering(t, 200, typed(c.media), c.body).Call(t.Context(), asking(t, "call", ""))
		require.NoError(t, err, c.media)
		if c.want == "" {
			continue
		}
		require.Equal(t, c.want, json.Text(v), c.media)
	}
	_, err := answering(t, 200, typed("application/json"), `{"a": `).Call(t.Context(), asking(t, "call", ""))
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	_, err = answering(t, 200, typed("application/xml"), `<a><b></a>`).Call(t.Context(), asking(t, "call", ""))
	require.ErrorAs(t, err, &f)
}

// TestRecordsStandWhereTheOperationSays: a list, one of them, none; a path that leads nowhere is said, an empty place is not.
func TestRecordsStandWhereTheOperationSays(t *testing.T) {
	const body = `{"data": {"list": [{"n": 1}, {"n": 2}], "one": {"n": 3}, "none": []}, "a/b": [{"n": 4}]}`
	s := answering(t, 200, typed("application/json"), body)
	for path, want := range map[string]string{"/data/list": "12", "/data/list/1": "2", "/data/one": "3", "/data/none": "", "/data/gone": "", "/a~1b": "4", "/data/list/7": "!", "/data/list/x": "!", "/nowhere/at/all": "!"} {
		list, err := contract.Some(s, t, asking(t, "read", "records: "+path))
		if want == "!" {
			require.ErrorContains(t, err, "expected records at "+path, path)
			continue
		}
		require.NoError(t, err, path)
		var got string
		for _, v := range list {
			got += v.Field("n").String()
		}
		require.Equal(t, want, got, path)
	}
	require.Equal(t, value.Absent, Pointer(value.Int(1), "/a").Kind())
	require.Equal(t, "/a", parent("/a/b"))
	require.Empty(t, parent("a"))
	s = answering(t, 404, typed("application/json"), `{"detail": "no such thing"}`)
	v, err := s.Call(t.Context(), asking(t, "call", "none: no answer"))
	require.NoError(t, err)
	require.Equal(t, value.Absent, v.Kind())
	_, err = s.Call(t.Context(), asking(t, "call", ""))
	require.ErrorContains(t, err, "it answers 404 Not Found: no such thing")
	v, err = answering(t, 304, nil, "").Call(t.Context(), asking(t, "call", ""))
	require.NoError(t, err)
	require.Equal(t, value.Absent, v.Kind(), "there is nothing newer")
}

// TestRefusalsSayWhatTheServiceSays: by its problem details or the beginning of its text.
func TestRefusalsSayWhatTheServiceSays(t *testing.T) {
	for _, c := range []struct {
		media, body, want string
	}{
		{"application/problem+json", `{"title": "Out of reach", "detail": "the pier is closed"}`, "it answers 422 Unprocessable Entity: the pier is closed"},
		{"application/json", `{"title": "Out of reach"}`, "422 Unprocessable Entity: Out of reach"},
		{"application/json", `{"error": {"code": 7}}`, `found "{\"error\": {\"code\": 7}}"`},
		{"text/plain", "go away\n", `found "go away"`},
		{"application/json", "", "it answers 422 Unprocessable Entity"},
	} {
		_, err := answering(t, 422, typed(c.media), c.body).Call(t.Context(), asking(t, "call", ""))
		var f *fault.Fault
		require.ErrorAs(t, err, &f)
		require.Contains(t, f.What(), c.want)
	}
}

// TestPackedAnswersAreUnpackedWithinBounds: gzip, and nothing else; what is not what it says it is, or too long, is told.
func TestPackedAnswersAreUnpackedWithinBounds(t *testing.T) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte(`{"a": 1}`))
	require.NoError(t, z.Close())
	header := func(enc string) http.Header {
		return http.Header{"Content-Encoding": {enc}, "Content-Type": {"application/json"}}
	}
	v, err := answering(t, 200, header("gzip"), packed.String()).Call(t.Context(), asking(t, "call", ""))
	require.NoError(t, err)
	require.Equal(t, "1", v.Field("a").String())
	v, err = answering(t, 200, header("identity"), `{"a": 2}`).Call(t.Context(), asking(t, "call", ""))
	require.NoError(t, err)
	require.Equal(t, "2", v.Field("a").String())
	v, err = answering(t, 200, header("gzip"), "").Call(t.Context(), asking(t, "call", ""))
	require.NoError(t, err)
	require.Equal(t, value.Absent, v.Kind())
	for enc, body := range map[string]string{"gzip": "not packed", "br": "x"} {
		_, err = answering(t, 200, header(enc), body).Call(t.Context(), asking(t, "call", ""))
		require.Error(t, err, enc)
	}
	_, err = answering(t, 200, header("gzip"), packed.String()[:20]).Call(t.Context(), asking(t, "call", ""))
	require.ErrorContains(t, err, "broke off")
	s := open(t, map[string]string{"largest": "1", "address": scripted(t, func(w http.ResponseWriter, _ *http.Request) { w.Write(bytes.Repeat([]byte("x"), 2<<20)) })})
	_, err = s.Call(t.Context(), asking(t, "download", ""))
	require.ErrorContains(t, err, "longer than 1 MB")
	v, err = answering(t, 200, typed("application/pdf"), "%PDF").Call(t.Context(), asking(t, "download", ""))
	require.NoError(t, err)
	require.Equal(t, "%PDF", v.Field("content").Text())
}

// TestRedirectsStayOnTheHost: what signs in goes to no other host, nor from an encrypted connection to an open one.
func TestRedirectsStayOnTheHost(t *testing.T) {
	asked := 0
	elsewhere := scripted(t, func(http.ResponseWriter, *http.Request) { asked++ })
	to := "/moved"
	s := open(t, map[string]string{"tries": "1", "sign in": "bearer token", "token": "word", "address": scripted(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/moved" {
			w.Write([]byte(`{"signed": "` + r.Header.Get("Authorization") + `"}`))
			return
		}
		http.Redirect(w, r, to, http.StatusFound)
	})})
	v, err := s.Call(t.Context(), asking(t, "read", ""))
	require.NoError(t, err)
	require.Equal(t, "Bearer word", v.Field("signed").Text())
	to = elsewhere + "/things"
	_, _ = s.Call(t.Context(), asking(t, "read", ""))
	require.Zero(t, asked)
	to = "/things"
	_, err = s.Call(t.Context(), asking(t, "read", ""))
	require.Error(t, err, "it redirects for ever")

	tls := func(scheme string) *http.Request {
		return &http.Request{URL: &url.URL{Scheme: scheme, Host: "desk.example"}}
	}
	require.ErrorIs(t, sameHost(tls("http"), []*http.Request{tls("https")}), http.ErrUseLastResponse)
	require.NoError(t, sameHost(tls("https"), []*http.Request{tls("http")}))
	require.NoError(t, sameHost(tls("https"), []*http.Request{tls("https")}))
}

// TestDocumentsAreFetchedOfTheServiceOnly: signed in, by a path or an address of its own.
func TestDocumentsAreFetchedOfTheServiceOnly(t *testing.T) {
	var got string
	at := scripted(t, func(w http.ResponseWriter, r *http.Request) {
		got = r.URL.String()
		if strings.HasSuffix(r.URL.Path, "gone") {
			http.Error(w, "no more", http.StatusGone)
			return
		}
		w.Write([]byte("document"))
	})
	s := open(t, map[string]string{"address": at + "/api", "tries": "1"})
	for path, want := range map[string]string{"openapi.json?v=3": "/api/openapi.json?v=3", at + "/elsewhere": "/elsewhere"} {
		text, err := s.Fetch(t.Context(), path)
		require.NoError(t, err, path)
		require.Equal(t, "document", string(text))
		require.Equal(t, want, got)
	}
	for path, want := range map[string]string{
		"http://other.example/x":                      "expected a document of http://",
		strings.Replace(at, "http://", "https://", 1): "expected a document of http://",
		"%zz":  "expected an address, or a path",
		"gone": "it answers 410 Gone",
	} {
		_, err := s.Fetch(t.Context(), path)
		require.ErrorContains(t, err, want, path)
	}
}

// TestTextsArePostedAsTheyAre: the status is the caller's to judge, but for those that mean later; a post that is safe is
// tried again.
func TestTextsArePostedAsTheyAre(t *testing.T) {
	n := 0
	status := http.StatusTeapot
	s := open(t, map[string]string{"tries": "3", "address": scripted(t, func(w http.ResponseWriter, r *http.Request) {
		if n++; n == 1 {
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(status)
		w.Write([]byte(r.Header.Get("X-Of")))
	})})
	got, body, err := s.Post(t.Context(), http.Header{"X-Of": {"it"}}, []byte("text"), true)
	require.NoError(t, err)
	require.Equal(t, http.StatusTeapot, got)
	require.Equal(t, "it", string(body))
	require.Equal(t, 2, n)
	status = http.StatusServiceUnavailable
	_, _, err = s.Post(t.Context(), nil, nil, false)
	require.ErrorContains(t, err, "it answers 503")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = s.Post(ctx, nil, nil, true)
	require.Error(t, err)
	_, err = s.Call(ctx, asking(t, "call", ""))
	require.ErrorIs(t, err, context.Canceled)
}

// TestAProbeSaysWhatTheServiceWants: which sign-in, or that it is in trouble.
func TestAProbeSaysWhatTheServiceWants(t *testing.T) {
	for status, want := range map[int]string{200: "", 404: "", 401: `it does not take the sign-in (it wants Basic realm="desk")`, 403: "it does not take the sign-in", 503: "it answers 503"} {
		s := answering(t, status, http.Header{"Www-Authenticate": {`Basic realm="desk"`}}, "")
		well, told := contract.Probe(t, s)
		require.Equal(t, want == "", well, told)
		require.Contains(t, told, want)
		err := s.Check(t.Context())
		require.Equal(t, status >= 500 || status == 401, err != nil, "%d: trouble is what is broken, or refuses us", status)
	}
	for _, bad := range []string{"", "desk.example", "ftp://desk.example", "https://", "http://[::1"} {
		_, err := Open(contract.Env("http", map[string]string{"address": bad}))
		require.ErrorContains(t, err, "expected an address as https://desk.example/api", bad)
	}
}

// TestAServiceIsAskedWhenItSays: after so many seconds, or at a time; not before.
func TestAServiceIsAskedWhenItSays(t *testing.T) {
	for text, want := range map[string]time.Duration{"2": 2 * time.Second, "0": 0} {
		wait, ok := retryAfter(http.Header{"Retry-After": {text}})
		require.True(t, ok, text)
		require.Equal(t, want, wait)
	}
	wait, ok := retryAfter(http.Header{"Retry-After": {time.Now().Add(90 * time.Second).UTC().Format(http.TimeFormat)}})
	require.True(t, ok)
	require.InDelta(t, 90, wait.Seconds(), 2)
	wait, ok = retryAfter(http.Header{"Retry-After": {"Mon, 02 Jan 2006 15:04:05 GMT"}})
	require.True(t, ok)
	require.Zero(t, wait)
	_, ok = retryAfter(http.Header{"Retry-After": {"soon"}})
	require.False(t, ok)
	s := open(t, map[string]string{"rate": "10", "address": scripted(t, func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("{}")) })})
	began := time.Now()
	for range 4 {
		_, err := s.Call(t.Context(), asking(t, "read", ""))
		require.NoError(t, err)
	}
	require.Greater(t, time.Since(began), 250*time.Millisecond, "ten in a second")
	server := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(server.Close)
	own := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	tls, err := Open(contract.Env("http", map[string]string{"address": server.URL, "authority": string(own)}))
	require.NoError(t, err)
	_, err = tls.(system.Fetcher).Fetch(t.Context(), strings.Replace(server.URL, "https://", "http://", 1)+"/x")
	require.ErrorContains(t, err, "expected a document of https://")
}
