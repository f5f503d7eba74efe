package driftbox

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"hollowreed/internal/standin"
)

// The client that is registered, and the scopes that it may ask for.
const (
	Client       = "hollow-reed-skerry"
	ClientSecret = "drift-4410-client-secret"
	Scopes       = "files.read files.write offline"
)

// grant is what somebody consented to.
type grant struct {
	Person    string
	Scopes    []string
	Refresh   string
	challenge string
	redirect  string
	At        time.Time
}

type token struct {
	grant *grant
	until time.Time
}

func random() string {
	b := make([]byte, 24)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

var consentPage = template.Must(template.New("consent").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Driftbox: consent</title>
<style>body{font:15px/1.5 sans-serif;max-width:460px;margin:60px auto;color:#1e2a2f;background:#f2f5f6}button{font:inherit;padding:6px 16px;margin-right:8px}</style>
<h1>Driftbox</h1><p>Mira Orrin, the application <b>{{.Client}}</b> asks to:</p><ul>{{range .Scopes}}<li>{{.}}</li>{{end}}</ul>
<form method="post" action="/consent"><input type="hidden" name="asked" value="{{.Query}}"><button id="allow" name="answer" value="yes">Allow</button><button id="deny" name="answer" value="no">Deny</button></form></html>`))

// authorize asks for consent (RFC 6749, 4.1.1; RFC 7636, 4.3).
func (b *Box) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "" {
		http.Error(w, "this application is not known, or it does not use PKCE", http.StatusBadRequest)
		return
	}
	if back, err := url.Parse(q.Get("redirect_uri")); err != nil || back.Path != "/oauth/callback" {
		http.Error(w, "this redirect address is not registered", http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	consentPage.Execute(w, map[string]any{"Client": Client, "Scopes": strings.Fields(q.Get("scope")), "Query": r.URL.RawQuery})
}

// consent takes the answer and sends the person back.
func (b *Box) consent(w http.ResponseWriter, r *http.Request) {
	q, err := url.ParseQuery(r.FormValue("asked"))
	back, berr := url.Parse(q.Get("redirect_uri"))
	if err != nil || berr != nil || back.Path != "/oauth/callback" {
		http.Error(w, "nothing was asked", http.StatusBadRequest)
		return
	}
	answer := url.Values{"state": {q.Get("state")}}
	if r.FormValue("answer") != "yes" {
		answer.Set("error", "access_denied")
		answer.Set("error_description", "Mira Orrin did not allow it")
	} else {
		code := random()
		b.mu.Lock()
		b.codes[code] = &grant{Person: "Mira Orrin", Scopes: strings.Fields(q.Get("scope")), challenge: q.Get("code_challenge"), redirect: q.Get("redirect_uri"), At: time.Now()}
		b.mu.Unlock()
		answer.Set("code", code)
	}
	back.RawQuery = answer.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func refuse(w http.ResponseWriter, status int, code, why string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]string{"error": code, "error_description": why})
}

// issue is the token endpoint (RFC 6749, 3.2).
func (b *Box) issue(w http.ResponseWriter, r *http.Request) {
	id, word, inHeader := r.BasicAuth()
	if !inHeader {
		id, word = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	if id != Client || word != ClientSecret {
		refuse(w, 401, "invalid_client", "client id or secret is wrong")
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	var g *grant
	switch r.FormValue("grant_type") {
	case "authorization_code":
		g = b.codes[r.FormValue("code")]
		delete(b.codes, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if g == nil || g.redirect != r.FormValue("redirect_uri") || base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge {
			refuse(w, 400, "invalid_grant", "the code is not known, or its verifier does not fit")
			return
		}
		b.grants = append(b.grants, g)
	case "refresh_token":
		i := slices.IndexFunc(b.grants, func(g *grant) bool { return g.Refresh != "" && g.Refresh == r.FormValue("refresh_token") })
		if i < 0 {
			refuse(w, 400, "invalid_grant", "the consent was taken back")
			return
		}
		g = b.grants[i]
		b.refreshed++
	case "client_credentials":
		g = &grant{Person: "the application", Scopes: strings.Fields(r.FormValue("scope"))}
	default:
		refuse(w, 400, "unsupported_grant_type", "this way to get a token is not known")
		return
	}
	access := random()
	b.tokens[access] = &token{grant: g, until: time.Now().Add(b.Lasts)}
	out := map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": int(b.Lasts.Seconds()), "scope": strings.Join(g.Scopes, " ")}
	if r.FormValue("grant_type") != "client_credentials" {
		g.Refresh = random() // each refresh token is good once (RFC 9700, 2.2.2)
		out["refresh_token"] = g.Refresh
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	json.NewEncoder(w).Encode(out)
}

// Revoke takes all consents back.
func (b *Box) Revoke() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.grants, b.tokens = nil, map[string]*token{}
}

// Expire ends all access tokens; those who have a refresh token can get others.
func (b *Box) Expire() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.tokens = map[string]*token{}
}

// Refreshed is how often a token was refreshed.
func (b *Box) Refreshed() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.refreshed
}

// signed lets requests pass that have a token for a scope.
func (b *Box) signed(scope string, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		b.mu.Lock()
		t := b.tokens[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
		b.mu.Unlock()
		switch {
		case t == nil || time.Now().After(t.until) || b.Moods.Is(standin.Expire):
			w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
			refuse(w, 401, "invalid_token", "the token is not known or has expired")
		case !slices.Contains(t.grant.Scopes, scope):
			refuse(w, 403, "insufficient_scope", "the scope "+scope+" is needed")
		default:
			next(w, r)
		}
	}
}

// Grant goes through the consent page of a box at an address as a person would, and gives the tokens as JSON.
func Grant(ctx context.Context, address string) (string, error) {
	verifier := random() + random()
	sum := sha256.Sum256([]byte(verifier))
	redirect := "http://127.0.0.1/oauth/callback"
	asked := url.Values{
		"client_id": {Client}, "response_type": {"code"}, "scope": {Scopes}, "redirect_uri": {redirect}, "state": {"s"},
		"code_challenge_method": {"S256"}, "code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])},
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	post := func(path string, form url.Values) (*http.Response, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, address+path, strings.NewReader(form.Encode()))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		return client.Do(req)
	}
	res, err := post("/consent", url.Values{"asked": {asked.Encode()}, "answer": {"yes"}})
	if err != nil {
		return "", err
	}
	res.Body.Close()
	back, err := res.Location()
	if err != nil {
		return "", err
	}
	res, err = post("/token", url.Values{
		"grant_type": {"authorization_code"}, "code": {back.Query().Get("code")}, "code_verifier": {verifier}, "redirect_uri": {redirect},
		"client_id": {Client}, "client_secret": {ClientSecret},
	})
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<16))
	return string(text), err
}
