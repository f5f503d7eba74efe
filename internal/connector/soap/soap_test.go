package soap

import (
	"errors"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/connector/soap/envelope"
	"hollowreed/internal/connector/soap/wsdl"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/berthmaster"
)

// port is one of Berthmaster's with the operations of its WSDL.
func port(t *testing.T, path string, change map[string]string) (*berthmaster.Service, *Service, *connection.Connection) {
	t.Helper()
	b := berthmaster.New()
	address, err := standin.HTTP(t.Context(), &b.Moods, &b.Log, b.Handler())
	require.NoError(t, err)
	values := map[string]string{"address": address + path, "user": berthmaster.User, "password": berthmaster.Password, "timeout": "5"}
	for name, v := range change {
		values[name] = v
	}
	sys, err := Open(contract.Env("soap", values))
	require.NoError(t, err)
	t.Cleanup(sys.Close)
	s := sys.(*Service)
	text, err := s.Fetch(t.Context(), address+path+"?wsdl")
	require.NoError(t, err)
	im, err := wsdl.Take("desk", "berths.wsdl", text, nil)
	require.NoError(t, err)
	require.Empty(t, im.Notes)
	require.Equal(t, address+path, im.Settings["address"])
	out := partfile.Ordered{{Key: "connection", Value: "Desk"}, {Key: "kind", Value: "soap"}, {Key: "operations", Value: im.Operations}}
	return b, s, contract.Part(t, string(partfile.Encode(out)), im.Schemas...)
}

func TestDocumentLiteralOverSOAP11(t *testing.T) {
	b, s, part := port(t, "/berths", nil)
	well, told := contract.Probe(t, s)
	require.True(t, well, told)
	v, err := s.Call(t.Context(), contract.Request(t, part, "list-berths", `{"harbour": "Ling Castle"}`))
	require.NoError(t, err)
	list := v.Field("berth").Items()
	require.Len(t, list, 2)
	require.Equal(t, "Skua", list[1].Field("vessel").String())
	require.Equal(t, value.Decimal, list[0].Field("length").Kind())
	v, err = s.Call(t.Context(), contract.Request(t, part, "reserve-berth", `{"number": 3, "vessel": "<Tern & Co>"}`))
	require.NoError(t, err)
	require.NotEmpty(t, v.Field("reservation").String())

	_, err = s.Call(t.Context(), contract.Request(t, part, "reserve-berth", `{"number": 2, "vessel": "Tern"}`))
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), "the fault s:Client: berth 2 is taken")
	require.Contains(t, f.Found, "Skua", "with its detail")
	b.Moods.Set(standin.Wrong, true)
	_, err = s.Call(t.Context(), contract.Request(t, part, "list-berths", `{}`))
	require.ErrorContains(t, err, "SOAP envelope")
	b.Moods.Reset()
	b.Moods.Set(standin.Drop, true)
	_, err = s.Call(t.Context(), contract.Request(t, part, "list-berths", `{}`))
	require.ErrorContains(t, err, "broke off")
}

// TestAPreviewIsWhatIsSent: the envelope with its headers. The nonce and the time of the token are new each time.
func TestAPreviewIsWhatIsSent(t *testing.T) {
	_, s, part := port(t, "/berths", nil)
	asked := contract.Request(t, part, "list-berths", `{"harbour": "Ling Castle"}`)
	ctx, said := system.Listen(t.Context(), func(s string) string { return s })
	would, err := s.Preview(ctx, asked)
	require.NoError(t, err)
	require.Empty(t, said.Turns)
	_, err = s.Call(ctx, asked)
	require.NoError(t, err)
	token := regexp.MustCompile(`<w:Security.*</w:Security>`)
	require.Equal(t, said.Turns[0].Head, would.Head)
	require.Contains(t, would.Text, `Soapaction: "urn:berthmaster:list"`)
	require.Contains(t, would.Text, "#PasswordDigest\">••••••</w:Password>")
	require.Contains(t, said.Turns[0].Text, "#PasswordDigest\">••••••</w:Password>")
	require.Equal(t, token.ReplaceAllString(said.Turns[0].Text, ""), token.ReplaceAllString(would.Text, ""))
}

func TestEveryMood(t *testing.T) {
	b, s, part := port(t, "/berths", map[string]string{"timeout": "1"})
	b.Moods.SlowFor(1500 * time.Millisecond)
	for _, c := range []struct {
		mood, want string
		final      bool
	}{
		{standin.Slow, "did not answer in time", false},
		{standin.Refuse, "403 Forbidden and no envelope", true},
		{standin.Wrong, "SOAP envelope", true},
		{standin.Drop, "broke off", false},
		{standin.Expire, "the user name token is not known", true},
	} {
		b.Moods.Reset()
		b.Moods.Set(c.mood, true)
		_, err := s.Call(t.Context(), contract.Request(t, part, "list-berths", `{}`))
		require.ErrorContains(t, err, c.want, c.mood)
		var f *fault.Fault
		require.Equal(t, c.final, errors.As(err, &f), "%s: %v", c.mood, err)
		require.NotContains(t, err.Error(), berthmaster.Password)
	}
	b.Moods.Reset()
	b.Moods.TakeDown(time.Minute)
	_, err := s.Call(t.Context(), contract.Request(t, part, "list-berths", `{}`))
	require.Error(t, err)
	require.Error(t, s.Check(t.Context()))
}

func TestRPCLiteralOverSOAP12(t *testing.T) {
	_, s, part := port(t, "/tides", map[string]string{"digest": "text"})
	v, err := s.Call(t.Context(), contract.Request(t, part, "next-tide", `{"harbour": "Orma", "hours": 7}`))
	require.NoError(t, err)
	require.Equal(t, "Orma", v.Field("tide").Field("harbour").String())
	require.Equal(t, "2031-03-09T11:07:00Z", v.Field("tide").Field("high").String())
	require.Equal(t, "3.42", v.Field("tide").Field("metres").String())
	_, s, part = port(t, "/tides", map[string]string{"password": "wrong"})
	_, err = s.Call(t.Context(), contract.Request(t, part, "next-tide", `{"harbour": "Orma", "hours": 7}`))
	require.ErrorContains(t, err, "the fault s:Sender: the user name token is not known")
}

func TestRecordsOfAnAnswerAreRead(t *testing.T) {
	_, s, part := port(t, "/berths", nil)
	op := *part.Operation("list-berths")
	op.Kind = connection.KindOf("soap").OperationKind("read")
	op.Settings.Texts["records"] = partfile.Text{Value: "/berth"}
	r := contract.Request(t, part, "list-berths", `{}`)
	r.Op = &op
	require.Len(t, contract.All(t, s, r), 4)
}

func TestHostileEnvelopesAreRefused(t *testing.T) {
	for text, want := range map[string]string{
		`<!DOCTYPE a [<!ENTITY b "c">]><a/>`: "declares types or entities",
		`<a/>`:                               "a SOAP envelope",
		``:                                   "a SOAP envelope",
		`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/">`:                                                                   "not well-formed",
		`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><a>` + strings.Repeat("<b>", 10) + `</s:Body></s:Envelope>`: "not well-formed",
	} {
		_, err := envelope.Open([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
	e, err := envelope.Open([]byte(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" xmlns:q="urn:q"><s:Header><q:x><q:y/></q:x></s:Header><s:Body xmlns="urn:d"><q:a z="1"><b/></q:a></s:Body></s:Envelope>`))
	require.NoError(t, err)
	require.Equal(t, "a", e.Name)
	require.Contains(t, e.Body, `xmlns:q="urn:q"`)
	require.Contains(t, e.Body, `xmlns="urn:d"`)
	e, err = envelope.Open([]byte(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body/></s:Envelope>`))
	require.NoError(t, err)
	require.Empty(t, e.Body)
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte(`<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><a xmlns="b"/></s:Body></s:Envelope>`))
	f.Fuzz(func(t *testing.T, text []byte) {
		if e, err := envelope.Open(text); err == nil && e.Fault == nil && e.Body != "" {
			require.True(t, strings.HasPrefix(e.Body, "<"))
		}
	})
}
