// Package servicetest starts services for tests, with people of every role.
package servicetest

import (
	"context"
	"log/slog"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"

	"proudsieve/client"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/files/standin"
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
	if share := os.Getenv(badBucket); share != "" && o.Bucket == nil {
		fails, err := strconv.ParseFloat(share, 64)
		if err != nil {
			t.Fatal(err)
		}
		var server *standin.Server
		server, o.Bucket = Bucket(t)
		server.Trouble(fails, 1)
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

// badBucket is a variable of the environment: where it has a share, as 0.02, each service under test has its files in a bucket of a
// server that fails with that share of the requests.
const badBucket = "TEST_BAD_BUCKET"

// Bucket starts a stand-in for a server with a bucket, and returns it with the options of a service whose files are there.
func Bucket(t testing.TB) (*standin.Server, *files.BucketOptions) {
	t.Helper()
	s, err := standin.Start("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	return s, &files.BucketOptions{Server: s.URL, Name: standin.Bucket, KeyID: standin.KeyID, Secret: standin.Secret, Cache: 64 << 20}
}

// NeedsDirectory skips a test of what is in a directory where files are in buckets.
func NeedsDirectory(t testing.TB) {
	t.Helper()
	if os.Getenv(badBucket) != "" {
		t.Skip("it looks into the directory of the files")
	}
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
