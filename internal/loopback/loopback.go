// Package loopback keeps what is served for this machine to it: a page of another site that gives itself a name which leads here
// is answered nothing.
package loopback

import (
	"net"
	"net/http"
	"strings"
)

// Is says whether a host, with a port or without, is a name of this machine.
func Is(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Handler passes on what is asked by a name of this machine; no answer is stored.
func Handler(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !Is(r.Host) {
			w.WriteHeader(http.StatusMisdirectedRequest) // RFC 9110, section 15.5.20
			return
		}
		w.Header().Set("Cache-Control", "no-store")
		h.ServeHTTP(w, r)
	})
}
