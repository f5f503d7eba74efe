package app

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"
	"sync"
	"time"

	"hollowreed/internal/core/fault"
)

// callsTLS is the certificate with which calls are taken. It is read again when its file changes, so that it can be renewed while the
// program runs.
type callsTLS struct {
	certificate, key string // files in PEM
	mu               sync.Mutex
	changed          time.Time
	now              *tls.Certificate
}

// wrap takes calls by TLS, and asks clients for their certificates; which of them are known is a matter of the APIs.
func (s *callsTLS) wrap(l net.Listener) (net.Listener, *x509.CertPool, error) {
	first, err := s.get(nil)
	if err != nil {
		return nil, nil, err
	}
	trust, err := x509.SystemCertPool()
	if err != nil {
		trust = x509.NewCertPool()
	}
	for _, der := range first.Certificate {
		if cert, err := x509.ParseCertificate(der); err == nil {
			trust.AddCert(cert)
		}
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: s.get, ClientAuth: tls.RequestClientCert, NextProtos: []string{"h2", "http/1.1"}}
	return tls.NewListener(l, config), trust, nil
}

// get gives the certificate; the one before where the file cannot be read now.
func (s *callsTLS) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	info, err := os.Stat(s.certificate)
	if err == nil && s.now != nil && info.ModTime().Equal(s.changed) {
		return s.now, nil
	}
	var read tls.Certificate
	if err == nil {
		read, err = tls.LoadX509KeyPair(s.certificate, s.key)
	}
	switch {
	case err == nil:
		s.now, s.changed = &read, info.ModTime()
	case s.now == nil:
		return nil, fault.New(fault.Setting, "the certificate cannot be used: %s", err).InField("--calls-certificate").WithFix("Name a certificate and its key (--calls-key), both in PEM")
	}
	return s.now, nil
}
