package app

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel"
)

// TestTracesAreSentWhereTheEnvironmentSays: as OTLP over HTTP, and nowhere where it says nothing.
func TestTracesAreSentWhereTheEnvironmentSays(t *testing.T) {
	t.Setenv(traceVariables[0], "")
	require.False(t, tracesWanted())
	var got bytes.Buffer
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body := io.Reader(r.Body)
		if r.Header.Get("Content-Encoding") == "gzip" {
			z, err := gzip.NewReader(body)
			require.NoError(t, err)
			body = z
		}
		require.Equal(t, "/v1/traces", r.URL.Path)
		_, err := io.Copy(&got, body)
		require.NoError(t, err)
	}))
	defer server.Close()
	t.Setenv(traceVariables[0], server.URL)
	require.True(t, tracesWanted())
	was := otel.GetTracerProvider()
	defer otel.SetTracerProvider(was)
	sendRest, err := traces(t.Context())
	require.NoError(t, err)
	_, span := otel.Tracer("hollowreed").Start(t.Context(), "run gauge-readings")
	span.End()
	sendRest()
	require.Contains(t, got.String(), "run gauge-readings")
	require.Contains(t, got.String(), "hollowreed")
}
