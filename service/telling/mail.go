package telling

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"proudsieve/core/document"
	"proudsieve/service/access"
	"proudsieve/service/records"
)

// MailServer is the server that takes letters.
type MailServer struct {
	Address  string // host:port
	From     string // the address that letters come from
	User     string // empty where nobody signs in there
	Password string
	TLS      string // one of MailTLS
}

// MailTLS is how the way to a mail server is kept secret: it must offer TLS, it may, or all is within TLS from the start.
var MailTLS = []string{"required", "offered", "implicit"}

// mailWait is how long a server has for each answer.
const mailWait = 10 * time.Second

// Check says what is wrong with how a server is set up; where nothing is said of TLS, it must be offered unless the server is on this
// machine.
func (m *MailServer) Check() error {
	host, port, err := net.SplitHostPort(m.Address)
	if err != nil {
		return fmt.Errorf("%q is no mail server; write it as host:port", m.Address)
	}
	if _, err := strconv.Atoi(port); err != nil {
		return fmt.Errorf("%q is no port of a mail server", port)
	}
	if err := CheckAddress(m.From); err != nil {
		return fmt.Errorf("the address that letters come from: %w; write it as --mail-from sieve@example.org", err)
	}
	if m.TLS == "" {
		m.TLS = "required"
		if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
			m.TLS = "offered"
		}
	}
	_, err = m.client()
	return err
}

// CheckAddress says what is wrong with an e-mail address.
func CheckAddress(text string) error {
	if len(text) > 254 || strings.ContainsAny(text, "<>\r\n ") {
		return fmt.Errorf("%q is no e-mail address", text)
	}
	if err := mail.NewMsg().To(text); err != nil || !strings.Contains(text, "@") {
		return fmt.Errorf("%q is no e-mail address", text)
	}
	return nil
}

func (m *MailServer) client() (*mail.Client, error) {
	host, port, err := net.SplitHostPort(m.Address)
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(mailWait), mail.WithoutNoop()}
	switch m.TLS {
	case "required":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case "offered":
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	case "implicit":
		options = append(options, mail.WithSSL())
	default:
		return nil, fmt.Errorf("%q is no way to keep mail secret; choose one of %s", m.TLS, strings.Join(MailTLS, ", "))
	}
	if m.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.User), mail.WithPassword(m.Password))
	}
	return mail.NewClient(host, options...)
}

// letter is what is mailed.
type letter struct {
	key, to, subject, text string
}

func (t *Teller) mail(ctx context.Context, l letter) error {
	if t.Mail == nil {
		return ErrNoMail
	}
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(m.FromFormat("Proud Sieve", t.Mail.From), m.To(l.to)); err != nil {
		return &PermanentError{err}
	}
	m.Subject(oneLine(l.subject))
	m.SetMessageIDWithValue(l.key + "@" + t.host()) // the same each time, by which a letter that comes twice is known
	m.SetDate()
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nothing answers it by itself
	m.SetBodyString(mail.TypeTextPlain, l.text)
	client, err := t.Mail.client()
	if err != nil {
		return err
	}
	if err := client.DialAndSendWithContext(ctx, m); err != nil {
		err = fmt.Errorf("%s did not take the letter: %w", t.Mail.Address, err)
		var refused *mail.SendError
		if errors.As(err, &refused) && refused.ErrorCode() >= 500 {
			return &PermanentError{err}
		}
		return err
	}
	return nil
}

func (t *Teller) host() string {
	if u, err := url.Parse(t.Address); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return "localhost"
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// Letter mails a notice to a person.
func (t *Teller) Letter(ctx context.Context, key, to string, n *records.Notice) error {
	text := n.Says + "\n\n" + t.link(n.Path) + "\n"
	if n.By != "" {
		text += "\nIt was done by " + n.By + ".\n"
	}
	text += "\n-- \nYou chose to be told of this. To choose otherwise: " + t.link("/notices") + "\n"
	return t.mail(ctx, letter{key: key, to: to, subject: subject(n), text: text})
}

// AnswerPath is before the link to the page of a sheet.
const AnswerPath = "/answer/"

// LinkTo is the way to the page of a sheet, from the beginning of the service's address.
func LinkTo(sheet *records.Sheet, secret []byte) string {
	return AnswerPath + access.Link{Sheet: sheet.ID, Serial: sheet.LinkSerial, Ends: sheet.LinkEnds}.Text(secret)
}

// Questions mails a sheet of questions, with the link that leads to it, to who is asked.
func (t *Teller) Questions(ctx context.Context, key, to string, sheet *records.Sheet, link string, again bool) error {
	text := fmt.Sprintf("To %s\n\n", sheet.Recipient)
	if again {
		text += "These questions were asked before, and some are not answered yet.\n\n"
	}
	if sheet.Says != "" {
		text += sheet.Says + "\n\n"
	}
	text += fmt.Sprintf("%s asks %s about your data. Please answer by %s, here, without an account:\n\n%s\n\nThe page has the questions as a workbook and as CSV as well. Whoever has the link can answer, until %s.\n",
		sheet.CreatedBy, document.Counted(sheet.Questions, "question", "questions"), sheet.Due, t.link(link), sheet.LinkEnds.UTC().Format(time.DateOnly))
	return t.mail(ctx, letter{key: key, to: to, subject: sheet.Title, text: text})
}
