package http

import (
	"context"
	"errors"
	"io"
	"log"
	"maps"
	"net/http"
	"net/http/httputil"
	"net/url"
	"sync"
	"time"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
)

var _ system.Forwarder = (*Service)(nil)

// Address is that of the service.
func (s *Service) Address() *url.URL { return s.base }

// Forward hands a request on to the service and its response back, both as they come, signed in where the connection signs in. Only
// what belongs to one hop is taken out (RFC 9110, section 7.6.1). The error is why there was no response; then f.Failed has answered.
func (s *Service) Forward(w http.ResponseWriter, r *http.Request, f system.Forwarding) (failed error) {
	if s.rate != nil {
		if err := s.rate.Wait(r.Context()); err != nil {
			f.Failed(w, err)
			return nil
		}
	}
	select {
	case s.forwards <- struct{}{}:
		defer func() { <-s.forwards }()
	default:
		f.Failed(w, system.ErrBusy)
		return nil
	}
	ctx, cancel := context.WithCancelCause(r.Context())
	defer cancel(nil)
	limit := time.AfterFunc(f.Timeout, func() { cancel(system.ErrSlow) })
	defer limit.Stop()
	var signing error
	p := httputil.ReverseProxy{
		Transport: s.client.Transport, BufferPool: &buffers, ErrorLog: quiet,
		Rewrite: func(p *httputil.ProxyRequest) { signing = s.rewrite(p, f) },
		ModifyResponse: func(res *http.Response) error {
			limit.Stop()
			for _, name := range f.Drop {
				res.Header.Del(name)
			}
			if f.Response == nil {
				return nil
			}
			return f.Response(res)
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			switch {
			case signing != nil:
				err = signing
			case errors.Is(context.Cause(ctx), system.ErrSlow):
				err = system.ErrSlow
			default:
				err = plain(&url.Error{Err: err})
			}
			var own *fault.Fault
			if r.Context().Err() == nil && !errors.As(err, &own) { // who asked is still there: it is the system's
				failed = err
			}
			f.Failed(w, err)
		},
	}
	p.ServeHTTP(w, r.WithContext(ctx))
	return failed
}

// rewrite makes of a request that came the one that is sent.
func (s *Service) rewrite(p *httputil.ProxyRequest, f system.Forwarding) error {
	out := p.Out
	u := *s.base
	u.RawQuery = f.Query
	at := u.EscapedPath() + f.Path
	u.Path, u.RawPath = at, ""
	if plainPath, err := url.PathUnescape(at); err == nil {
		u.Path, u.RawPath = plainPath, at
	}
	out.URL, out.Host = &u, ""
	if f.Keep != nil {
		maps.DeleteFunc(out.Header, func(name string, _ []string) bool { return !f.Keep(name) })
	}
	if _, there := out.Header["User-Agent"]; !there {
		out.Header.Set("User-Agent", "HollowReed")
	}
	p.SetXForwarded()
	err := s.sign.sign(out)
	if err != nil { // the transport refuses what has no address: what is not signed in is not sent
		out.URL = &url.URL{}
	}
	return err
}

// pool lends the buffers through which bodies go.
type pool struct{ sync.Pool }

const copied = 32 << 10

var buffers = pool{sync.Pool{New: func() any { b := make([]byte, copied); return &b }}}

func (p *pool) Get() []byte  { return *p.Pool.Get().(*[]byte) }
func (p *pool) Put(b []byte) { p.Pool.Put(&b) }

// quiet takes what the proxy would log: the caller is told.
var quiet = log.New(io.Discard, "", 0)
