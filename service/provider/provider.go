// Package provider lets in whom an organisation's own provider of identities knows: OpenID Connect Core 1.0, by the authorization code
// flow with PKCE (RFC 7636). Whatever has to be remembered between the two halves of it goes with the browser, sealed, so that any node
// can do the second one.
package provider

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"proudsieve/service/access"
)

// Settings say who the provider is, and whom it lets in.
type Settings struct {
	Title  string // as people call it
	Issuer string // its address, as it calls itself
	Client string // as what the service is known there
	Secret string // by which the service proves that to it; empty where PKCE alone does
	Groups string // the claim with somebody's groups; "groups" where it is empty
	// Roles are the groups that let somebody in, and as what. Of several, the one that allows most counts, in the order of access.Roles.
	Roles map[string]access.Role
	// Datasets are the names of the datasets that a group lets in for; one that is not in it lets in for all, and counts alone then.
	Datasets map[string][]string
}

// Check says what is wrong with the settings.
func (s *Settings) Check() error {
	u, err := url.Parse(s.Issuer)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Hostname() != "127.0.0.1" && u.Hostname() != "localhost":
		return fmt.Errorf("%q is no address of a provider; it is an https address", s.Issuer)
	case s.Client == "":
		return errors.New("the provider has to know the service by some name: say which")
	case len(s.Roles) == 0:
		return errors.New("no group of the provider lets anybody in: say which group has which role")
	}
	for group, role := range s.Roles {
		if !role.May(access.Read) {
			return fmt.Errorf("the group %q has no role that there is: %q", group, role)
		}
		if len(s.Datasets[group]) > 0 && role == access.Administrator {
			return fmt.Errorf("the group %q makes administrators, who are for all datasets; name none with it", group)
		}
	}
	return nil
}

// Known is somebody whom the provider knows and who may come in.
type Known struct {
	Subject string // what tells them from everybody else, for good
	Name    string
	Role    access.Role
	// Datasets are those that they come in for, each with the role that their groups have there; nil for all.
	Datasets map[string]access.Role
}

// Reasons why somebody does not come in; each can be told apart with errors.Is.
var (
	ErrDenied  = errors.New("the provider did not let them in")
	ErrGroups  = errors.New("none of their groups has a role here")
	ErrStale   = errors.New("it was begun too long ago, or in another browser")
	ErrNoName  = errors.New("the provider does not say what they are called")
	ErrAnswer  = errors.New("the provider answered with what does not hold")
	ErrReached = errors.New("the provider could not be reached")
)

const (
	// lasts is how long somebody may take at the provider.
	lasts = 10 * time.Minute
	// answerWait is how long the provider may take to answer, and answerLimit how many bytes it may answer with.
	answerWait  = 15 * time.Second
	answerLimit = 1 << 20
	nameLimit   = 100
)

// Provider is a provider by whom people come in.
type Provider struct {
	settings Settings
	back     string // the address to which it sends people back
	key      []byte // by which what goes with the browser is sealed
	client   *http.Client

	mutex sync.Mutex
	found *oidc.Provider // once it was reached
}

// New makes a provider of settings that passed Check.
func New(s Settings, back string, key []byte) *Provider {
	if s.Groups == "" {
		s.Groups = "groups"
	}
	own := hmac.New(sha256.New, key)
	own.Write([]byte("sign-in"))
	return &Provider{settings: s, back: back, key: own.Sum(nil), client: &http.Client{Timeout: answerWait, Transport: bounded{http.DefaultTransport}}}
}

// Title is what people call it.
func (p *Provider) Title() string { return p.settings.Title }

// bounded reads no answer that has no end.
type bounded struct{ http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	response, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		response.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(response.Body, answerLimit), response.Body}
	}
	return response, err
}

// discovered asks the provider what it is, the first time.
func (p *Provider) discovered(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.found == nil {
		// Its keys are asked for again and again, longer than this request lasts.
		found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), p.client), p.settings.Issuer)
		if err != nil {
			return nil, nil, fmt.Errorf("%w: %w", ErrReached, err)
		}
		p.found = found
	}
	return p.found, &oauth2.Config{ClientID: p.settings.Client, ClientSecret: p.settings.Secret, Endpoint: p.found.Endpoint(), RedirectURL: p.back,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}, nil
}

// begun is what is remembered from the first half for the second.
type begun struct {
	State    string    `json:"s"`
	Nonce    string    `json:"n"`
	Verifier string    `json:"v"`
	To       string    `json:"t"`
	Until    time.Time `json:"u"`
}

// Begin returns the address at the provider to which somebody goes, and what their browser keeps meanwhile. To is a path of ours to
// which they come in the end.
func (p *Provider) Begin(ctx context.Context, to string) (address, sealed string, err error) {
	_, config, err := p.discovered(ctx)
	if err != nil {
		return "", "", err
	}
	b := begun{Verifier: oauth2.GenerateVerifier(), To: OwnPath(to), Until: time.Now().Add(lasts)}
	for _, secret := range []*string{&b.State, &b.Nonce} {
		if *secret, err = access.NewSecret(""); err != nil {
			return "", "", err
		}
	}
	raw, err := json.Marshal(b)
	if err != nil {
		return "", "", err
	}
	return config.AuthCodeURL(b.State, oidc.Nonce(b.Nonce), oauth2.S256ChallengeOption(b.Verifier)), p.seal(raw), nil
}

// OwnPath is a path on this service; the start for whatever is none.
func OwnPath(to string) string {
	u, err := url.Parse(to)
	if err != nil || u.Scheme != "" || u.Host != "" || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsAny(to, "\\\r\n\t") {
		return "/"
	}
	return to
}

func (p *Provider) seal(raw []byte) string {
	mac := hmac.New(sha256.New, p.key)
	mac.Write(raw)
	return base64.RawURLEncoding.EncodeToString(raw) + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

func (p *Provider) unseal(sealed string) (*begun, error) {
	body, sum, both := strings.Cut(sealed, ".")
	raw, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil || !both || !hmac.Equal([]byte(p.seal(raw)), []byte(body+"."+sum)) {
		return nil, ErrStale
	}
	var b begun
	if json.Unmarshal(raw, &b) != nil || time.Now().After(b.Until) {
		return nil, ErrStale
	}
	return &b, nil
}

// Complete is the second half: sealed is what the browser kept, and answer what the provider sent with it. It returns who comes in,
// and where they want to go.
func (p *Provider) Complete(ctx context.Context, sealed string, answer url.Values) (*Known, string, error) {
	b, err := p.unseal(sealed)
	if err != nil {
		return nil, "", err
	}
	if !hmac.Equal([]byte(answer.Get("state")), []byte(b.State)) {
		return nil, "", ErrStale
	}
	if problem := answer.Get("error"); problem != "" {
		return nil, "", fmt.Errorf("%w: %s", ErrDenied, problem)
	}
	found, config, err := p.discovered(ctx)
	if err != nil {
		return nil, "", err
	}
	ctx = oidc.ClientContext(ctx, p.client)
	token, err := config.Exchange(ctx, answer.Get("code"), oauth2.VerifierOption(b.Verifier))
	if err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrAnswer, err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.settings.Client}).Verify(ctx, raw)
	if err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrAnswer, err)
	}
	if !hmac.Equal([]byte(id.Nonce), []byte(b.Nonce)) {
		return nil, "", fmt.Errorf("%w: it is for somebody else's sign-in", ErrAnswer)
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrAnswer, err)
	}
	known, err := p.known(id, claims)
	return known, b.To, err
}

// known is who is spoken of by claims, if a group of theirs has a role.
func (p *Provider) known(id *oidc.IDToken, claims map[string]any) (*Known, error) {
	k := &Known{Subject: id.Issuer + " " + id.Subject}
	for _, claim := range []string{"preferred_username", "name", "email"} {
		if name, is := claims[claim].(string); is && k.Name == "" {
			k.Name = plainName(name)
		}
	}
	groups := map[string]bool{}
	switch of := claims[p.settings.Groups].(type) {
	case string:
		groups[of] = true
	case []any:
		for _, one := range of {
			if group, is := one.(string); is {
				groups[group] = true
			}
		}
	}
	k.Role, k.Datasets = p.settings.allow(groups)
	switch {
	case k.Role == "":
		return nil, ErrGroups
	case k.Name == "":
		return nil, ErrNoName
	}
	return k, nil
}

// allow is what groups let somebody do: as what, and for which datasets.
func (s *Settings) allow(groups map[string]bool) (role access.Role, datasets map[string]access.Role) {
	var everywhere access.Role
	for _, one := range access.Roles { // the last one counts
		for group, has := range s.Roles {
			if has != one || !groups[group] {
				continue
			}
			if len(s.Datasets[group]) == 0 {
				everywhere = one
				continue
			}
			if role = one; datasets == nil {
				datasets = map[string]access.Role{}
			}
			for _, name := range s.Datasets[group] {
				datasets[name] = one
			}
		}
	}
	if everywhere != "" {
		return everywhere, nil
	}
	return role, datasets
}

// plainName is a name without what is not seen, and no longer than names are.
func plainName(name string) string {
	name = strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return ' '
	}, strings.ToValidUTF8(name, ""))), " ")
	if runes := []rune(name); len(runes) > nameLimit {
		return string(runes[:nameLimit])
	}
	return name
}
