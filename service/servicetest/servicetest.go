// Package servicetest starts services for tests, with people of every role.
package servicetest

import (
	"context"
	"log/slog"
	"os"
	"strings"
	"sync"
	"testing"

	"proudsieve/client"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/access"
)

// Quiet is a log that says nothing, but for what went wrong in a test that fails.
func Quiet(t testing.TB) *slog.Logger {
	said := &kept{}
	t.Cleanup(func() {
		if t.Failed() {
			t.Log("the service logged:\n" + said.String())
		}
	})
	return slog.New(slog.NewTextHandler(said, &slog.HandlerOptions{Level: slog.LevelWarn}))
}

// kept holds what is logged from many places at once.
type kept struct {
	mu   sync.Mutex
	text strings.Builder
}

func (k *kept) Write(p []byte) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.text.Write(p)
}

func (k *kept) String() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.text.String()
}

// Running is a service under test.
type Running struct {
	URL       string
	Directory string
	Admin     *client.Client
	Steward   *client.Client // Mara
	Certifier *client.Client // Jonas
	Reader    *client.Client // Ines
}

// Start starts a service on a database of its own; change may alter its options.
func Start(t testing.TB, change func(*service.Options)) *Running {
	t.Helper()
	o := service.Options{DatabaseURL: postgrestest.Database(t), Directory: t.TempDir(), Listen: "127.0.0.1:0",
		Log: Quiet(t)}
	if change != nil {
		change(&o)
	}
	s, err := service.Start(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	r := &Running{URL: s.URL(), Directory: o.Directory}
	raw, err := os.ReadFile(service.TokenFile(o.Directory))
	if err != nil {
		t.Fatal(err)
	}
	r.Admin = &client.Client{Server: r.URL, Token: strings.TrimSpace(string(raw))}
	r.Steward = r.person(t, "Mara", access.Steward)
	r.Certifier = r.person(t, "Jonas", access.Certifier)
	r.Reader = r.person(t, "Ines", access.Reader)
	return r
}

func (r *Running) person(t testing.TB, name string, role access.Role) *client.Client {
	t.Helper()
	made, err := r.Admin.AddPerson(context.Background(),
		client.NewPersonBody{Name: name, Role: client.NewPersonBodyRole(role)})
	if err != nil {
		t.Fatal(err)
	}
	return &client.Client{Server: r.URL, Token: made.Secret}
}
