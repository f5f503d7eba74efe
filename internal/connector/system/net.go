package system

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"

	"hollowreed/internal/core/fault"
)

// Net reaches other machines, but for the addresses that are refused. The address is looked at when the
// connection is made, behind the name, so that no name can lead where no address may.
type Net struct {
	Refuse   []netip.Prefix
	Allow    []netip.AddrPort // in spite of Refuse; port 0 is every port
	Own      []netip.AddrPort // where this program listens: nothing reaches it, whatever is allowed
	Database []netip.AddrPort // where its own database is: only other databases of that server are reached
}

// Refused are the addresses that are refused unless somebody allows them: link-local ones, among them
// the metadata services of clouds (169.254.169.254, fd00:ec2::254).
var Refused = []netip.Prefix{netip.MustParsePrefix("169.254.0.0/16"), netip.MustParsePrefix("fe80::/10"), netip.MustParsePrefix("fd00:ec2::254/128")}

// NewNet makes a Net of lists with commas between: prefixes to refuse beside Refused, and addresses
// with ports to allow.
func NewNet(refuse, allow string) (*Net, error) {
	n := &Net{Refuse: append([]netip.Prefix(nil), Refused...)}
	for _, s := range split(refuse) {
		p, err := netip.ParsePrefix(s)
		if err != nil {
			return nil, fault.Expect(fault.Setting, "a range of addresses, as 127.0.0.0/8", fault.Quote(s))
		}
		n.Refuse = append(n.Refuse, p)
	}
	for _, s := range split(allow) {
		a, err := netip.ParseAddrPort(s)
		if err != nil {
			return nil, fault.Expect(fault.Setting, "an address with its port, as 127.0.0.1:5432", fault.Quote(s))
		}
		n.Allow = append(n.Allow, a)
	}
	return n, nil
}

func split(list string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' })
}

// ErrRefused is an address that an administrator has not allowed.
var ErrRefused = errors.New("this address may not be reached from here")

// allowed says whether an address may be reached, by every address that it means; database is true for a connection to another
// database than our own.
func (n *Net) allowed(to netip.AddrPort, database bool) bool {
	for _, a := range meant(to.Addr()) {
		if !n.allows(netip.AddrPortFrom(a, to.Port()), database) {
			return false
		}
	}
	return true
}

func (n *Net) allows(to netip.AddrPort, database bool) bool {
	if same(n.Own, to) || !database && same(n.Database, to) {
		return false
	}
	for _, a := range n.Allow {
		if a.Addr() == to.Addr() && (a.Port() == 0 || a.Port() == to.Port()) {
			return true
		}
	}
	for _, p := range n.Refuse {
		if p.Contains(to.Addr()) {
			return false
		}
	}
	return true
}

// same says whether an address is one of a list; what listens on one address of loopback is taken to do so on all.
func same(list []netip.AddrPort, to netip.AddrPort) bool {
	return slices.ContainsFunc(list, func(a netip.AddrPort) bool {
		return a.Port() == to.Port() && (a.Addr() == to.Addr() || a.Addr().IsLoopback() && to.Addr().IsLoopback())
	})
}

// Ranges whose addresses hold an IPv4 address that is reached through them, and where in them it stands.
var holding = []struct {
	in netip.Prefix
	at int
}{
	{netip.MustParsePrefix("64:ff9b::/96"), 12},   // NAT64 (RFC 6052)
	{netip.MustParsePrefix("64:ff9b:1::/48"), 12}, // NAT64 of one's own (RFC 8215), with the length that is used
	{netip.MustParsePrefix("2002::/16"), 2},       // 6to4 (RFC 3056)
	{netip.MustParsePrefix("::/96"), 12},          // IPv4-compatible (RFC 4291, section 2.5.5.1)
}

// meant are the addresses that an address leads to: itself without its zone, for the unspecified one loopback, which is where a
// connection to it goes, and an IPv4 address that stands in it.
func meant(a netip.Addr) []netip.Addr {
	a = a.WithZone("").Unmap()
	switch {
	case a == netip.IPv4Unspecified():
		return []netip.Addr{a, netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	case a == netip.IPv6Unspecified():
		return []netip.Addr{a, netip.IPv6Loopback(), netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	}
	all := []netip.Addr{a}
	for _, h := range holding {
		if bytes := a.As16(); h.in.Contains(a) && a != netip.IPv6Loopback() {
			all = append(all, netip.AddrFrom4([4]byte(bytes[h.at:h.at+4])))
		}
	}
	return all
}

// connectTime is how long a machine may take to accept a connection.
const connectTime = 8 * time.Second

// Dialer makes connections within the rules.
func (n *Net) Dialer() *net.Dialer { return n.dialer(false) }

// ToDatabase makes connections to a database that is not our own.
func (n *Net) ToDatabase() *net.Dialer { return n.dialer(true) }

func (n *Net) dialer(database bool) *net.Dialer {
	d := &net.Dialer{Timeout: connectTime, KeepAlive: 30 * time.Second}
	if n != nil {
		d.ControlContext = func(_ context.Context, _, address string, _ syscall.RawConn) error {
			to, err := netip.ParseAddrPort(address)
			if err != nil || !n.allowed(to, database) {
				return fault.New(fault.Setting, "%s: %s", address, ErrRefused).WithFix("An administrator can allow it")
			}
			return nil
		}
	}
	return d
}

// Dial makes a connection.
func (n *Net) Dial(ctx context.Context, host string, port int) (net.Conn, error) {
	return n.Dialer().DialContext(ctx, "tcp", net.JoinHostPort(host, fmt.Sprint(port)))
}

// TLS makes the settings for a host of PEM texts: authorities that are trusted beside the machine's own,
// and a certificate with its key to show.
func TLS(host, authority, certificate string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if authority != "" {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM([]byte(authority)) {
			return nil, fault.Expect(fault.Setting, "PEM certificates (-----BEGIN CERTIFICATE-----)", "none that can be read").InField("CA certificates")
		}
		c.RootCAs = pool
	}
	if certificate != "" {
		pair, err := tls.X509KeyPair([]byte(certificate), []byte(certificate))
		if err != nil {
			return nil, fault.Expect(fault.Setting, "a certificate and its key, both as PEM", "none that fit each other").InField("Client certificate")
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}

// Untrusted says whether a connection failed since the other side's certificate is not trusted, and why.
func Untrusted(err error) (why string, is bool) {
	var authority x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &host):
		return "the certificate is for another name: " + strings.Join(names(host.Certificate), ", "), true
	case errors.As(err, &authority):
		who := ""
		if authority.Cert != nil {
			who = ": " + authority.Cert.Issuer.String()
		}
		return "the certificate is not of an authority that is trusted here" + who, true
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "the certificate was valid until " + invalid.Cert.NotAfter.UTC().Format("2 Jan 2006"), true
	case errors.As(err, &invalid):
		return "the certificate is not valid", true
	}
	if err == nil {
		return "", false
	}
	// Some libraries pass on only the text of crypto/tls.
	if _, text, ok := strings.Cut(err.Error(), "failed to verify certificate: x509: "); ok {
		return strings.Replace("the certificate is not trusted: "+text, "the certificate is not trusted: certificate signed by unknown authority", "the certificate is not of an authority that is trusted here", 1), true
	}
	return "", false
}

func names(c *x509.Certificate) []string {
	list := append([]string(nil), c.DNSNames...)
	for _, ip := range c.IPAddresses {
		list = append(list, ip.String())
	}
	return append(list, c.Subject.CommonName)
}

// TrustMends says what would mend an untrusted certificate.
const TrustMends = "Give the authority's certificate under CA certificates, or check that the host is the right one"

// Bounded reads up to a number of bytes; what is longer is a fault, not cut off in silence.
func Bounded(r io.Reader, most int64) io.Reader { return &bounded{r: r, left: most, most: most} }

type bounded struct {
	r          io.Reader
	left, most int64
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left < 0 {
		return 0, b.fault()
	}
	if int64(len(p)) > b.left+1 {
		p = p[:b.left+1]
	}
	n, err := b.r.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return n - 1, b.fault()
	}
	return n, err
}

func (b *bounded) fault() error {
	return fault.New(fault.Limit, "the answer is longer than %d MB and was cut off", b.most>>20).
		WithFix("Ask for less, or raise the connection's largest answer")
}
