package system

import (
	"context"
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAnAddressIsWhatItLeadsTo: a range that is refused is refused however its addresses are written, and what is allowed in
// spite of that is allowed at its own address only.
func TestAnAddressIsWhatItLeadsTo(t *testing.T) {
	n, err := NewNet("127.0.0.0/8,::1/128,10.0.0.0/8", "127.0.0.1:5432")
	require.NoError(t, err)
	for address, allowed := range map[string]bool{
		"127.0.0.1:80": false, "127.9.9.9:80": false, "[::1]:80": false, "0.0.0.0:80": false, "[::]:80": false,
		"[::ffff:127.0.0.1]:80": false, "[::ffff:10.1.2.3]:80": false, "[64:ff9b::10.1.2.3]:80": false, "[64:ff9b::a9fe:a9fe]:80": false,
		"[64:ff9b:1::a01:203]:80": false, "[2002:a01:203::1]:80": false, "[::10.1.2.3]:80": false,
		"169.254.169.254:80": false, "[fe80::1%1]:80": false, "[fe80::1]:80": false, "[fd00:ec2::254]:80": false, "[fd00:ec2::254%eth0]:80": false,
		"127.0.0.1:5432": true, "127.0.0.2:5432": false, "[::1]:5432": false, "192.0.2.7:80": true, "[2001:db8::1]:80": true, "[64:ff9b::c000:207]:80": true,
	} {
		require.Equal(t, allowed, n.allowed(netip.MustParseAddrPort(address), false), address)
	}
}

// TestNothingReachesItself: neither what this program listens at, however it is allowed, nor its own database but for others on
// its server.
func TestNothingReachesItself(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	own := netip.MustParseAddrPort(l.Addr().String())
	n, err := NewNet("", own.String())
	require.NoError(t, err)
	dial := func(d *net.Dialer, host string) error {
		c, err := d.DialContext(context.Background(), "tcp", netip.AddrPortFrom(netip.MustParseAddr(host), own.Port()).String())
		if err == nil {
			c.Close()
		}
		return err
	}
	require.NoError(t, dial(n.Dialer(), "127.0.0.1"))
	n.Own = []netip.AddrPort{own}
	for _, host := range []string{"127.0.0.1", "127.0.0.2", "0.0.0.0", "::1", "::ffff:127.0.0.1"} {
		require.ErrorContains(t, dial(n.Dialer(), host), "may not be reached", host)
		require.ErrorContains(t, dial(n.ToDatabase(), host), "may not be reached", host)
	}
	n.Own, n.Database = nil, []netip.AddrPort{own}
	require.ErrorContains(t, dial(n.Dialer(), "127.0.0.1"), "may not be reached")
	require.NoError(t, dial(n.ToDatabase(), "127.0.0.1"))
}
