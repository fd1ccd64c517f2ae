package work

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	"proudsieve/service/records"
	"proudsieve/service/store"
)

// letIn gives a request what it needs to be let in at its host, where that is declared, and returns the client to send it through.
// A credential is told to its host alone: over TLS, or to this very machine, and never to where that passes it on to.
func (p *Pool) letIn(ctx context.Context, request *http.Request) (*http.Client, error) {
	host := HostOf(request.URL.Host)
	c, err := store.FindCredential(ctx, p.store.DB, host)
	if errors.Is(err, store.ErrNotFound) {
		return p.fetcher(), nil
	}
	if err != nil {
		return nil, err
	}
	if !mayBeTold(request.URL) {
		return nil, fmt.Errorf("%s has a credential, which would be readable on its way there; fetch from its https address", host)
	}
	if c.Header != "" {
		secret, err := p.NodeSecret(c.Secret)
		if err != nil {
			return nil, err
		}
		if strings.ContainsAny(secret, "\r\n\x00") {
			return nil, fmt.Errorf("the secret %s is more than one line, which no header can say", c.Secret)
		}
		request.Header.Set(c.Header, secret)
	}
	way := transport(p.FetchPrivate)
	if way.TLSClientConfig, err = p.provenBy(c); err != nil {
		return nil, err
	}
	return &http.Client{Timeout: fetchLongest, Transport: way, CheckRedirect: func(next *http.Request, via []*http.Request) error {
		if HostOf(next.URL.Host) != host || !mayBeTold(next.URL) {
			return fmt.Errorf("%s passes on to %s, to which its credential is not told; fetch from there itself", host, next.URL.Host)
		}
		if len(via) >= fetchRedirects {
			return fmt.Errorf("the address was passed on more than %d times", fetchRedirects)
		}
		return nil
	}}, nil
}

// mayBeTold reports whether a secret reaches an address unread by others.
func mayBeTold(u *url.URL) bool {
	at, err := netip.ParseAddr(strings.Trim(u.Hostname(), "[]"))
	return u.Scheme == "https" || err == nil && at.IsLoopback()
}

// provenBy is how both sides prove who they are.
func (p *Pool) provenBy(c *records.Credential) (*tls.Config, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if c.Certificate != "" {
		pem, err := p.NodeSecret(c.Certificate)
		if err != nil {
			return nil, err
		}
		pair, err := tls.X509KeyPair([]byte(pem), []byte(pem))
		if err != nil {
			return nil, fmt.Errorf("the secret %s is no certificate with its key in PEM: %w", c.Certificate, err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	if c.Authority != "" {
		pem, err := p.NodeSecret(c.Authority)
		if err != nil {
			return nil, err
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM([]byte(pem)) {
			return nil, fmt.Errorf("the secret %s is no certificate in PEM", c.Authority)
		}
	}
	return config, nil
}

// HostOf returns a host as credentials have it; the port of its scheme is left out.
func HostOf(host string) string {
	host = strings.ToLower(host)
	if name, port, err := net.SplitHostPort(host); err == nil && port == "443" {
		return name
	}
	return host
}
