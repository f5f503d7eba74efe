package app

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin/trust"
	"hollowreed/internal/web"
)

// TestCallsComeInByTLS: with the certificate of a file, the next one once that is renewed, and the one before while it is broken.
func TestCallsComeInByTLS(t *testing.T) {
	authority, err := trust.New()
	require.NoError(t, err)
	dir := t.TempDir()
	s := &callsTLS{certificate: filepath.Join(dir, "calls.pem"), key: filepath.Join(dir, "calls.key")}
	put := func(name string, at time.Time) {
		certificate, key, err := authority.ServerPEM(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(s.key, key, 0o600))
		require.NoError(t, os.WriteFile(s.certificate, certificate, 0o600))
		require.NoError(t, os.Chtimes(s.certificate, at, at))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, _, err = s.wrap(l)
	require.ErrorContains(t, err, "--calls-certificate")
	began := time.Now().Add(-time.Hour)
	put("first", began)
	taken, pool, err := s.wrap(l)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		ended <- web.Serve(ctx, taken, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, r.Proto) }))
	}()
	shown := func() (name, proto string) {
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true}}
		defer client.CloseIdleConnections()
		res, err := client.Get("https://" + l.Addr().String() + "/")
		require.NoError(t, err)
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.TLS.PeerCertificates[0].Subject.CommonName, string(text)
	}
	name, proto := shown()
	require.Equal(t, "first", name)
	require.Equal(t, "HTTP/2.0", proto)
	put("second", began.Add(time.Minute))
	name, _ = shown()
	require.Equal(t, "second", name)
	require.NoError(t, os.WriteFile(s.certificate, []byte("half of it"), 0o600))
	name, _ = shown()
	require.Equal(t, "second", name, "until the new one can be read")
	cancel()
	require.NoError(t, <-ended)
}
