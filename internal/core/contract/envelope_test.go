package contract

import (
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheSecurityHeaderOfAnEnvelope: its user name token is found; another one takes its place, whatever the envelope's Header is like,
// and all else stays.
func TestTheSecurityHeaderOfAnEnvelope(t *testing.T) {
	const token = `<w:Security xmlns:w="` + securityNS + `"><w:UsernameToken><w:Username>kiosk &amp; co</w:Username><w:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordText">pa<![CDATA[ss]]></w:Password></w:UsernameToken></w:Security>`
	const other = `<x/>`
	for _, c := range []struct{ text, want string }{
		{`<?xml version="1.0"?><s:Envelope xmlns:s="u"><s:Header><a/>` + token + `<b/></s:Header> <s:Body><Header/></s:Body></s:Envelope>`, `<?xml version="1.0"?><s:Envelope xmlns:s="u"><s:Header><a/><x/><b/></s:Header> <s:Body><Header/></s:Body></s:Envelope>`},
		{`<s:Envelope xmlns:s="u"><s:Body/></s:Envelope>`, `<s:Envelope xmlns:s="u"><s:Header><x/></s:Header><s:Body/></s:Envelope>`},
		{`<Envelope xmlns="u"><Header a="1" /><Body>` + token + `</Body></Envelope>`, `<Envelope xmlns="u"><Header a="1"><x/></Header><Body>` + token + `</Body></Envelope>`},
		{`<s:Envelope xmlns:s="u"><s:Header><a/></s:Header><s:Body/></s:Envelope>`, `<s:Envelope xmlns:s="u"><s:Header><x/><a/></s:Header><s:Body/></s:Envelope>`},
	} {
		e, err := ReadEnvelope([]byte(c.text))
		require.NoError(t, err, c.text)
		got := string(e.WithSecurity([]byte(other)))
		require.Equal(t, c.want, got)
		require.NoError(t, xml.Unmarshal([]byte(got), new(struct{ XMLName xml.Name })))
		if strings.Contains(c.text, "<s:Header><a/><w") {
			require.Equal(t, []string{"kiosk & co", "pass", "PasswordText"}, []string{e.User, e.Password, e.PasswordType})
			require.NotContains(t, string(e.WithSecurity(nil)), "Security")
		} else {
			require.Empty(t, e.User, "one in the body is none")
		}
	}
	for _, wrong := range []string{"", "<a/>", "<s:Envelope><s:Body>", "<!DOCTYPE x><Envelope><Body/></Envelope>", "<Envelope><Body></Envelope></Body>", "<Envelope><Header/></Envelope>", "not xml"} {
		_, err := ReadEnvelope([]byte(wrong))
		require.Error(t, err, wrong)
	}
}

// FuzzReadEnvelope: whatever comes, an envelope that is found can be given another header, and is one then.
func FuzzReadEnvelope(f *testing.F) {
	f.Add([]byte(`<s:Envelope xmlns:s="u"><s:Header><w:Security><w:UsernameToken><w:Username>a</w:Username></w:UsernameToken></w:Security></s:Header><s:Body/></s:Envelope>`))
	f.Add([]byte(`<Envelope><Header /><Body/></Envelope>`))
	f.Fuzz(func(t *testing.T, text []byte) {
		e, err := ReadEnvelope(text)
		if err != nil {
			return
		}
		if _, err := ReadEnvelope(e.WithSecurity([]byte("<x/>"))); err != nil {
			t.Fatalf("%q: %v", text, err)
		}
	})
}
