package inbound_test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/operate"
	"hollowreed/internal/standin/trust"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

// TestCallersShowCertificates: by TLS, each made known by itself; what a proxy says of one counts only where it is trusted, and a public
// certificate is no key.
func TestCallersShowCertificates(t *testing.T) {
	w := webtest.New(t)
	publish(t, w, "callers: with a client certificate\noperations:\n  - {operation: price, answered by: examples}\n")
	authority, err := trust.New()
	require.NoError(t, err)
	made := func(name string) (tls.Certificate, []byte) {
		text, key, err := authority.ServerPEM(name)
		require.NoError(t, err)
		pair, err := tls.X509KeyPair(text, key)
		require.NoError(t, err)
		return pair, text
	}
	known, text := made("kiosk")
	stranger, _ := made("kiosk")
	id := uuid.New()
	_, err = store.AddCaller(t.Context(), w.DB, testkit.Skerry, store.APICaller{ID: id, Name: "Kiosk", MadeBy: "mira"})
	require.NoError(t, err)
	o := operate.Operator{DB: w.DB, Engine: w.Engine, Scope: testkit.Skerry, Person: "mira"}
	require.NoError(t, o.AddCallerCertificate(t.Context(), id, text))
	require.ErrorContains(t, o.AddCallerCertificate(t.Context(), id, text), "shows this certificate already")
	require.ErrorContains(t, o.AddCallerCertificate(t.Context(), id, []byte("nothing")), "in PEM")

	server := httptest.NewUnstartedServer(w.Calls.Config.Handler)
	server.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	server.StartTLS()
	t.Cleanup(server.Close)
	asked := func(address string, shows *tls.Certificate, header string) (int, string) {
		pool := x509.NewCertPool()
		pool.AddCert(server.Certificate())
		config := &tls.Config{RootCAs: pool}
		if shows != nil {
			config.Certificates = []tls.Certificate{*shows}
		}
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: config}}
		defer client.CloseIdleConnections()
		req, err := http.NewRequestWithContext(t.Context(), "GET", address+"/in/prices/classes/CAR", nil)
		require.NoError(t, err)
		if header != "" {
			req.Header.Set("Client-Cert", header)
		}
		res, err := client.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		answer, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(answer)
	}
	status, answer := asked(server.URL, &known, "")
	require.Equal(t, 200, status, answer)
	status, answer = asked(server.URL, &stranger, "")
	require.Equal(t, 401, status, "of the same name and authority, and another one")
	require.Contains(t, answer, "the certificate is not known")
	status, answer = asked(server.URL, nil, "")
	require.Equal(t, 401, status)
	require.Contains(t, answer, "a client certificate")

	told := ":" + base64.StdEncoding.EncodeToString(known.Certificate[0]) + ":"
	status, _ = asked(w.Calls.URL, nil, told)
	require.Equal(t, 401, status, "anybody can say so")
	w.Site.TrustsProxy = true
	status, answer = asked(w.Calls.URL, nil, told)
	require.Equal(t, 200, status, answer)
	for _, header := range []string{":x:", "::", ":" + base64.StdEncoding.EncodeToString([]byte("no certificate")) + ":"} {
		status, _ = asked(w.Calls.URL, nil, header)
		require.Equal(t, 401, status)
	}

	publish(t, w, "callers: with a name and a key\noperations:\n  - {operation: price, answered by: examples}\n")
	resp, _ := ask(t, w, "GET", "/classes/CAR", "", "Authorization: Basic "+base64.StdEncoding.EncodeToString(append([]byte("Kiosk:"), known.Certificate[0]...)))
	require.Equal(t, 401, resp.StatusCode, "a certificate is known to all, and no key")
}
