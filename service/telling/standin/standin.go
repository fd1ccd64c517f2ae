// Package standin has small stand-ins for what receives what the service sends, for tests and the demo: a mail server and a receiver
// of events, on loopback. Each keeps what it was sent once for a key, and counts what came again.
package standin

import (
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/mail"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"

	"proudsieve/core/guard"
	"proudsieve/service/telling"
)

const (
	letterMost = 1 << 20
	waits      = 10 * time.Second
)

// Kept is what arrived, by the key that says what it is.
type Kept struct {
	directory, ending string // where it is written as well; empty for nowhere

	mutex   sync.Mutex
	content map[string]string
	keys    []string
	repeats int
	// out says that nothing is taken, as when a server is down for its own reasons.
	out atomic.Bool
}

// errOut is what is answered while nothing is taken.
var errOut = errors.New("come again later")

var unsafe = regexp.MustCompile(`[^A-Za-z0-9._@-]`)

func (k *Kept) add(key, content string) error {
	if k.out.Load() {
		return errOut
	}
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if _, known := k.content[key]; known {
		k.repeats++
		return nil
	}
	if k.directory != "" {
		f, err := os.OpenFile(filepath.Join(k.directory, unsafe.ReplaceAllString(key, "_")+k.ending), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, os.ErrExist) { // it came before the last start
			k.repeats++
			return nil
		}
		if err != nil {
			return err
		}
		if _, err := f.WriteString(content); err != nil {
			return errors.Join(err, f.Close())
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	if k.content == nil {
		k.content = map[string]string{}
	}
	k.content[key] = content
	k.keys = append(k.keys, key)
	return nil
}

// SetOut makes it take nothing, or take things again.
func (k *Kept) SetOut(out bool) { k.out.Store(out) }

// All returns what arrived, in order, and how often something came that was there.
func (k *Kept) All() (content []string, repeats int) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	for _, key := range k.keys {
		content = append(content, k.content[key])
	}
	return content, k.repeats
}

// Of returns what arrived under a key.
func (k *Kept) Of(key string) (string, bool) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	content, ok := k.content[key]
	return content, ok
}

// Mail is a mail server that keeps every letter, by its Message-ID.
type Mail struct {
	Kept
	Address string // host:port
	server  *smtp.Server
	group   guard.Group
}

// StartMail starts a mail server; a directory other than "" gets a file for each letter.
func StartMail(listen, directory string) (*Mail, error) {
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, err
	}
	m := &Mail{Kept: Kept{directory: directory, ending: ".eml"}, Address: listener.Addr().String()}
	m.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{mail: m}, nil }))
	m.server.ErrorLog = log.New(io.Discard, "", 0) // a sender that is killed is nothing to tell of
	m.server.Domain, m.server.ReadTimeout, m.server.WriteTimeout, m.server.MaxMessageBytes = "localhost", waits, waits, letterMost
	m.group.Go(func() error {
		if err := m.server.Serve(listener); !errors.Is(err, smtp.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
			return err
		}
		return nil
	})
	return m, nil
}

// Stop ends it.
func (m *Mail) Stop() error { return errors.Join(m.server.Close(), m.group.Wait()) }

// session is one visit of a sender.
type session struct {
	mail *Mail
	to   []string
}

// Reset implements smtp.Session.
func (s *session) Reset() { s.to = nil }

// Logout implements smtp.Session.
func (s *session) Logout() error { return nil }

// Mail implements smtp.Session.
func (s *session) Mail(string, *smtp.MailOptions) error { return nil }

// Rcpt implements smtp.Session; nobody is at addresses that begin with "nobody".
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody is here"}
	}
	s.to = append(s.to, to)
	return nil
}

// Data implements smtp.Session.
func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, letterMost))
	if err != nil {
		return err
	}
	letter, err := mail.ReadMessage(strings.NewReader(string(raw)))
	if err != nil {
		return &smtp.SMTPError{Code: 554, Message: "this is no letter"}
	}
	id := strings.Trim(letter.Header.Get("Message-ID"), "<>")
	if id == "" {
		return &smtp.SMTPError{Code: 554, Message: "a letter needs a Message-ID"}
	}
	if err := s.mail.add(id, string(raw)); err != nil {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: err.Error()}
	}
	return nil
}

// Receiver takes events, whose signatures must fit, and keeps each by its id.
type Receiver struct {
	Kept
	Address string // to send events to
	secret  atomic.Value
	server  *http.Server
	group   guard.Group
}

// StartReceiver starts a receiver; a directory other than "" gets a file for each event. Until it is told its secret, it takes nothing.
func StartReceiver(listen, directory string) (*Receiver, error) {
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, err
	}
	r := &Receiver{Kept: Kept{directory: directory, ending: ".json"}, Address: fmt.Sprintf("http://%s/events", listener.Addr())}
	r.secret.Store("")
	r.server = &http.Server{Handler: http.HandlerFunc(r.take), ReadTimeout: waits, WriteTimeout: waits}
	r.group.Go(func() error {
		if err := r.server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	})
	return r, nil
}

// SetSecret tells by what the sender is known.
func (r *Receiver) SetSecret(secret string) { r.secret.Store(secret) }

// Stop ends it.
func (r *Receiver) Stop() error { return errors.Join(r.server.Close(), r.group.Wait()) }

func (r *Receiver) take(w http.ResponseWriter, request *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, request.Body, letterMost))
	switch {
	case err != nil:
		http.Error(w, "it is too large", http.StatusRequestEntityTooLarge)
	case request.Method != http.MethodPost || request.Header.Get("Content-Type") != telling.EventType:
		http.Error(w, "send events here, by POST", http.StatusMethodNotAllowed)
	case telling.Verify(r.secret.Load().(string), request.Header, body, time.Now()) != nil:
		http.Error(w, "the signature does not fit", http.StatusUnauthorized)
	case r.add(request.Header.Get(telling.IDHeader), string(body)) != nil:
		http.Error(w, errOut.Error(), http.StatusServiceUnavailable)
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}
