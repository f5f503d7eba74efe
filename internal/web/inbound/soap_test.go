package inbound_test

import (
	"bytes"
	"crypto/sha256"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
	"hollowreed/internal/standin/berthmaster"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

// TestASOAPServiceStandsBehindANewAddress: envelopes go on byte for byte, and faults come back with their status; the document has the
// new address in it; guards answer with faults. Beside it the same service answers in JSON.
func TestASOAPServiceStandsBehindANewAddress(t *testing.T) {
	w := webtest.New(t)
	service := berthmaster.New()
	var mu sync.Mutex
	var came string
	old := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if r.Method == http.MethodPost { // and no look whether it answers
			mu.Lock()
			came = string(body)
			mu.Unlock()
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		service.Handler().ServeHTTP(rw, r)
	}))
	defer old.Close()
	w.Reach("berthmaster", "soap", map[string]string{"address": old.URL + "/berths", "user": berthmaster.User, "password": berthmaster.Password})
	release := func(id string) {
		_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, id, "", "mira")
		require.NoError(t, err)
	}
	release(project.ReleaseID(project.APIs, "berths"))
	at := w.Calls.URL + "/in/berths"
	send := func(envelope string) (*http.Response, string) {
		req, err := http.NewRequestWithContext(t.Context(), "POST", at, strings.NewReader(envelope))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "text/xml; charset=utf-8")
		req.Header.Set("SOAPAction", `"urn:berthmaster:list"`)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp, string(text)
	}
	const token = `<s:Header><w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>` + berthmaster.User + `</w:Username><w:Password>` + berthmaster.Password + `</w:Password></w:UsernameToken></w:Security></s:Header>`
	const signed = "<?xml version='1.0'?>\n<s:Envelope  xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\">" + token + `<s:Body><ListBerths xmlns="urn:berthmaster:berths"><!-- all --></ListBerths></s:Body></s:Envelope>`
	resp, answer := send(signed)
	require.Equal(t, 200, resp.StatusCode, answer)
	mu.Lock()
	require.Equal(t, signed, came)
	mu.Unlock()
	require.Contains(t, answer, "ListBerthsResponse")
	resp, answer = send(strings.Replace(signed, berthmaster.Password, "wrong", 1))
	require.Equal(t, 500, resp.StatusCode)
	require.Contains(t, answer, "Fault")

	resp, err := http.Get(at + "?wsdl")
	require.NoError(t, err)
	document, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	require.NoError(t, err)
	text, err := os.ReadFile("../../../demo/contracts/berths.wsdl")
	require.NoError(t, err)
	require.Contains(t, string(document), `location="`+w.Calls.URL+`/p/skerry/in/berths"`)
	require.Equal(t, len(text)-len("http://berthmaster.example/berths"), len(document)-len(w.Calls.URL+"/p/skerry/in/berths"), "nothing else of it is changed")

	// our callers sign in with their keys, and the service is told who we are
	part, err := store.ReadDrafts(t.Context(), w.DB, testkit.Skerry.Project, store.Drafts{})
	require.NoError(t, err)
	was := part.Texts["apis/berths.yaml"]
	w.Change("apis/berths.yaml", was, "callers: with a user name token\n"+strings.TrimRight(was, "\n")+"\n    user name token: of the connection\n")
	release(project.ReleaseID(project.APIs, "berths"))
	id := uuid.New()
	_, err = store.AddCaller(t.Context(), w.DB, testkit.Skerry, store.APICaller{ID: id, Name: "kiosk", MadeBy: "mira"})
	require.NoError(t, err)
	digest := sha256.Sum256([]byte("key of the kiosk"))
	require.NoError(t, store.AddCallerKey(t.Context(), w.DB, testkit.Skerry, store.CallerKey{Digest: digest[:], Caller: id, Hint: "key", MadeBy: "mira"}))
	own := strings.NewReplacer(berthmaster.User, "kiosk", berthmaster.Password, "key of the kiosk")
	resp, answer = send(own.Replace(signed))
	require.Equal(t, 200, resp.StatusCode, answer)
	require.Contains(t, answer, "ListBerthsResponse", "the service takes the token of the connection")
	mu.Lock()
	require.NotContains(t, came, "key of the kiosk")
	require.NotContains(t, came, "kiosk")
	mu.Unlock()
	for _, wrong := range []string{signed, strings.Replace(own.Replace(signed), "key of the kiosk", "", 1), strings.Replace(own.Replace(signed), ">kiosk<", ">somebody<", 1)} {
		resp, answer = send(wrong)
		require.Equal(t, 401, resp.StatusCode, answer)
		require.Contains(t, answer, "Fault")
	}
	resp, _ = send("no envelope")
	require.Equal(t, 400, resp.StatusCode)
	resp, err = http.Get(at + "?wsdl")
	require.NoError(t, err)
	resp.Body.Close()
	require.Equal(t, 200, resp.StatusCode, "the document may be known")

	old.CloseClientConnections()
	_, to := w.Post("/bench/connections/berthmaster/api", nil)
	jsonID := to[strings.LastIndex(to, "/")+1:]
	release(project.ReleaseID(project.APIs, jsonID))
	release(jsonID + "-list-berths")
	release(jsonID + "-reserve-berth")
	r, list := w.Ask("GET", "/in/"+jsonID+"/list-berths?harbour=Ling%20Castle", "")
	require.Equal(t, 200, r.StatusCode, list)
	require.NotEmpty(t, list["berth"])
	r, list = w.Ask("POST", "/in/"+jsonID+"/reserve-berth", `{"number": 3, "vessel": "Skua"}`, "Content-Type: application/json")
	require.Equal(t, 200, r.StatusCode, list)
	require.Equal(t, "R-3-SKUA", list["reservation"])
	r, list = w.Ask("POST", "/in/"+jsonID+"/reserve-berth", `{"number": 4, "vessel": "Skua"}`, "Content-Type: application/json")
	require.Equal(t, 502, r.StatusCode, list)
	require.Contains(t, list["detail"], "berth 4 is taken")

	w.Change("apis/berths.yaml", "callers: with a user name token", "callers: with a key")
	release(project.ReleaseID(project.APIs, "berths"))
	resp, answer = send(signed)
	require.Equal(t, 401, resp.StatusCode)
	require.Contains(t, answer, "<faultcode>s:Client</faultcode>")
}
