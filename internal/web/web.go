// Package web serves the screens: server-rendered pages, one folder for each place, on loopback
// only.
package web

import (
	"context"
	"embed"
	"io/fs"
	"log/slog"
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
	"hollowreed/internal/web/door"
	"hollowreed/internal/web/estate"
	"hollowreed/internal/web/page"
	"hollowreed/internal/web/releases"
	"hollowreed/internal/web/traffic"
)

// maxBody is the most bytes of one request.
const maxBody = 4 << 20

//go:embed found.html
var found embed.FS

var foundView = page.Parse(found, "found.html")

// Handler serves a site.
func Handler(s *page.Site) http.Handler {
	// A form of another site cannot change anything here.
	return http.NewCrossOriginProtection().Handler(routes(s))
}

// routes are all addresses of a site.
func routes(s *page.Site) *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.ContextWithFallback = true
	r.Use(logged(s.Log), recovered(s), guarded)
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
	r.GET("/live", s.Hub.Serve)
	r.GET("/find", s.Do(func(c *gin.Context) error { return find(c, s) }))
	metrics := promhttp.HandlerFor(s.Engine.Metrics(), promhttp.HandlerOpts{})
	r.GET("/metrics", func(c *gin.Context) { metrics.ServeHTTP(c.Writer, c.Request) })
	door.Routes(r, s)
	bench.Routes(r, s)
	traffic.Routes(r, s)
	estate.Routes(r, s)
	releases.Routes(r, s)
	r.NoRoute(func(c *gin.Context) { s.Fail(c, store.ErrNotFound) })
	return r
}

// guarded answers only to loopback names, so that no other site can reach the pages through a
// name of its own, and says what a page may load.
func guarded(c *gin.Context) {
	host := c.Request.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	if ip := net.ParseIP(strings.Trim(host, "[]")); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		c.AbortWithStatus(http.StatusMisdirectedRequest)
		return
	}
	most := int64(maxBody)
	if c.FullPath() == "/bench/import" {
		most = project.MaxPacked + maxBody
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, most)
	c.Header("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Referrer-Policy", "same-origin")
	c.Next()
}

func logged(log *slog.Logger) gin.HandlerFunc {
	return func(c *gin.Context) {
		began := time.Now()
		c.Next()
		log.Debug("request", "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "took", time.Since(began))
		for _, err := range c.Errors {
			log.Error("request", "path", c.Request.URL.Path, "error", err)
		}
	}
}

func recovered(s *page.Site) gin.HandlerFunc {
	return gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, err any) {
		s.Log.Error("panic", "path", c.Request.URL.Path, "error", err)
		c.AbortWithStatus(http.StatusInternalServerError)
	})
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
