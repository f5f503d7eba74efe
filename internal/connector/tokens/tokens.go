// Package tokens checks tokens of callers with the keys of who issued them.
package tokens

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/time/rate"

	"hollowreed/internal/core/api"
)

// Tokens checks tokens of callers (JWT, RFC 7519) with the keys of who issued them, which are found by OpenID Connect Discovery 1.0,
// remembered, and asked for again when a token has a key that is not known. A token that is good is believed for a moment.
type Tokens struct {
	mu      sync.Mutex
	issuers map[string]*issuer
	known   map[knownToken]knownClaims
}

type knownToken struct {
	rule   api.Tokens
	digest [sha256.Size]byte
}

type knownClaims struct {
	Claims
	until time.Time
}

// Claims are what a token says of its caller.
type Claims struct {
	Caller string
	Scopes []string
}

// Meets says whether the scopes are all those of one of several alternatives; where there are none, any are.
func (c Claims) Meets(alternatives [][]string) bool {
	return len(alternatives) == 0 || slices.ContainsFunc(alternatives, func(all []string) bool {
		return !slices.ContainsFunc(all, func(s string) bool { return !slices.Contains(c.Scopes, s) })
	})
}

// ErrIssuer is that who issues tokens cannot be asked for its keys.
var ErrIssuer = errors.New("the issuer of the tokens cannot be asked for its keys")

// Bounds on asking issuers and believing tokens.
const (
	issuerTime    = 10 * time.Second
	issuerEvery   = 2 * time.Second // after which an issuer is asked again, whatever tokens come
	mostOfKeys    = 1 << 20         // bytes of an answer
	tokenBelieved = time.Minute
	mostOfToken   = 16 << 10 // bytes
	mostKnown     = 10_000   // tokens
)

// New knows no issuers.
func New() *Tokens {
	return &Tokens{issuers: map[string]*issuer{}, known: map[knownToken]knownClaims{}}
}

// Of checks a token. The error is ErrIssuer where it cannot be checked; any other one says why the token is no good.
func (t *Tokens) Of(ctx context.Context, rule api.Tokens, token string, now time.Time) (Claims, error) {
	if len(token) > mostOfToken {
		return Claims{}, errors.New("the token is too large")
	}
	key := knownToken{rule, sha256.Sum256([]byte(token))}
	t.mu.Lock()
	k, there := t.known[key]
	t.mu.Unlock()
	if there && now.Before(k.until) {
		return k.Claims, nil
	}
	claims, until, err := t.issuer(rule.Issuer).check(ctx, rule, token, now)
	if err != nil {
		return claims, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.known) >= mostKnown {
		clear(t.known)
	}
	t.known[key] = knownClaims{claims, until}
	return claims, nil
}

func (t *Tokens) issuer(address string) *issuer {
	t.mu.Lock()
	defer t.mu.Unlock()
	i := t.issuers[address]
	if i == nil {
		i = &issuer{address: address, asks: rate.NewLimiter(rate.Every(issuerEvery), 2)}
		t.issuers[address] = i
	}
	return i
}

// issuer is who issues tokens.
type issuer struct {
	address  string
	asks     *rate.Limiter // so that tokens with made-up keys do not become as many requests
	mu       sync.Mutex
	provider *oidc.Provider
	keys     oidc.KeySet
	algs     []string // with which it signs
}

// asymmetric are the algorithms by which a token can be checked by who cannot make one (RFC 7518, section 3.1; RFC 8037).
var asymmetric = []string{oidc.RS256, oidc.RS384, oidc.RS512, oidc.ES256, oidc.ES384, oidc.ES512, oidc.PS256, oidc.PS384, oidc.PS512, oidc.EdDSA}

// found finds the issuer's keys, once.
func (i *issuer) found() error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.provider != nil {
		return nil
	}
	client := &http.Client{Timeout: issuerTime, Transport: i, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	ctx := oidc.ClientContext(context.Background(), client) // it is remembered for longer than a request lasts
	p, err := oidc.NewProvider(ctx, i.address)
	if err != nil {
		return err
	}
	var said struct {
		Keys string   `json:"jwks_uri"`
		Algs []string `json:"id_token_signing_alg_values_supported"`
	}
	if err := p.Claims(&said); err != nil {
		return err
	}
	for _, a := range said.Algs {
		if slices.Contains(asymmetric, a) {
			i.algs = append(i.algs, a)
		}
	}
	if len(i.algs) == 0 {
		i.algs = []string{oidc.RS256}
	}
	i.provider, i.keys = p, oidc.NewRemoteKeySet(ctx, said.Keys)
	return nil
}

// errAskedJustNow is that an issuer is not asked again so soon.
var errAskedJustNow = errors.New("the issuer was asked just now")

// RoundTrip asks the issuer, within bounds.
func (i *issuer) RoundTrip(r *http.Request) (*http.Response, error) {
	if !i.asks.Allow() {
		return nil, errAskedJustNow
	}
	res, err := http.DefaultTransport.RoundTrip(r)
	if err == nil {
		res.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(res.Body, mostOfKeys), res.Body}
	}
	return res, err
}

// signedBy notes why a signature could not be checked.
type signedBy struct {
	oidc.KeySet
	failed error
}

// VerifySignature checks the signature with the keys of the issuer.
func (s *signedBy) VerifySignature(ctx context.Context, jwt string) ([]byte, error) {
	text, err := s.KeySet.VerifySignature(ctx, jwt)
	s.failed = err
	return text, err
}

// check checks a token, and says until when it is believed.
func (i *issuer) check(ctx context.Context, rule api.Tokens, token string, now time.Time) (c Claims, until time.Time, err error) {
	if err := i.found(); err != nil {
		return c, until, errors.Join(ErrIssuer, err)
	}
	keys := &signedBy{KeySet: i.keys}
	v := oidc.NewVerifier(i.address, keys, &oidc.Config{ClientID: rule.Audience, SupportedSigningAlgs: i.algs, Now: func() time.Time { return now }})
	t, err := v.Verify(ctx, token)
	if err != nil {
		return c, until, reasonOf(err, keys.failed)
	}
	var said map[string]json.RawMessage
	if err := t.Claims(&said); err != nil {
		return c, until, err
	}
	if c.Caller = textOf(said[rule.Claim]); c.Caller == "" {
		return c, until, errors.New("the token has no claim " + rule.Claim)
	}
	c.Scopes = slices.Concat(listOf(said["scope"]), listOf(said["scp"]))
	if until = now.Add(tokenBelieved); t.Expiry.Before(until) {
		until = t.Expiry
	}
	return c, until, nil
}

// reasonOf tells a caller why its token is no good, and nothing that it does not know.
func reasonOf(err, signature error) error {
	var expired *oidc.TokenExpiredError
	switch {
	case errors.As(err, &expired):
		return errors.New("the token has expired")
	case signature != nil && strings.Contains(signature.Error(), "fetching keys") && !strings.Contains(signature.Error(), errAskedJustNow.Error()):
		return errors.Join(ErrIssuer, signature)
	case signature != nil:
		return errors.New("the token is not signed by its issuer")
	case strings.Contains(err.Error(), "audience"):
		return errors.New("the token is for another audience")
	case strings.Contains(err.Error(), "different provider"):
		return errors.New("the token is of another issuer")
	case strings.Contains(err.Error(), "before the nbf"):
		return errors.New("the token does not hold yet")
	}
	return errors.New("the token cannot be read, or is signed in a way that is not taken")
}

func textOf(raw json.RawMessage) (text string) {
	if json.Unmarshal(raw, &text) != nil {
		return ""
	}
	return text
}

// listOf is a claim that is a list, or one text with blanks between (RFC 8693, section 4.2).
func listOf(raw json.RawMessage) (list []string) {
	if json.Unmarshal(raw, &list) == nil {
		return list
	}
	return strings.Fields(textOf(raw))
}
