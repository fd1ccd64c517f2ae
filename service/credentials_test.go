package service_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"proudsieve/service"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// nodeSecrets puts secrets where a node has them.
func nodeSecrets(t *testing.T, r *servicetest.Running, secrets map[string]string) {
	t.Helper()
	folder := service.SecretsFolder(r.Directory)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	for name, secret := range secrets {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(secret), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// clientCertificate is a certificate with its key, in PEM.
func clientCertificate(t *testing.T, name string) string {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})) + string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
}

// guarded is a provider that lets in who has the key word, and notes what it was told.
type guarded struct {
	mu   sync.Mutex
	told []string
}

func (g *guarded) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	who := ""
	if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
		who = r.TLS.PeerCertificates[0].Subject.CommonName
	}
	g.mu.Lock()
	g.told = append(g.told, r.Header.Get("X-Key")+" "+who)
	g.mu.Unlock()
	if to := r.URL.Query().Get("to"); to != "" {
		http.Redirect(w, r, to, http.StatusFound)
		return
	}
	if r.Header.Get("X-Key") != "open sesame" {
		http.Error(w, "who are you?", http.StatusUnauthorized)
		return
	}
	_, _ = io.WriteString(w, "sample,value\nS1,"+who+"1\n")
}

func (g *guarded) heard() []string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return append([]string(nil), g.told...)
}

func TestCredentialsLetTheServiceIn(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, func(o *service.Options) { o.FetchPrivate = true })
	declare(t, r.Steward, "rulebooks", book)
	inside, elsewhere := &guarded{}, &guarded{}
	lab := httptest.NewUnstartedServer(inside)
	lab.TLS = &tls.Config{ClientAuth: tls.RequireAnyClientCert, MinVersion: tls.VersionTLS12}
	lab.StartTLS()
	t.Cleanup(lab.Close)
	other := httptest.NewServer(elsewhere)
	t.Cleanup(other.Close)
	nodeSecrets(t, r, map[string]string{"lab-key": "open sesame\n", "lab-certificate": clientCertificate(t, "proud sieve"), "two-lines": "a\nb",
		"lab-authority": string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: lab.Certificate().Raw}))})
	fetch := func(address string) (*records.Fetch, *records.Job, error) {
		t.Helper()
		f, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Address: address})
		if err != nil {
			t.Fatal(err)
		}
		job, err := fetched(t, r, f.Job)
		return &f.Fetch, job, err
	}
	says := func(err error, parts ...string) {
		t.Helper()
		for _, part := range parts {
			if err == nil || !strings.Contains(err.Error(), part) {
				t.Errorf("%v, want %q", err, part)
			}
		}
		if err != nil && strings.Contains(err.Error(), "sesame") {
			t.Errorf("the secret is told: %v", err)
		}
	}
	_, _, err := fetch(lab.URL + "/may.csv")
	says(err, "certificate")
	labHost := strings.TrimPrefix(lab.URL, "https://")
	credential := records.NewCredential{Host: labHost, Header: "X-Key", Secret: "lab-key", Certificate: "lab-certificate", Authority: "lab-authority"}
	made, err := r.Admin.AddCredential(ctx, credential)
	if err != nil || made.Host != labHost {
		t.Fatalf("%+v, %v", made, err)
	}
	f, job, err := fetch(lab.URL + "/may.csv")
	if err != nil || job.ResultTable == nil {
		t.Fatalf("%+v, %v", job, err)
	}
	if told := inside.heard(); len(told) != 1 || told[0] != "open sesame proud sieve" {
		t.Errorf("the laboratory was told %q", told)
	}
	raw, err := json.Marshal(f)
	if err != nil || strings.Contains(string(raw), "sesame") {
		t.Errorf("%s, %v", raw, err)
	}
	// No other host is told, wherever one is passed on to.
	_, _, err = fetch(lab.URL + "/may.csv?to=" + other.URL + "/june.csv")
	says(err, "passes on to", "its credential is not told")
	if told := elsewhere.heard(); len(told) != 0 {
		t.Errorf("the other host was asked, and told %q", told)
	}
	_, _, err = fetch(other.URL + "/june.csv")
	says(err, "401", "an administrator declares the credential")
	if told := elsewhere.heard(); len(told) != 1 || told[0] != " " {
		t.Errorf("the other host was told %q", told)
	}
	// Nothing readable goes over a network.
	if _, err := r.Admin.AddCredential(ctx, records.NewCredential{Host: "lab.alder-vale.example", Header: "X-Key", Secret: "lab-key"}); err != nil {
		t.Fatal(err)
	}
	_, _, err = fetch("http://lab.alder-vale.example/may.csv")
	says(err, "which would be readable on its way there")
	// What a node does not have, or is no such thing.
	for problem, wrong := range map[string]records.NewCredential{
		"has no secret \"gone\"":     {Header: "X-Key", Secret: "gone"},
		"is more than one line":      {Header: "X-Key", Secret: "two-lines"},
		"is no certificate with its": {Certificate: "lab-key"},
		"is no certificate in PEM":   {Authority: "lab-key"},
	} {
		if err := r.Admin.RemoveCredential(ctx, labHost); err != nil {
			t.Fatal(err)
		}
		wrong.Host = labHost
		if _, err := r.Admin.AddCredential(ctx, wrong); err != nil {
			t.Fatal(err)
		}
		_, _, err := fetch(lab.URL + "/may.csv")
		says(err, problem)
	}
}

func TestWhoMayDeclareCredentials(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	good := records.NewCredential{Host: "LAB.alder-vale.example:443", Header: "Authorization", Secret: "lab-key"}
	for _, c := range []struct {
		says   string
		change func(*records.NewCredential)
	}{
		{"go together", func(c *records.NewCredential) { c.Secret = "" }},
		{"Say a header", func(c *records.NewCredential) { c.Header, c.Secret = "", "" }},
		{"is no name of a secret", func(c *records.NewCredential) { c.Secret = "../service-secret" }},
		{"expected string to match", func(c *records.NewCredential) { c.Header = "X-Key: a\r\nX-Other" }},
		{"expected string to match", func(c *records.NewCredential) { c.Host = "https://lab/" }},
	} {
		wrong := good
		c.change(&wrong)
		_, err := r.Admin.AddCredential(ctx, wrong)
		refused(t, c.says, err, http.StatusUnprocessableEntity, c.says)
	}
	_, err := r.Steward.AddCredential(ctx, good)
	refused(t, "a steward", err, http.StatusForbidden, "")
	_, err = r.Steward.ListCredentials(ctx)
	refused(t, "a steward", err, http.StatusForbidden, "")
	made, err := r.Admin.AddCredential(ctx, good)
	if err != nil || made.Host != "lab.alder-vale.example" {
		t.Fatalf("%+v, %v", made, err)
	}
	_, err = r.Admin.AddCredential(ctx, good)
	refused(t, "twice", err, http.StatusConflict, "already")
	refused(t, "a steward", r.Steward.RemoveCredential(ctx, made.Host), http.StatusForbidden, "")
	if err := r.Admin.RemoveCredential(ctx, made.Host); err != nil {
		t.Fatal(err)
	}
	if all, err := r.Admin.ListCredentials(ctx); err != nil || len(*all) != 0 {
		t.Errorf("%v, %v", all, err)
	}
}
