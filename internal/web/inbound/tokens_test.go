package inbound_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

// issuer is an OpenID provider with keys that can be changed.
type issuer struct {
	*httptest.Server
	mu    sync.Mutex
	keys  jose.JSONWebKeySet
	asked atomic.Int32
}

func newIssuer(t *testing.T, keys ...jose.JSONWebKey) *issuer {
	i := &issuer{}
	i.rotate(keys...)
	i.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		i.mu.Lock()
		defer i.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Path == "/keys" {
			i.asked.Add(1)
			json.NewEncoder(w).Encode(i.keys)
			return
		}
		json.NewEncoder(w).Encode(map[string]any{"issuer": i.URL, "jwks_uri": i.URL + "/keys", "authorization_endpoint": i.URL, "token_endpoint": i.URL, "id_token_signing_alg_values_supported": []string{"none", "HS256", "RS256", "ES256"}})
	}))
	t.Cleanup(i.Close)
	return i
}

func (i *issuer) rotate(keys ...jose.JSONWebKey) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.keys.Keys = nil
	for _, k := range keys {
		i.keys.Keys = append(i.keys.Keys, k.Public())
	}
}

func signed(t *testing.T, alg jose.SignatureAlgorithm, key any, claims map[string]any) string {
	t.Helper()
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: key}, nil)
	require.NoError(t, err)
	text, err := json.Marshal(claims)
	require.NoError(t, err)
	o, err := s.Sign(text)
	require.NoError(t, err)
	out, err := o.CompactSerialize()
	require.NoError(t, err)
	return out
}

const guarded = `openapi: 3.1.0
info: {title: Fares, version: "1"}
paths:
  /classes:
    get: {operationId: price, security: [{login: [fares.read]}], responses: {"200": {description: x, content: {application/json: {example: {price: 340}}}}}}
    put: {operationId: change, security: [{login: [fares.read, fares.write]}, {login: [admin]}], responses: {"204": {description: x}}}
components: {securitySchemes: {login: {type: openIdConnect, openIdConnectUrl: "https://login.example/.well-known/openid-configuration"}}}
`

// TestCallersComeWithTokens: good ones of the issuer are taken, with keys that change, for the scopes that the operation asks for;
// all that differ from a good one in one thing are refused, and cost the issuer no requests.
func TestCallersComeWithTokens(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	first := jose.JSONWebKey{Key: rsaKey, KeyID: "first", Algorithm: "RS256", Use: "sig"}
	second := jose.JSONWebKey{Key: ecKey, KeyID: "second", Algorithm: "ES256", Use: "sig"}
	login := newIssuer(t, first)
	w := webtest.New(t)
	w.Part("contracts/prices.yaml", guarded)
	const ways = "operations:\n  - {operation: price, answered by: examples}\n  - {operation: change, answered by: examples}\n"
	w.Part("apis/prices.yaml", "api: Fares\ncontract: prices.yaml\ncallers: with a token\nissuer: "+login.URL+"\naudience: fares\n"+ways)
	_, err = w.Engine.CreateRelease(t.Context(), testkit.Skerry, project.ReleaseID(project.APIs, "prices"), "", "mira")
	require.NoError(t, err)

	claims := map[string]any{"iss": login.URL, "aud": []string{"ships", "fares"}, "sub": "kiosk", "exp": time.Now().Add(time.Hour).Unix(), "scope": "fares.read openid"}
	but := func(name string, v any) map[string]any {
		out := maps.Clone(claims)
		out[name] = v
		if v == nil {
			delete(out, name)
		}
		return out
	}
	good := signed(t, jose.RS256, first, claims)
	call := func(method, token string) (int, string, string) {
		resp, answer := ask(t, w, method, "/classes", "", "Authorization: Bearer "+token)
		return resp.StatusCode, resp.Header.Get("WWW-Authenticate"), answer
	}
	status, _, answer := call("GET", good)
	require.Equal(t, 200, status, answer)
	status, challenge, answer := call("PUT", good)
	require.Equal(t, 403, status)
	require.Equal(t, `Bearer realm="api", error="insufficient_scope", scope="fares.read fares.write"`, challenge)
	require.Contains(t, answer, "fares.write")
	status, _, _ = call("PUT", signed(t, jose.RS256, first, but("scope", "admin")))
	require.Equal(t, 204, status)

	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	parts := strings.Split(good, ".")
	none := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + parts[1] + "."
	public, err := json.Marshal(first.Public())
	require.NoError(t, err)
	for name, token := range map[string]string{
		"nothing": "", "no token": "abc", "three dots": "a.b.c", "no signature": none, "another signature": parts[0] + "." + parts[1] + "." + base64.RawURLEncoding.EncodeToString(make([]byte, 256)),
		"signed with the public key as a secret": signed(t, jose.HS256, jose.JSONWebKey{Key: public, KeyID: "first"}, claims),
		"key of somebody":                        signed(t, jose.RS256, jose.JSONWebKey{Key: other, KeyID: "first"}, claims),
		"key that nobody knows":                  signed(t, jose.RS256, jose.JSONWebKey{Key: other, KeyID: "made up"}, claims),
		"another audience":                       signed(t, jose.RS256, first, but("aud", "ships")),
		"no audience":                            signed(t, jose.RS256, first, but("aud", nil)),
		"another issuer":                         signed(t, jose.RS256, first, but("iss", "https://login.evil.example")),
		"expired":                                signed(t, jose.RS256, first, but("exp", time.Now().Add(-time.Minute).Unix())),
		"without end":                            signed(t, jose.RS256, first, but("exp", nil)),
		"not yet":                                signed(t, jose.RS256, first, but("nbf", time.Now().Add(time.Hour).Unix())),
		"of nobody":                              signed(t, jose.RS256, first, but("sub", nil)),
		"large":                                  signed(t, jose.RS256, first, but("pad", strings.Repeat("x", 20<<10))),
	} {
		status, challenge, answer = call("GET", token)
		require.Equal(t, 401, status, "%s: %s", name, answer)
		require.Contains(t, challenge, "Bearer", name)
	}
	before := login.asked.Load()
	for range 30 {
		made := signed(t, jose.RS256, jose.JSONWebKey{Key: other, KeyID: "made up"}, but("jti", time.Now().UnixNano()))
		status, _, _ = call("GET", made)
		require.Equal(t, 401, status)
	}
	require.Less(t, login.asked.Load()-before, int32(10), "the issuer is asked now and then, not for each token")

	login.rotate(second)
	rotated := signed(t, jose.ES256, second, claims)
	require.Eventually(t, func() bool { status, _, _ := call("GET", rotated); return status == 200 }, 20*time.Second, 100*time.Millisecond)
	old := signed(t, jose.RS256, first, but("jti", "made after the change"))
	status, _, _ = call("GET", old)
	require.Equal(t, 401, status, "the old key is gone")

	login.Close()
	status, _, _ = call("GET", rotated)
	require.Equal(t, 200, status, "what is known goes on while the issuer is away")
}
