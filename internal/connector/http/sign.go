package http

import (
	"context"
	"net/http"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
)

// signer signs requests in.
type signer interface {
	sign(req *http.Request) error
	// renew gets new tokens after the service refused those of a request, unless others are there by then; false where there
	// are none to get.
	renew(req *http.Request) (bool, error)
	probe(ctx context.Context, r *probe.Run)
}

// fixed is a way to sign in that never changes.
type fixed func(req *http.Request)

func (f fixed) sign(req *http.Request) error {
	f(req)
	return nil
}

func (f fixed) renew(*http.Request) (bool, error) { return false, nil }

func (f fixed) probe(context.Context, *probe.Run) {}

// signerOf is the way to sign in that is set.
func signerOf(env system.Env, client *http.Client) (signer, error) {
	v := env.Values
	switch v["sign in"] {
	case "", "none":
		return fixed(func(*http.Request) {}), nil
	case "basic":
		return fixed(func(req *http.Request) { req.SetBasicAuth(v["user"], v["password"]) }), nil
	case "bearer token":
		return fixed(func(req *http.Request) { req.Header.Set("Authorization", "Bearer "+v["token"]) }), nil
	case "key in a header":
		return fixed(func(req *http.Request) { req.Header.Set(v["key name"], v["token"]) }), nil
	case "key in the query":
		return fixed(func(req *http.Request) {
			q := req.URL.Query()
			q.Set(v["key name"], v["token"])
			req.URL.RawQuery = q.Encode()
		}), nil
	case "oauth client credentials", "oauth consent":
		return newOAuth(env, client)
	}
	return nil, fault.New(fault.Setting, "there is no way to sign in called %q", v["sign in"])
}
