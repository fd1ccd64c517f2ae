// Package telling puts into words and sends what people and programs are told of: letters by SMTP (RFC 5321), and events in the
// form of CloudEvents 1.0 over HTTP, signed by HMAC. What is told, and to whom, are records (store/notices.go, sendings.go); the
// queue calls this package for each of them until it succeeds or gives up (work/telling.go).
package telling

import (
	"errors"
	"net/http"
	"strings"

	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Teller knows how things are sent.
type Teller struct {
	Address string       // by which people reach the service, as https://sieve.example
	Mail    *MailServer  // nil where nothing can be mailed
	HTTP    *http.Client // by which receivers are reached
}

// PermanentError is one that trying again does not mend.
type PermanentError struct{ Problem error }

// Error implements error.
func (p *PermanentError) Error() string { return p.Problem.Error() }

// Unwrap returns what is wrong.
func (p *PermanentError) Unwrap() error { return p.Problem }

// ErrNoMail says that no server takes mail.
var ErrNoMail = errors.New("no mail server is set up; start the service with --mail-server")

// link is the address of a page of the service.
func (t *Teller) link(path string) string { return strings.TrimRight(t.Address, "/") + path }

// kind is what is said of a kind of notice besides the notice itself.
type kind struct {
	title string // of a letter
	event string // the type of the event
}

var kinds = map[string]kind{
	store.NoticeArrived:  {"a delivery arrived", "proudsieve.delivery.arrived"},
	store.NoticeLate:     {"a delivery is late", "proudsieve.delivery.late"},
	store.NoticeShort:    {"a table fell short", "proudsieve.table.fell_short"},
	store.NoticeCameBack: {"an issue came back", "proudsieve.issue.came_back"},
	store.NoticeAnswered: {"a question was answered", "proudsieve.question.answered"},
	store.NoticeSigned:   {"a certificate was signed", "proudsieve.certificate.signed"},
	store.NoticeRevoked:  {"a certificate was revoked", "proudsieve.certificate.revoked"},
	store.NoticeFailed:   {"a job failed", "proudsieve.job.failed"},
	trial:                {"a trial", "proudsieve.trial"},
}

// trial is no kind of notice: it tries whether a receiver takes events.
const trial = "trial"

// subject is the subject of a letter about a notice.
func subject(n *records.Notice) string { return n.Dataset + ": " + kinds[n.Kind].title }
