package api

import (
	"encoding/base64"
	"net/netip"
	"net/url"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

// The ways in which callers say who they are.
const (
	Anybody      = "anybody"
	WithKey      = "with a key"
	WithToken    = "with a token"
	WithPassword = "with a name and a key"
	WithEnvelope = "with a user name token"

	WithCertificate = "with a client certificate"
)

// callerSettings say who may call.
var callerSettings = setting.List{
	{Name: "callers", Label: "Callers", Type: setting.Choice, Default: Anybody, Choices: []string{Anybody, WithKey, WithToken, WithPassword, WithEnvelope, WithCertificate}, Redraw: true, Help: "A token is a JWT of an OpenID provider (RFC 9068); a name and a key come as basic authentication (RFC 7617), or in the envelopes of a SOAP service as a user name token with the key as text (WS-Security). Client certificates are shown by TLS, here or at a proxy (RFC 9440)"},
	{Name: "key header", Label: "Header of the key", Type: setting.Text, Default: "Api-Key", When: "callers=with a key"},
	{Name: "issuer", Label: "Issuer of tokens", Type: setting.Text, Required: true, When: "callers=with a token", Hint: "https://login.example", Help: "Its keys are found by OpenID discovery, and again when they change"},
	{Name: "audience", Label: "Audience", Type: setting.Text, Required: true, When: "callers=with a token", Hint: "bookings", Help: "That tokens must be made for (aud)"},
	{Name: "caller claim", Label: "Claim that names the caller", Type: setting.Text, Default: "sub", When: "callers=with a token", Rare: true, Help: "For limits and figures: sub, client_id, azp or another one"},
}

// Tokens is which tokens are taken.
type Tokens struct {
	Issuer, Audience string
	Claim            string // that names the caller
}

// tokensOf reads which tokens are taken.
func tokensOf(d *partfile.Doc, v setting.Values) Tokens {
	t := Tokens{v.Get("issuer"), v.Get("audience"), v.Get("caller claim")}
	at := v.Text("issuer")
	if u, err := url.Parse(t.Issuer); at.Value != "" && (err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" && ownMachine(u.Hostname()))) {
		d.Fault(at, fault.Expect(fault.Setting, "an address that begins with https://", fault.Quote(t.Issuer)).InField("issuer"))
	}
	return t
}

func ownMachine(host string) bool {
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && ip.IsLoopback()
}

// Credential is what a caller sends to say who it is, in words; empty where anybody may call.
func (g Guards) Credential() string {
	return map[string]string{WithKey: "Key", WithToken: "Token", WithPassword: "name:key"}[g.Callers]
}

// CredentialHeader is the header in which it comes.
func (g Guards) CredentialHeader() string {
	if g.Callers == WithKey {
		return g.KeyHeader
	}
	return "Authorization"
}

// CredentialValue is the value of the header for a credential.
func (g Guards) CredentialValue(text string) string {
	switch g.Callers {
	case WithToken:
		return "Bearer " + text
	case WithPassword:
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(text))
	}
	return text
}

// Scopes are those that an operation asks of the tokens of its callers: alternatives, of which one is to be met. None: any token will do.
func (a *API) Scopes(o *contract.Operation) (list [][]string) {
	for _, needs := range o.Security {
		var all []string
		for _, n := range needs {
			if s := a.Contract.Schemes[n.Scheme]; s != nil && (s.Type == "oauth2" || s.Type == "openIdConnect" || s.Scheme == "bearer") {
				all = append(all, n.Scopes...)
			}
		}
		list = append(list, all)
	}
	return list
}
