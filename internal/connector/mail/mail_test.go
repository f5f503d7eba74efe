package mail

import (
	"errors"
	"fmt"
	"net/textproto"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/postroom"
)

const part = `
connection: Postroom
kind: mail
operations:
  - {operation: send, kind: send}
`

func room(t *testing.T, change map[string]string) (*postroom.Room, *Server, *connection.Connection) {
	t.Helper()
	r := postroom.New()
	port, authority, err := r.Serve(t.Context())
	require.NoError(t, err)
	values := postroom.Settings(port, authority)
	values["timeout"] = "5"
	for name, v := range change {
		values[name] = v
	}
	s, err := Open(contract.Env("mail", values))
	require.NoError(t, err)
	return r, s.(*Server), contract.Part(t, part)
}

func TestAMailIsSent(t *testing.T) {
	r, s, c := room(t, nil)
	well, told := contract.Probe(t, s)
	require.True(t, well, told)
	require.NoError(t, s.Check(t.Context()))
	send := contract.Request(t, c, "send", `{"to": ["Mira Orrin <mira@skerry.example>"], "cc": ["deck@skerry.example"], "reply_to": "desk@skerry.example", "subject": "Fog, Ling Sound ✓\nBcc: evil@x.example",
		"text": "Sail slow.", "html": "<p>Sail <b>slow</b>.</p>", "attachments": [{"name": "map.txt", "type": "text/plain", "text": "here"}]}`)
	send.Key = "run-7-3"
	ctx, said := system.Listen(t.Context(), func(s string) string { return s })
	would, err := s.Preview(ctx, send)
	require.NoError(t, err)
	require.Empty(t, r.Letters())
	v, err := s.Call(ctx, send)
	require.NoError(t, err)
	require.Equal(t, said.Turns[0].Head, would.Head)
	require.Contains(t, would.Text, "Message-ID: <run-7-3@skerry.example>")
	require.Equal(t, "run-7-3@skerry.example", v.Field("id").String())
	require.Len(t, said.Turns, 2)
	letters := r.Letters()
	require.Len(t, letters, 1)
	require.Equal(t, []string{"mira@skerry.example", "deck@skerry.example"}, letters[0].To, "no header can be smuggled in")
	for _, want := range []string{"Message-ID: <run-7-3@skerry.example>", "Reply-To: <desk@skerry.example>", "multipart/alternative", `filename="map.txt"`} {
		require.Contains(t, letters[0].Text, want)
	}
}

func TestWhatTheServerRefuses(t *testing.T) {
	_, s, c := room(t, nil)
	var f *fault.Fault
	for json, want := range map[string]string{
		`{"to": ["someone@elsewhere.test"], "subject": "x"}`: "nobody of that name is known here",
		`{"to": ["not an address"], "subject": "x"}`:         "mail addresses",
		`{"to": [], "subject": "x"}`:                         "goes to nobody",
	} {
		_, err := s.Call(t.Context(), contract.Request(t, c, "send", json))
		require.ErrorAs(t, err, &f, json)
		require.Contains(t, f.What(), want)
	}
	_, s, _ = room(t, map[string]string{"password": "wrong-word"})
	_, err := s.Call(t.Context(), contract.Request(t, c, "send", `{"to": ["a@b.example"], "subject": "x"}`))
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), "does not take the sign-in")
	well, told := contract.Probe(t, s)
	require.False(t, well)
	require.Contains(t, told, "signed in: ")
	require.NotContains(t, told, "wrong-word")
	_, s, _ = room(t, map[string]string{"authority": ""})
	well, told = contract.Probe(t, s)
	require.False(t, well)
	require.Contains(t, told, "encryption agreed: the certificate is not of an authority that is trusted here")
}

func TestEveryMood(t *testing.T) {
	r, s, c := room(t, map[string]string{"timeout": "1"})
	r.Moods.SlowFor(1500 * time.Millisecond)
	for _, mood := range []string{standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Limit, standin.Expire} {
		r.Moods.Reset()
		r.Moods.Set(mood, true)
		_, err := s.Call(t.Context(), contract.Request(t, c, "send", `{"to": ["a@b.example"], "subject": "x"}`))
		require.Error(t, err, mood)
		var f *fault.Fault
		require.Equal(t, mood == standin.Expire, errors.As(err, &f), "only what waiting does not mend is a fault: %s, %v", mood, err)
	}
	r.Moods.Reset()
	r.Moods.TakeDown(time.Minute)
	require.Error(t, s.Check(t.Context()))
	require.Empty(t, r.Letters())
}

// TestANumberInAnAddressIsNoAnswer: what the server answers is told by its code, not by digits in the text of an error.
func TestANumberInAnAddressIsNoAnswer(t *testing.T) {
	var f *fault.Fault
	require.False(t, errors.As(refused(errors.New("read tcp 127.0.0.1:35356->127.0.0.1:41497: i/o timeout")), &f))
	require.False(t, errors.As(refused(fmt.Errorf("sign-in: %w", &textproto.Error{Code: 454, Msg: "4.7.0 temporary authentication failure, 535"})), &f))
	require.ErrorAs(t, refused(fmt.Errorf("sign-in: %w", &textproto.Error{Code: 535, Msg: "5.7.8 no"})), &f)
	require.Contains(t, f.Error(), "does not take the sign-in")
}
