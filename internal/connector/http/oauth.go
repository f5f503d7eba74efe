package http

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httputil"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
)

// early is how long before a token expires it is refreshed.
const early = 30 * time.Second

// oauth signs in with tokens of an authorization server (RFC 6749): got with the client's own credentials, or
// by somebody's consent and refreshed since then.
type oauth struct {
	env    system.Env
	config oauth2.Config
	client *http.Client
	own    bool // by the client's own credentials
	mu     sync.Mutex
	token  *oauth2.Token
}

func newOAuth(env system.Env, client *http.Client) (*oauth, error) {
	o := &oauth{env: env, config: configOf(env.Values, ""), own: env.Values["sign in"] == "oauth client credentials"}
	if _, err := Address(env.Values["token at"]); err != nil {
		return nil, fault.Expect(fault.Setting, "an address as https://sign-in.example/token", fault.Quote(env.Values["token at"])).InField("Token endpoint")
	}
	o.client = &http.Client{Transport: &noted{client.Transport}, Timeout: client.Timeout, CheckRedirect: client.CheckRedirect}
	return o, nil
}

func configOf(v system.Values, redirect string) oauth2.Config {
	style := oauth2.AuthStyleInHeader
	if v["client as"] == "the form" {
		style = oauth2.AuthStyleInParams
	}
	return oauth2.Config{
		ClientID: v["client"], ClientSecret: v["client secret"], Scopes: strings.Fields(v["scopes"]), RedirectURL: redirect,
		Endpoint: oauth2.Endpoint{AuthURL: v["authorize at"], TokenURL: v["token at"], AuthStyle: style},
	}
}

// noted keeps what is said to a token endpoint, so that its quirks can be seen.
type noted struct{ http.RoundTripper }

func (n *noted) RoundTrip(req *http.Request) (*http.Response, error) {
	x := system.ExchangeOf(req.Context())
	if x.Brief() {
		return n.RoundTripper.RoundTrip(req)
	}
	if text, err := httputil.DumpRequestOut(req, true); err == nil {
		x.Sent("to the token endpoint", string(text))
	}
	res, err := n.RoundTripper.RoundTrip(req)
	if err != nil {
		x.Received("nothing", plain(err).Error())
		return nil, err
	}
	if text, err := httputil.DumpResponse(res, true); err == nil {
		x.Received("from the token endpoint", tokenText(string(text)))
	}
	return res, nil
}

// tokenText hides tokens that nobody knows yet.
func tokenText(s string) string {
	head, body, _ := strings.Cut(s, "\r\n\r\n")
	var fields map[string]any
	if json.Unmarshal([]byte(body), &fields) != nil {
		return s
	}
	for name := range fields {
		if strings.HasSuffix(name, "_token") {
			fields[name] = "••••••"
		}
	}
	text, err := json.Marshal(fields)
	if err != nil {
		return head
	}
	return head + "\r\n\r\n" + string(text)
}

// with gives a context in which the tokens' client is used.
func (o *oauth) with(ctx context.Context) context.Context {
	return context.WithValue(ctx, oauth2.HTTPClient, o.client)
}

// ErrConsent is a consent that is not there, or not any more.
var ErrConsent = errors.New("consent is needed")

func (o *oauth) sign(req *http.Request) error {
	t, err := o.valid(req.Context(), "")
	if err != nil {
		return err
	}
	t.SetAuthHeader(req)
	return nil
}

// valid gives a token that is valid for a while, refreshed where need be. refused is one that the service does
// not take, whatever its time says; empty where it has refused none.
func (o *oauth) valid(ctx context.Context, refused string) (*oauth2.Token, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if good(o.token, refused) {
		return o.token, nil
	}
	if o.own {
		return o.fresh(ctx)
	}
	if kept, err := tokensOf(ctx, o.env.Secrets, o.env.ID); err != nil || good(&kept.Token, refused) {
		if err == nil {
			o.token = &kept.Token
		}
		return o.token, err
	}
	err := o.env.Secrets.Lock(ctx, system.TokensOf(o.env.ID), func(ctx context.Context) error {
		kept, err := tokensOf(ctx, o.env.Secrets, o.env.ID) // another process may have refreshed it
		if err != nil {
			return err
		}
		if good(&kept.Token, refused) {
			o.token = &kept.Token
			return nil
		}
		return o.refresh(ctx, kept)
	})
	return o.token, err
}

func good(t *oauth2.Token, refused string) bool {
	if t == nil || t.AccessToken == refused {
		return false
	}
	return t.Expiry.IsZero() || time.Until(t.Expiry) > early
}

func (o *oauth) fresh(ctx context.Context) (*oauth2.Token, error) {
	c := clientcredentials.Config{ClientID: o.config.ClientID, ClientSecret: o.config.ClientSecret, TokenURL: o.config.Endpoint.TokenURL, Scopes: o.config.Scopes, AuthStyle: o.config.Endpoint.AuthStyle}
	t, err := c.Token(o.with(ctx))
	if err != nil {
		return nil, told(err)
	}
	o.token = t
	return t, nil
}

// keptTokens are the tokens of a consent as they are kept.
type keptTokens struct {
	oauth2.Token
	Gone time.Time `json:"gone,omitzero"` // since when the service does not take them any more
}

func tokensOf(ctx context.Context, keep system.SecretStore, id string) (*keptTokens, error) {
	text, err := keep.Get(ctx, system.TokensOf(id))
	if err != nil {
		return nil, err
	}
	if text == "" {
		return nil, fault.New(fault.Setting, "nobody has consented yet").WithFix("Open the connection and press Connect")
	}
	t := &keptTokens{}
	if err := json.Unmarshal([]byte(text), t); err != nil {
		return nil, fault.New(fault.Setting, "the kept tokens cannot be read").WithFix("Ask for consent again")
	}
	return t, nil
}

// GoneSince is the time at which the service was first seen to take a connection's consent no more; zero while it does.
func GoneSince(ctx context.Context, keep system.SecretStore, id string) (time.Time, error) {
	t, err := tokensOf(ctx, keep, id)
	if err != nil {
		return time.Time{}, err
	}
	return t.Gone, nil
}

// refresh changes the kept tokens for new ones. A consent that is gone is kept as such.
func (o *oauth) refresh(ctx context.Context, kept *keptTokens) error {
	if kept.RefreshToken == "" {
		if !good(&kept.Token, "") { // else it is only refused, perhaps by one resource alone
			if err := o.gone(ctx, kept); err != nil {
				return err
			}
		}
		return fault.New(fault.Setting, "the consent has ended and there is no refresh token").WithFix("Ask for consent again, with the scope that gives one")
	}
	old := kept.Token
	old.Expiry = time.Unix(1, 0) // so that it is refreshed, whatever it says
	t, err := o.config.TokenSource(o.with(ctx), &old).Token()
	if r := (*oauth2.RetrieveError)(nil); errors.As(err, &r) && r.ErrorCode == noGrant {
		if err := o.gone(ctx, kept); err != nil {
			return err
		}
	}
	if err != nil {
		return told(err)
	}
	o.token = t
	return keepTokens(ctx, o.env, keptTokens{Token: *t})
}

// gone keeps that the service does not take the tokens any more; the first time stands.
func (o *oauth) gone(ctx context.Context, kept *keptTokens) error {
	if !kept.Gone.IsZero() {
		return nil
	}
	kept.Gone = time.Now().UTC()
	return keepTokens(ctx, o.env, *kept)
}

func keepTokens(ctx context.Context, env system.Env, t keptTokens) error {
	text, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return env.Secrets.Set(ctx, system.TokensOf(env.ID), string(text))
}

// noGrant is the code of a token endpoint for a grant that is taken back, has ended or never was (RFC 6749, 5.2).
const noGrant = "invalid_grant"

// told says what a token endpoint answered, by the codes of RFC 6749, 5.2. A consent that is gone is a
// fault; a server that does not answer may answer later.
func told(err error) error {
	var r *oauth2.RetrieveError
	if !errors.As(err, &r) {
		return plain(err)
	}
	status := 0
	if r.Response != nil {
		status = r.Response.StatusCode
	}
	if status >= 500 || status == 429 {
		return fmt.Errorf("the token endpoint answers %d", status)
	}
	f := fault.New(fault.Setting, "the token endpoint answers %d %s", status, r.ErrorCode)
	if r.ErrorDescription != "" {
		f.Message += ": " + r.ErrorDescription
	}
	switch r.ErrorCode {
	case noGrant:
		return f.WithFix("The consent is gone: it was taken back, or has ended. Open the connection and ask for consent again")
	case "invalid_client", "unauthorized_client":
		return f.WithFix("Check client id and client secret, and whether the endpoint wants them in the header or in the form")
	case "invalid_scope":
		return f.WithFix("Check the scopes")
	case "":
		f.Found = fault.Quote(strings.TrimSpace(string(r.Body)))
		return f.WithFix("Check the address of the token endpoint")
	}
	return f
}

// renew gets another token after the service refused the one of a request. Where another request has got one meanwhile, that
// one is used: each refresh may end the token before it.
func (o *oauth) renew(req *http.Request) (bool, error) {
	_, refused, _ := strings.Cut(req.Header.Get("Authorization"), " ")
	_, err := o.valid(req.Context(), refused)
	return err == nil, err
}

func (o *oauth) probe(ctx context.Context, r *probe.Run) {
	r.Do("signed in", func() (string, error) {
		t, err := o.valid(ctx, "")
		if err != nil {
			return "", err
		}
		until := "with a token that says no end"
		if !t.Expiry.IsZero() {
			until = "with a token that is valid until " + t.Expiry.UTC().Format("15:04:05")
		}
		return until, nil
	}, func(err error) string {
		var f *fault.Fault
		if errors.As(err, &f) {
			return f.Fix
		}
		return "Check the address of the token endpoint and whether it can be reached"
	})
}

// Consent is an authorization under way: where somebody is asked, and what proves afterwards that the
// answer belongs to the question (PKCE, RFC 7636).
type Consent struct {
	At       string // the address to open
	State    string
	verifier string
}

// Ask begins to ask for consent.
func Ask(env system.Env, redirect, state string) (*Consent, error) {
	if _, err := Address(env.Values["authorize at"]); err != nil {
		return nil, fault.Expect(fault.Setting, "the address of the authorization endpoint", fault.Quote(env.Values["authorize at"])).InField("Authorization endpoint")
	}
	c := configOf(env.Values, redirect)
	verifier := oauth2.GenerateVerifier()
	return &Consent{At: c.AuthCodeURL(state, oauth2.AccessTypeOffline, oauth2.S256ChallengeOption(verifier)), State: state, verifier: verifier}, nil
}

// Take changes the code that somebody's consent gave for tokens, and keeps them.
func Take(ctx context.Context, env system.Env, c *Consent, redirect, code string) error {
	host, err := Address(env.Values["token at"])
	if err != nil {
		return err
	}
	t, err := Transport(env, host.Hostname())
	if err != nil {
		return err
	}
	config := configOf(env.Values, redirect)
	ctx = context.WithValue(ctx, oauth2.HTTPClient, &http.Client{Transport: t, Timeout: env.Values.Timeout()})
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(c.verifier))
	if err != nil {
		return told(err)
	}
	return keepTokens(ctx, env, keptTokens{Token: *token})
}
