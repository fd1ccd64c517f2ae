package cli

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strconv"

	"proudsieve/client"
	"proudsieve/durable"
	"proudsieve/service"
	"proudsieve/service/access"
	identities "proudsieve/service/provider"
	provider "proudsieve/service/provider/standin"
	"proudsieve/service/telling"
	"proudsieve/service/telling/standin"
)

// standIns stand in, in the demo, for a mail server, a program that is told of what happens and a provider of identities.
type standIns struct {
	provider  *provider.Provider // nil where the service has one of its own
	directory string             // where what they receive is kept
	mail      *standin.Mail
	receiver  *standin.Receiver
}

const (
	standInReceiver = "stand-in"
	freePort        = "127.0.0.1:0"
)

// startStandIns starts them on the two ports after the service's, or on free ones where the service takes a free one, and has the
// service send its letters there unless it has a mail server.
func startStandIns(o *service.Options) (*standIns, error) {
	s := &standIns{directory: filepath.Join(o.Directory, "stand-ins")}
	letters, events := filepath.Join(s.directory, "letters"), filepath.Join(s.directory, "events")
	if err := errors.Join(os.MkdirAll(letters, 0o700), os.MkdirAll(events, 0o700)); err != nil {
		return nil, err
	}
	after := func(n int) string {
		_, port, err := net.SplitHostPort(o.Listen)
		number, numberErr := strconv.Atoi(port)
		if err != nil || numberErr != nil || number == 0 {
			return freePort
		}
		return net.JoinHostPort("127.0.0.1", strconv.Itoa(number+n))
	}
	var err error
	if s.mail, err = standin.StartMail(after(1), letters); err != nil { // something else is there
		s.mail, err = standin.StartMail(freePort, letters)
	}
	if err != nil {
		return nil, err
	}
	if s.receiver, err = standin.StartReceiver(after(2), events); err != nil {
		s.receiver, err = standin.StartReceiver(freePort, events)
	}
	if err != nil {
		return nil, errors.Join(err, s.mail.Stop())
	}
	if o.Mail == nil {
		o.Mail = &telling.MailServer{Address: s.mail.Address, From: "sieve@alder-vale.example"}
	}
	o.TellPrivate = true
	if o.Provider == nil {
		if err := s.offerPeople(o, after(3)); err != nil {
			return nil, errors.Join(err, s.mail.Stop(), s.receiver.Stop())
		}
	}
	return s, o.Mail.Check()
}

func (s *standIns) stop() {
	if s.provider != nil {
		s.provider.Close()
	}
	_ = errors.Join(s.mail.Stop(), s.receiver.Stop())
}

// wordFile has the word by which one comes in at the stand-in for a provider.
func (s *standIns) wordFile() string { return filepath.Join(s.directory, "provider-word") }

// offerPeople starts a stand-in for a provider of identities, by which made-up people come in: for all datasets, and for one alone.
func (s *standIns) offerPeople(o *service.Options, address string) error {
	word, err := access.NewSecret("")
	if err != nil {
		return err
	}
	if err := durable.WriteFile(s.wordFile(), []byte(word+"\n"), 0o600); err != nil {
		return err
	}
	if s.provider, err = provider.StartAt(address, "proud-sieve", ""); err != nil {
		s.provider, err = provider.StartAt(freePort, "proud-sieve", "")
	}
	if err != nil {
		return err
	}
	s.provider.Offer([]map[string]any{
		{"sub": "nora", "name": "Nora Finch", "groups": []string{"survey-stewards"}},
		{"sub": "ivo", "name": "Ivo Tarn", "groups": []string{"highgarth"}},
		{"sub": "lena", "name": "Lena Brook", "groups": []string{"survey-readers"}},
	}, word)
	o.Provider = &identities.Settings{Title: "the survey office (a stand-in)", Issuer: s.provider.URL, Client: "proud-sieve",
		Roles:    map[string]access.Role{"survey-stewards": access.Steward, "highgarth": access.Steward, "survey-readers": access.Reader},
		Datasets: map[string][]string{"highgarth": {"highgarth_results"}}}
	return o.Provider.Check()
}

// introduce makes the service tell the receiver, which learns its secret.
func (s *standIns) introduce(ctx context.Context, p *private) error {
	admin, err := p.administrator()
	if err != nil {
		return err
	}
	all, err := admin.ListReceivers(ctx)
	if err != nil {
		return err
	}
	for _, r := range *all {
		if r.Name != standInReceiver {
			continue
		}
		if r.Address == s.receiver.Address {
			made, err := admin.RenewReceiver(ctx, r.ID)
			if err == nil {
				s.receiver.SetSecret(made.Secret)
			}
			return err
		}
		if err := admin.RemoveReceiver(ctx, r.ID); err != nil {
			return err
		}
	}
	made, err := admin.AddReceiver(ctx, client.NewReceiver{Name: standInReceiver, Address: s.receiver.Address})
	if err == nil {
		s.receiver.SetSecret(made.Secret)
	}
	return err
}
