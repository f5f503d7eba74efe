package http

import (
	"errors"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"hollowreed/internal/core/fault"
)

// spread sends requests to several addresses of one service by turns. One that cannot be reached is left out for a while; a request is
// sent to another one where that is safe: nothing was sent yet, or the request has no body and changes nothing (RFC 9110, section 9.2.1).
type spread struct {
	*http.Transport
	base string // the host of the requests that are spread; others go where they go
	all  []*replica
	turn atomic.Uint64
}

// replica is one of the addresses.
type replica struct {
	scheme, host string
	out          atomic.Int64 // until when it is left out, in milliseconds since 1970
}

// leftOut is for how long an address is left out after it could not be reached.
const leftOut = 5 * time.Second

// spreadOver makes the transport of a service with further addresses, which differ in scheme, host and port alone.
func spreadOver(t *http.Transport, base *url.URL, further string) (http.RoundTripper, error) {
	if strings.TrimSpace(further) == "" {
		return t, nil
	}
	s := &spread{Transport: t, base: base.Host, all: []*replica{{scheme: base.Scheme, host: base.Host}}}
	for text := range strings.FieldsSeq(further) {
		u, err := Address(text)
		if err != nil || u.Path != "" || u.RawQuery != "" || u.User != nil {
			return nil, fault.Expect(fault.Setting, "addresses as https://other.example:8443, without a path", fault.Quote(text)).InField("Further addresses")
		}
		s.all = append(s.all, &replica{scheme: u.Scheme, host: u.Host})
	}
	return s, nil
}

// RoundTrip sends a request to one of the addresses.
func (s *spread) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Host != s.base {
		return s.Transport.RoundTrip(r)
	}
	var last error
	for tried := range s.order() {
		at := s.all[tried]
		out := r.Clone(r.Context())
		out.URL.Scheme, out.URL.Host = at.scheme, at.host
		res, err := s.Transport.RoundTrip(out)
		if err == nil {
			at.out.Store(0)
			res.Request = r
			return res, nil
		}
		last = err
		if r.Context().Err() != nil {
			return nil, err
		}
		at.out.Store(time.Now().Add(leftOut).UnixMilli())
		if !mayGoElsewhere(r, err) {
			return nil, err
		}
	}
	return nil, last
}

// order is in which order the addresses are tried: by turns, those that are left out last.
func (s *spread) order() func(yield func(int) bool) {
	from, now := int(s.turn.Add(1)%uint64(len(s.all))), time.Now().UnixMilli()
	return func(yield func(int) bool) {
		for _, out := range []bool{false, true} {
			for i := range s.all {
				n := (from + i) % len(s.all)
				if (s.all[n].out.Load() > now) == out && !yield(n) {
					return
				}
			}
		}
	}
}

// mayGoElsewhere says whether a request that failed can be sent to another address.
func mayGoElsewhere(r *http.Request, err error) bool {
	var dial *net.OpError
	if errors.As(err, &dial) && dial.Op == "dial" {
		return true // nothing was sent
	}
	return (r.Body == nil || r.Body == http.NoBody) && (r.Method == http.MethodGet || r.Method == http.MethodHead || r.Method == http.MethodOptions)
}
