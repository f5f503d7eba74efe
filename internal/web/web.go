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
	"sync"
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

// Handler serves the sites of all projects, each below its own address.
func Handler(s *page.Sites) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	var handlers sync.Map // of the sites, by *page.Site
	root := gin.New()
	root.Use(page.Recovered(s.Log, func(c *gin.Context) { c.AbortWithStatus(http.StatusInternalServerError) }), page.Loopback, secured)
	root.UseRawPath = true
	root.UnescapePathValues = true
	root.Any(page.Below, func(c *gin.Context) {
		site, err := s.Of(c, c.Param("project"))
		if err != nil {
			s.Missing(c, err)
			return
		}
		h, made := handlers.Load(site)
		if !made {
			h, _ = handlers.LoadOrStore(site, Routes(site))
		}
		page.Mount(c.Writer, c.Request, site.Project, s.Person, h.(http.Handler))
	})
	root.GET("/assets/*path", asset)
	metrics := promhttp.HandlerFor(s.Engine.Metrics(), promhttp.HandlerOpts{})
	root.GET("/metrics", func(c *gin.Context) { metrics.ServeHTTP(c.Writer, c.Request) })
	root.GET(page.Callback, func(c *gin.Context) { lead(c, page.ProjectOf(c.Query("state"))) })
	root.NoRoute(func(c *gin.Context) {
		first, err := s.First(c)
		if err != nil {
			s.Missing(c, err)
			return
		}
		lead(c, first)
	})
	// A form of another site cannot change anything here.
	return http.NewCrossOriginProtection().Handler(asked(root))
}

// lead leads an address that names no project to the same one of a project.
func lead(c *gin.Context, projectID string) {
	c.Redirect(http.StatusTemporaryRedirect, page.Base(projectID)+c.Request.URL.RequestURI())
}

// asset answers with a file that all pages share.
func asset(c *gin.Context) {
	if !fs.ValidPath(strings.TrimPrefix(c.Param("path"), "/")) {
		c.Status(http.StatusNotFound)
		return
	}
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Cache-Control", "public, max-age=86400")
	http.StripPrefix("/assets", http.FileServerFS(assets.FS())).ServeHTTP(c.Writer, c.Request)
}

// asked answers HEAD as GET, where that ends; the server sends no body then (RFC 9110, section 9.3.2).
func asked(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodHead && !strings.HasSuffix(r.URL.Path, livePath) {
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		h.ServeHTTP(w, r)
	})
}

// livePath is where the open pages of a project hear of changes.
const livePath = "/live"

// Routes are all addresses of a site, as its pages write them.
func Routes(s *page.Site) *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.ContextWithFallback = true
	r.Use(page.Logged(s.Log), page.Recovered(s.Log, func(c *gin.Context) { c.AbortWithStatus(http.StatusInternalServerError) }), page.Loopback, guarded)
	r.GET("/", func(c *gin.Context) { c.Redirect(http.StatusFound, "/bench") })
	r.GET(livePath, func(c *gin.Context) { s.Hub.Serve(c, s.Scope) })
	r.GET("/find", s.Do(func(c *gin.Context) error { return find(c, s) }))
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
	secured(c)
	c.Next()
}

// secured says what a page may load, and that it is kept nowhere.
func secured(c *gin.Context) {
	c.Header("Content-Security-Policy", "default-src 'self'; style-src 'self' 'nonce-"+page.Nonce(c)+"'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Referrer-Policy", "same-origin")
	c.Header("Cache-Control", "no-store")
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
