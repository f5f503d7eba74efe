package mail

import (
	"context"
	"crypto/tls"
	"net"
)

// handshaken agrees on encryption before anything is said (RFC 8314).
func handshaken(ctx context.Context, conn net.Conn, c *tls.Config) (net.Conn, error) {
	t := tls.Client(conn, c)
	if err := t.HandshakeContext(ctx); err != nil {
		conn.Close()
		return nil, err
	}
	return t, nil
}
