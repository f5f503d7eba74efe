// Package web serves the screens: server-rendered pages, one folder for each place, on loopback
// only.
package web

import (
	"context"
	"embed"
	"io/fs"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/assets"
	"hollowreed/internal/web/bench"
	"hollowreed/internal/web/estate"
	"hollowreed/internal/web/page"
	"hollowreed/internal/web/releases"
	"hollowreed/internal/web/traffic"
)

// MaxBody is the most bytes of one request.
const MaxBody = 4 << 20

//go:embed found.html
var found embed.FS

var foundView = page.Parse(found, "found.html")

// Handler serves a site.
func Handler(s *page.Site) http.Handler {
	// A form of another site cannot change anything here.
	return http.NewCrossOriginProtection().Handler(asked(Routes(s)))
}

// asked answers HEAD as GET, where that ends; the server sends no body then (RFC 9110, section 9.3.2).
func asked(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodHead && r.URL.Path != livePath {
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		h.ServeHTTP(w, r)
	})
}

// livePath is where open pages hear of changes.
const livePath = "/live"

// Routes are all addresses of a site.
func Routes(s *page.Site) *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.ContextWithFallback = true
	r.Use(page.Logged(s.Log), page.Recovered(s.Log, func(c *gin.Context) { c.AbortWithStatus(http.StatusInternalServerError) }), page.Loopback, guarded)
	r.GET("/", func(c *gin.Context) { c.Redirect(http.StatusFound, "/bench") })
	files := http.StripPrefix("/assets", http.FileServerFS(assets.FS()))
	r.GET("/assets/*path", func(c *gin.Context) {
		if !fs.ValidPath(strings.TrimPrefix(c.Param("path"), "/")) {
			s.Fail(c, store.ErrNotFound)
			return
		}
		c.Header("Cache-Control", "public, max-age=86400")
		files.ServeHTTP(c.Writer, c.Request)
	})
	r.GET(livePath, s.Hub.Serve)
	r.GET("/find", s.Do(func(c *gin.Context) error { return find(c, s) }))
	metrics := promhttp.HandlerFor(s.Engine.Metrics(), promhttp.HandlerOpts{})
	r.GET("/metrics", func(c *gin.Context) { metrics.ServeHTTP(c.Writer, c.Request) })
	bench.Routes(r, s)
	traffic.Routes(r, s)
	estate.Routes(r, s)
	releases.Routes(r, s)
	r.NoRoute(func(c *gin.Context) { s.Fail(c, store.ErrNotFound) })
	return r
}

// pageTime is how long a page may take until somebody has it; live pages go on from message to message.
const pageTime = 5 * time.Minute

// guarded says what a page may load, that it is kept nowhere, and bounds what is sent to it.
func guarded(c *gin.Context) {
	most := int64(MaxBody)
	if c.FullPath() == "/bench/import" {
		most = project.MaxPacked + MaxBody
	}
	page.Bounded(c, most)
	page.Answered(c, pageTime)
	c.Header("Content-Security-Policy", "default-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Referrer-Policy", "same-origin")
	c.Header("Cache-Control", "no-store")
	c.Next()
}

// Serve serves on an address of this machine until the context ends.
func Serve(ctx context.Context, l net.Listener, h http.Handler) error {
	server := &http.Server{
		Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx },
	}
	done := make(chan error, 1)
	go func() { done <- server.Serve(l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	end, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if err := server.Shutdown(end); err != nil {
		return server.Close()
	}
	return nil
}
