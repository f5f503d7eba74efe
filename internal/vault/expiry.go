package vault

import (
	"crypto/x509"
	"encoding/pem"
	"time"
)

// expiry reads from a certificate until when it is valid; nil for other secrets.
func expiry(kind, plain string) *time.Time {
	if kind != "certificate" {
		return nil
	}
	for rest := []byte(plain); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return nil
		}
		if c, err := x509.ParseCertificate(block.Bytes); block.Type == "CERTIFICATE" && err == nil {
			return &c.NotAfter
		}
	}
}
