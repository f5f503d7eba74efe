package mailbox

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"strings"
	"time"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
)

// dial connects and agrees on encryption before the library speaks, so that it never sees more than is allowed.
func (b *Box) dial(ctx context.Context) (net.Conn, error) {
	v := b.env.Values
	conn, err := b.env.Net.Dial(ctx, v["host"], v.Int("port", 993))
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(v.Timeout())) // until the library sets one for each command
	greeting := ""
	if v["encryption"] == "starttls" {
		if err := startTLS(conn); err != nil {
			conn.Close()
			return nil, err
		}
		greeting = "* OK encrypted\r\n" // the server greets once only, the library expects it
	}
	if v["encryption"] != "none" {
		c, err := system.TLS(v["host"], v["authority"], "")
		if err != nil {
			conn.Close()
			return nil, err
		}
		t := tls.Client(conn, c)
		if err := t.HandshakeContext(ctx); err != nil {
			conn.Close()
			return nil, err
		}
		conn = t
	}
	return &bounded{Conn: conn, first: greeting, most: v.Largest()}, nil
}

// startTLS asks for encryption (RFC 3501, 6.2.1). It reads no byte too many: what follows is encrypted.
func startTLS(conn net.Conn) error {
	if _, err := line(conn); err != nil {
		return err
	}
	if _, err := conn.Write([]byte("a STARTTLS\r\n")); err != nil {
		return err
	}
	for range 20 {
		said, err := line(conn)
		if err != nil {
			return err
		}
		if rest, ok := strings.CutPrefix(said, "a "); ok {
			if strings.HasPrefix(strings.ToUpper(rest), "OK") {
				return nil
			}
			return fault.New(fault.Setting, "the server does not encrypt: %s", rest).WithFix("Choose another kind of encryption, or none")
		}
	}
	return fault.New(fault.Setting, "the server does not answer STARTTLS")
}

func line(conn net.Conn) (string, error) {
	var text []byte
	for one := make([]byte, 1); len(text) < 2000; {
		if _, err := conn.Read(one); err != nil {
			return "", err
		}
		if one[0] == '\n' {
			return strings.TrimSpace(string(text)), nil
		}
		text = append(text, one[0])
	}
	return "", fmt.Errorf("the server does not speak IMAP")
}

// bounded is a connection that ends when a server announces a literal (RFC 3501, 4.3) of more bytes than are allowed:
// the library would make room for it before the first of them comes.
type bounded struct {
	net.Conn
	first string // given before what is read
	most  int64
	skip  int64  // bytes of a literal that are still to come
	tail  []byte // of the line that is being read, the end
}

// maxTail is more than any announcement of a literal is long.
const maxTail = 32

// Read reads, and looks at each line's end.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := 0, error(nil)
	if b.first != "" {
		n = copy(p, b.first)
		b.first = b.first[n:]
	} else if n, err = b.Conn.Read(p); err != nil {
		return n, err
	}
	return n, b.seen(p[:n])
}

func (b *bounded) seen(p []byte) error {
	for len(p) > 0 {
		if b.skip > 0 {
			n := min(b.skip, int64(len(p)))
			b.skip -= n
			p = p[n:]
			continue
		}
		c := p[0]
		p = p[1:]
		if c != '\n' {
			if b.tail = append(b.tail, c); len(b.tail) > maxTail {
				b.tail = append(b.tail[:0], b.tail[len(b.tail)-maxTail/2:]...)
			}
			continue
		}
		if b.skip = announced(b.tail); b.skip > b.most {
			b.Close()
			return fault.New(fault.Limit, "a mail of %d MB is longer than what is read at once, %d MB", b.skip>>20, b.most>>20).WithFix("Raise the connection's largest answer")
		}
		b.tail = b.tail[:0]
	}
	return nil
}

// announced is the length of the literal that a line's end announces, 0 where it announces none.
func announced(tail []byte) (n int64) {
	s := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(string(tail), "\r"), "}"), "+")
	if !strings.HasSuffix(strings.TrimSuffix(string(tail), "\r"), "}") {
		return 0
	}
	at := strings.LastIndexByte(s, '{')
	if at < 0 || at+1 == len(s) || len(s)-at > 18 {
		return 0
	}
	for _, c := range s[at+1:] {
		if c < '0' || c > '9' {
			return 0
		}
		n = n*10 + int64(c-'0')
	}
	return n
}
