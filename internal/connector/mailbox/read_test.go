package mailbox

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/standin/postroom"
)

// letterOf reads a mail whose lines are written with line feeds, and gives the letter as JSON.
func letterOf(mail string) string {
	return json.Text(ReadMail([]byte(strings.ReplaceAll(mail, "\n", "\r\n"))))
}

func TestALetterIsReadAsARecord(t *testing.T) {
	require.JSONEq(t, `{"id": "1.tove@post.example", "from": "Tove Lind <tove@post.example>", "to": ["desk@skerry.example", "Mira Orrin <mira@skerry.example>"], "cc": [], "answers": "7@skerry.example",
		"subject": "Fähre um 7 ✓", "sent": "2031-03-09T06:30:00Z", "text": "Is there room?\n\nTove\n", "attachments": [], "size": 317}`, letterOf(`From: Tove Lind <tove@post.example>
To: desk@skerry.example, Mira Orrin <mira@skerry.example>
Subject: =?utf-8?q?F=C3=A4hre_um_7_=E2=9C=93?=
Message-ID: <1.tove@post.example>
In-Reply-To: <7@skerry.example>
Date: Sun, 9 Mar 2031 07:30:00 +0100
Content-Type: text/plain; charset=utf-8

Is there room?

Tove
`))
}

// TestPartsAreToldApart: the text and the same as HTML, what is attached with its name, type and bytes; a text of another
// encoding becomes the same letters.
func TestPartsAreToldApart(t *testing.T) {
	got := ReadMail([]byte(strings.ReplaceAll("From: \"Lind, Tove\" <tove@post.example>\nReply-To: kin@post.example\nSubject: Papers\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=a\n\n"+
		"--a\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain; charset=iso-8859-1\nContent-Transfer-Encoding: quoted-printable\n\nSm=F8rvik\n--b\nContent-Type: text/html\n\n<b>x</b>\n--b--\n"+
		"--a\nContent-Type: application/octet-stream; name=\"scan.bin\"\nContent-Disposition: attachment; filename*=utf-8''br%C3%BCcke.bin\nContent-Transfer-Encoding: base64\n\n/wAB\n"+
		"--a\nContent-Type: text/csv\nContent-Disposition: attachment; filename=v.csv\n\nplate\n--a\nContent-Type: text/plain\n\nsent from a boat\n--a--\n", "\n", "\r\n")))
	require.Equal(t, "Lind, Tove <tove@post.example>", got.Field("from").String())
	require.Equal(t, "kin@post.example", got.Field("reply_to").String())
	require.Equal(t, "Smørvik\nsent from a boat", got.Field("text").String())
	require.Equal(t, "<b>x</b>", got.Field("html").String())
	list := got.Field("attachments").Items()
	require.Len(t, list, 2)
	require.Equal(t, "brücke.bin", list[0].Field("name").String())
	require.Equal(t, "\xff\x00\x01", list[0].Field("content").Text())
	require.True(t, list[0].Field("text").IsMissing(), "it is no text")
	require.Equal(t, "v.csv", list[1].Field("name").String())
	require.Equal(t, "text/csv", list[1].Field("type").String())
	require.Equal(t, "plate", list[1].Field("text").String())
}

// TestAMalformedMailGivesWhatCanBeTold: nothing of it is lost in silence.
func TestAMalformedMailGivesWhatCanBeTold(t *testing.T) {
	for name, c := range map[string]struct{ mail, field, want string }{
		"no header at all":       {"just words", "text", "just words"},
		"no boundary":            {"Subject: x\nContent-Type: multipart/mixed\n\nbody", "text", "body"},
		"an encoding unknown":    {"Subject: x\nContent-Type: text/plain; charset=runes\n\nbody", "text", "body"},
		"no UTF-8 in the header": {"Subject: a\xffb\n\nbody", "subject", "a\uFFFDb"},
		"no address":             {"From: the harbour\nSubject: x\n\nbody", "from", "the harbour"},
		"no date":                {"Date: yesterday\nSubject: x\n\nbody", "sent", ""},
		"cut off":                {"Subject: x\nContent-Type: multipart/mixed; boundary=a\n\n--a\nContent-Type: text/plain\n\nhalf a te", "text", "half a te"},
	} {
		got := ReadMail([]byte(strings.ReplaceAll(c.mail, "\n", "\r\n"))).Field(c.field)
		if c.want == "" {
			require.True(t, got.IsMissing(), name)
			continue
		}
		require.Contains(t, got.String(), c.want, name)
	}
	many := "Subject: x\r\nContent-Type: multipart/mixed; boundary=a\r\n\r\n" + strings.Repeat("--a\r\nContent-Type: text/csv\r\n\r\nx\r\n", maxParts+50) + "--a--\r\n"
	require.Len(t, ReadMail([]byte(many)).Field("attachments").Items(), maxParts, "parts are bounded")
}

// FuzzLetter: whatever a mail is, its letter is a record that can be written as JSON and read again.
func FuzzLetter(f *testing.F) {
	f.Add([]byte(postroom.Wrote(2)))
	f.Add([]byte("Subject: =?x?q?=FF?=\r\nContent-Type: multipart/mixed; boundary=\"\"\r\n\r\n--\r\n\r\n"))
	f.Add([]byte("Content-Type: message/rfc822\r\nContent-Transfer-Encoding: base64\r\n\r\n////"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		v := ReadMail(raw)
		text := (&json.Appender{}).Append(nil, v)
		rows, err := project.ReadJSON(connection.IncomingMail, string(text))
		require.NoError(t, err, string(text))
		require.True(t, value.Equal(v, rows[0]), string(text))
	})
}

// TestPartsInsideOfPartsAreBounded: those that stand too deep are attached as they are, and reading them ends.
func TestPartsInsideOfPartsAreBounded(t *testing.T) {
	nested := func(levels int) []byte {
		var b strings.Builder
		b.WriteString("From: tove@post.example\r\nMIME-Version: 1.0\r\n")
		for i := range levels {
			fmt.Fprintf(&b, "Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n", i, i)
		}
		b.WriteString("Content-Type: text/plain\r\n\r\ndeep\r\n")
		return []byte(b.String())
	}
	require.Equal(t, "deep", strings.TrimSpace(ReadMail(nested(maxDepth)).Field("text").String()))
	got := ReadMail(nested(20_000))
	require.True(t, got.Field("text").IsMissing())
	list := got.Field("attachments").Items()
	require.Len(t, list, 1)
	require.Equal(t, "multipart/mixed", list[0].Field("type").String())
	require.Contains(t, list[0].Field("text").String(), "deep")
	many := "From: tove@post.example\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n" + strings.Repeat("--b\r\n\r\nx\r\n", 100_000)
	require.Equal(t, maxParts, strings.Count(ReadMail([]byte(many)).Field("text").String(), "x"))
}
