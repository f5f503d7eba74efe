package app

import (
	"context"
	"net"
	"net/http"
	"os"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"

	"hollowreed/internal/loopback"
	"hollowreed/internal/web"
)

// traceVariables name where traces go, as OpenTelemetry's specification of exporters says.
var traceVariables = []string{"OTEL_EXPORTER_OTLP_ENDPOINT", "OTEL_EXPORTER_OTLP_TRACES_ENDPOINT"}

// tracesWanted says whether somebody has named where traces go.
func tracesWanted() bool {
	for _, name := range traceVariables {
		if os.Getenv(name) != "" {
			return true
		}
	}
	return false
}

// traces sends the spans of runs to the endpoint that the environment names, by OTLP over HTTP; nothing where it names none.
// What it gives sends what is left.
func traces(ctx context.Context) (func(), error) {
	if !tracesWanted() {
		return func() {}, nil
	}
	exporter, err := otlptracehttp.New(ctx)
	if err != nil {
		return nil, err
	}
	provider := sdktrace.NewTracerProvider(sdktrace.WithBatcher(exporter), sdktrace.WithResource(resource.NewSchemaless(attribute.String("service.name", "hollowreed"))))
	otel.SetTracerProvider(provider)
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		provider.Shutdown(ctx)
	}, nil
}

// serveMetrics serves what a worker has counted, for who scrapes it, until the context ends.
func serveMetrics(ctx context.Context, address string, g prometheus.Gatherer) (net.Addr, error) {
	l, err := listen("--metrics", address)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(g, promhttp.HandlerOpts{}))
	go web.Serve(ctx, l, loopback.Handler(mux))
	return l.Addr(), nil
}
