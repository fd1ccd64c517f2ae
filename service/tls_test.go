package service_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/servicetest"
)

// ownCertificate makes a certificate for the loopback, and the files it is given in.
func ownCertificate(t *testing.T) (certificate, key string, pool *x509.CertPool) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	made := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "localhost"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	raw, err := x509.CreateCertificate(rand.Reader, made, made, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	directory := t.TempDir()
	certificate, key = filepath.Join(directory, "certificate.pem"), filepath.Join(directory, "key.pem")
	shown := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})
	if err := os.WriteFile(certificate, shown, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600); err != nil {
		t.Fatal(err)
	}
	pool = x509.NewCertPool()
	pool.AppendCertsFromPEM(shown)
	return certificate, key, pool
}

func TestOverTLSTheCookieGoesOverHTTPSAlone(t *testing.T) {
	t.Parallel()
	certificate, key, pool := ownCertificate(t)
	o := service.Options{DatabaseURL: postgrestest.Database(t), Directory: t.TempDir(), Listen: "127.0.0.1:0",
		Log: servicetest.Quiet(t), Certificate: certificate, Key: key}
	s, err := service.Start(ctx, o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Stop() })
	if !strings.HasPrefix(s.URL(), "https://") {
		t.Errorf("the address is %s", s.URL())
	}
	token, err := os.ReadFile(service.TokenFile(o.Directory))
	if err != nil {
		t.Fatal(err)
	}
	caller := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	response, err := caller.Post(s.URL()+api.Prefix+"/session", "application/json",
		strings.NewReader(fmt.Sprintf(`{"token":%q}`, strings.TrimSpace(string(token)))))
	if err != nil {
		t.Fatal(err)
	}
	_ = response.Body.Close()
	if cookies := response.Cookies(); len(cookies) != 1 || !cookies[0].Secure ||
		response.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("%+v, %v", cookies, response.Header)
	}
}

func TestTLSNeedsBothFilesAndASecretKey(t *testing.T) {
	t.Parallel()
	certificate, key, _ := ownCertificate(t)
	o := service.Options{DatabaseURL: postgrestest.Database(t), Directory: t.TempDir(), Listen: "127.0.0.1:0",
		Log: servicetest.Quiet(t), Certificate: certificate}
	if _, err := service.Start(ctx, o); err == nil ||
		!strings.Contains(err.Error(), "TLS needs both a certificate and its key") {
		t.Errorf("without a key: %v", err)
	}
	if err := os.Chmod(key, 0o644); err != nil {
		t.Fatal(err)
	}
	o.Key = key
	if _, err := service.Start(ctx, o); err == nil ||
		!strings.Contains(err.Error(), "other users may read the secret") {
		t.Errorf("with a key that others may read: %v", err)
	}
}
