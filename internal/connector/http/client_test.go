package http

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
)

// TestAClientCertificateIsShown: a service that asks who we are gets the certificate that is kept as a secret.
func TestAClientCertificateIsShown(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "hollow-reed"}, NotAfter: time.Now().Add(time.Hour), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	pair := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})) + string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))

	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Write([]byte(`{"who": "` + r.TLS.PeerCertificates[0].Subject.CommonName + `"}`))
	}))
	server.TLS = &tls.Config{ClientAuth: tls.RequireAnyClientCert}
	server.StartTLS()
	t.Cleanup(server.Close)
	own := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))
	s := open(t, map[string]string{"address": server.URL, "authority": own, "certificate": pair})
	v, err := s.Call(t.Context(), asking(t, "read", ""))
	require.NoError(t, err)
	require.Equal(t, "hollow-reed", v.Field("who").String())
	without := open(t, map[string]string{"address": server.URL, "authority": own, "tries": "1"})
	_, err = without.Call(t.Context(), asking(t, "read", ""))
	require.ErrorContains(t, err, "certificate required")
	_, err = Open(contract.Env("http", map[string]string{"address": server.URL, "certificate": own}))
	require.ErrorContains(t, err, "a certificate and its key, both as PEM")
}
