// Package standin is a small provider of identities for tests and the demo: it speaks as much of OpenID Connect as it takes to sign in. In tests it
// asks nobody for a password; in the demo it asks for one word, which whoever runs it has in a file.
package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Provider is a running provider. Whoever comes is taken for Person.
type Provider struct {
	*httptest.Server
	Client, Secret string // the only client that it knows

	mutex  sync.Mutex
	person map[string]any // the claims of who comes next; nil for somebody who is not let in
	change func(claims map[string]any)
	key    *ecdsa.PrivateKey
	codes  map[string]asked
	people []map[string]any // of whom one chooses one, with the word; nil where whoever comes is taken for person
	word   string
}

type asked struct {
	back, challenge, nonce string
	person                 map[string]any
}

// Start starts a provider on loopback.
func Start(client, secret string) (*Provider, error) { return StartAt("127.0.0.1:0", client, secret) }

// StartAt starts a provider at an address of loopback.
func StartAt(address, client, secret string) (*Provider, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	p := &Provider{Client: client, Secret: secret, key: key, codes: map[string]asked{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.describe)
	mux.HandleFunc("GET /keys", p.keys)
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /authorize", p.choose)
	mux.HandleFunc("POST /token", p.token)
	p.Server = &httptest.Server{Listener: listener, Config: &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}}
	p.Server.Start()
	return p, nil
}

// Offer has whoever comes choose one of some people, by their claims, and type a word.
func (p *Provider) Offer(people []map[string]any, word string) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.people, p.word = people, word
}

// page asks who comes.
var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><title>A stand-in for the survey office</title>
<body style="font-family: sans-serif; margin: 3em; max-width: 40em"><h1>A stand-in for the survey office</h1>
<p>It stands in for an organisation's own provider of identities. All people are made up.</p>{{if .Wrong}}<p role="alert">That is not the word.</p>{{end}}
<form method="post"><p>{{range $i, $one := .People}}<label style="display: block"><input type="radio" name="as" value="{{$i}}" required> {{$one.name}}, in {{range $k, $g := $one.groups}}{{if $k}}, {{end}}{{$g}}{{end}}</label>{{end}}</p>
<p><label>The word, which stands in the file that the demo names: <input type="password" name="word" required autocomplete="off"></label></p><button>Come in</button></form></body></html>`))

// choose lets somebody in as whom they chose.
func (p *Provider) choose(w http.ResponseWriter, r *http.Request) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	at, err := strconv.Atoi(r.PostFormValue("as"))
	if err != nil || at < 0 || at >= len(p.people) || !hmac.Equal([]byte(r.PostFormValue("word")), []byte(p.word)) {
		time.Sleep(time.Second) // for whoever tries words
		p.ask(w, true)
		return
	}
	p.goBack(w, r, p.people[at])
}

func (p *Provider) ask(w http.ResponseWriter, wrong bool) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, map[string]any{"People": p.people, "Wrong": wrong})
}

// Comes says who comes next, by their claims; nil for somebody who is not let in. Change may alter what is said of them in the end.
func (p *Provider) Comes(claims map[string]any, change func(claims map[string]any)) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.person, p.change = claims, change
}

func (p *Provider) describe(w http.ResponseWriter, _ *http.Request) {
	_ = json.NewEncoder(w).Encode(map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"}})
}

func (p *Provider) keys(w http.ResponseWriter, _ *http.Request) {
	_ = json.NewEncoder(w).Encode(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &p.key.PublicKey, KeyID: "one", Algorithm: "ES256", Use: "sig"}}})
}

func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.people != nil {
		p.ask(w, false)
		return
	}
	p.goBack(w, r, p.person)
}

// goBack leads somebody back to the service, with a code, or none where they are not let in.
func (p *Provider) goBack(w http.ResponseWriter, r *http.Request, person map[string]any) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || q.Get("client_id") != p.Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" {
		http.Error(w, "this is no request to sign in", http.StatusBadRequest)
		return
	}
	answer := url.Values{"state": {q.Get("state")}}
	if person == nil {
		answer.Set("error", "access_denied")
	} else {
		code := rand.Text()
		p.codes[code] = asked{q.Get("redirect_uri"), q.Get("code_challenge"), q.Get("nonce"), person}
		answer.Set("code", code)
	}
	back.RawQuery = answer.Encode()
	http.Redirect(w, r, back.String(), http.StatusFound)
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	client, secret, basic := r.BasicAuth()
	if basic { // in which both are encoded as in a form (RFC 6749, 2.3.1)
		client, _ = url.QueryUnescape(client)
		secret, _ = url.QueryUnescape(secret)
	} else {
		client, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	a, known := p.codes[r.PostFormValue("code")]
	delete(p.codes, r.PostFormValue("code"))
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if !known || client != p.Client || secret != p.Secret || r.PostFormValue("redirect_uri") != a.back || base64.RawURLEncoding.EncodeToString(sum[:]) != a.challenge {
		w.WriteHeader(http.StatusBadRequest)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": "invalid_grant"})
		return
	}
	claims := map[string]any{"iss": p.URL, "aud": p.Client, "nonce": a.nonce, "iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix()}
	for name, value := range a.person {
		claims[name] = value
	}
	if p.change != nil {
		p.change(claims)
	}
	signed, err := p.signed(claims)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 60, "id_token": signed})
}

func (p *Provider) signed(claims map[string]any) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.key, KeyID: "one"}}, nil)
	if err != nil {
		return "", err
	}
	raw, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	object, err := signer.Sign(raw)
	if err != nil {
		return "", err
	}
	return object.CompactSerialize()
}
