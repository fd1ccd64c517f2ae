// Package service is the long-running service: records, files, jobs and the HTTP
// interface, put together.
package service

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/console"
	"proudsieve/core/guard"
	"proudsieve/durable"
	"proudsieve/service/access"
	"proudsieve/service/api"
	"proudsieve/service/files"
	"proudsieve/service/provider"
	"proudsieve/service/records"
	"proudsieve/service/signing"
	"proudsieve/service/store"
	"proudsieve/service/telemetry"
	"proudsieve/service/telling"
	"proudsieve/service/work"
)

// Options say where the service keeps things and where it listens.
type Options struct {
	DatabaseURL string
	Directory   string // of the signing key and the secrets, and of the file store where that is not a bucket
	// Bucket is the file store of nodes on several machines, each of which has a directory of its own; nil for the directory's.
	Bucket      *files.BucketOptions
	Listen      string // host:port; port 0 takes a free one
	UploadLimit int64  // bytes; 0 means DefaultUploadLimit
	// FetchPrivate says that addresses of this machine and of private networks may be fetched from.
	FetchPrivate bool
	Watch        string // a folder whose files are taken in, each into the dataset its folder names; empty for none
	// Names are the hosts by which the service is called, besides the loopback's own.
	Names []string
	// TrustedProxies are networks whose word is taken for whom a request comes from.
	TrustedProxies []netip.Prefix
	// Certificate and Key are files in PEM by which the service is reached over TLS; both or neither.
	Certificate, Key string
	// Address is by which people reach the service, for what is sent to them; empty for where it listens.
	Address string
	Mail    *telling.MailServer // takes letters; nil for none
	// TellPrivate says that receivers of notices may be at addresses of this machine and of private networks.
	TellPrivate bool
	Provider    *provider.Settings // lets in whom it knows; nil for none
	// ProviderSecret is the name, among the secrets of the node, of what the service proves to the provider who it is by; empty for none.
	ProviderSecret string
	// Telemetry is where traces and metrics are sent by OTLP over HTTP; empty for nowhere.
	Telemetry string
	// LargeBytes is from how many bytes on the tables of a job are large, and wait for a place of their own; 0 means work.DefaultLargeBytes.
	LargeBytes int64
	Stall      time.Duration // how long a job may make no progress; 0 means work.DefaultStall
	// Samples are made-up datasets that a person may bring to look around in.
	Samples []records.Sample
	Log     *slog.Logger
}

// DefaultUploadLimit is the largest delivery that is taken in, in bytes.
const DefaultUploadLimit = 64 << 30

// AdministratorName is whom the first token is made for.
const AdministratorName = "administrator"

// Service is a running service.
type Service struct {
	options  Options
	store    *store.Store
	files    files.Store
	pool     *work.Pool
	server   *http.Server
	listener net.Listener
	failed   chan error
	watching guard.Group
	unwatch  context.CancelFunc
	unserve  context.CancelFunc          // ends what is being answered
	untell   func(context.Context) error // ends the sending of traces and metrics; nil where none are sent
}

// Start starts the service. Where nobody has a token yet, one is made for an
// administrator and written into a file of mode 0600 beside the signing key.
func Start(ctx context.Context, o Options) (*Service, error) {
	if o.UploadLimit == 0 {
		o.UploadLimit = DefaultUploadLimit
	}
	s := &Service{options: o, failed: make(chan error, 1)}
	if err := s.start(ctx); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

func (s *Service) start(ctx context.Context) error {
	kept, err := OpenFiles(ctx, s.options.Directory, s.options.Bucket)
	if err != nil {
		return fmt.Errorf("opening the file store: %w", err)
	}
	s.files = kept
	if s.store, err = store.Open(ctx, s.options.DatabaseURL); err != nil {
		return err
	}
	if err := s.oneOfSeveral(ctx); err != nil {
		return err
	}
	key, err := signing.Open(ctx, s.store, KeyFile(s.options.Directory))
	if err != nil {
		return fmt.Errorf("reading the signing key: %w", err)
	}
	if err := s.firstToken(ctx); err != nil {
		return err
	}
	secret, err := ownSecret(SecretFile(s.options.Directory))
	if err != nil {
		return fmt.Errorf("reading the service's secret: %w", err)
	}
	if s.listener, err = net.Listen("tcp", s.options.Listen); err != nil {
		return fmt.Errorf("listening on %s: %w; choose another address with --listen", s.options.Listen, err)
	}
	if s.options.Telemetry != "" {
		node, _ := os.Hostname()
		if s.untell, err = telemetry.Start(ctx, s.options.Telemetry, fmt.Sprintf("%s %s", node, s.listener.Addr()), s.options.Log); err != nil {
			return err
		}
	}
	pool, err := work.NewPool(s.store, kept, s.options.Log)
	if err != nil {
		return err
	}
	pool.UploadLimit, pool.FetchPrivate, pool.Stall = s.options.UploadLimit, s.options.FetchPrivate, s.options.Stall
	pool.LargeBytes = cmp.Or(s.options.LargeBytes, work.DefaultLargeBytes)
	pool.Secrets = SecretsFolder(s.options.Directory)
	pool.Secret, pool.Teller = secret, &telling.Teller{Address: cmp.Or(s.options.Address, s.URL()), Mail: s.options.Mail, HTTP: work.Poster(s.options.TellPrivate)}
	if err := pool.Start(ctx); err != nil {
		return err
	}
	s.pool = pool
	if err := s.watch(ctx); err != nil {
		return err
	}
	pages, err := console.Handler()
	if err != nil {
		return err
	}
	secure, err := s.certificates()
	if err != nil {
		return err
	}
	var lets *provider.Provider
	if s.options.Provider != nil {
		if s.options.ProviderSecret != "" {
			if s.options.Provider.Secret, err = pool.NodeSecret(s.options.ProviderSecret); err != nil {
				return err
			}
		}
		lets = provider.New(*s.options.Provider, cmp.Or(s.options.Address, s.URL())+api.SignInDone, secret)
	}
	handler := (&api.Server{Provider: lets, Store: s.store, Files: kept, Pool: pool, Log: s.options.Log, Signing: key,
		Console: pages, UploadLimit: s.options.UploadLimit, Samples: s.options.Samples,
		Names: s.options.Names, TrustedProxies: s.options.TrustedProxies, Secure: secure != nil}).Handler()
	serving, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.unserve = cancel
	s.server = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 1 << 16, TLSConfig: secure,
		BaseContext: func(net.Listener) context.Context { return serving },
		ErrorLog:    slog.NewLogLogger(s.options.Log.Handler(), slog.LevelDebug)}
	serve := func() error { return s.server.Serve(s.listener) }
	if secure != nil {
		serve = func() error { return s.server.ServeTLS(s.listener, "", "") }
	}
	guard.Go(serve, func(err error) {
		if !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	})
	return nil
}

// OpenFiles opens the file store of a service by its data directory, or in a bucket.
func OpenFiles(ctx context.Context, directory string, bucket *files.BucketOptions) (files.Store, error) {
	if bucket == nil {
		return files.OpenDirectory(filepath.Join(directory, "files"))
	}
	o := *bucket
	o.Directory = filepath.Join(directory, "bucket")
	return files.OpenBucket(ctx, o)
}

// oneOfSeveral refuses a node that would sign with a key, or send links, of its own beside the other nodes of one database.
func (s *Service) oneOfSeveral(ctx context.Context) error {
	if s.options.Bucket == nil {
		return nil
	}
	if _, err := store.NewestSigningKey(ctx, s.store.DB); errors.Is(err, store.ErrNotFound) {
		return nil // the first one
	} else if err != nil {
		return err
	}
	for _, path := range []string{KeyFile(s.options.Directory), SecretFile(s.options.Directory)} {
		if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("%s is not there, and the other nodes of this database have theirs; copy %s and %s from the data directory of one of them (or from a backup), with mode 0600, and start again",
				path, KeyFile(""), SecretFile(""))
		} else if err != nil {
			return err
		}
	}
	return nil
}

// certificates reads what the service proves itself with; nil where it is reached without TLS.
func (s *Service) certificates() (*tls.Config, error) {
	if s.options.Certificate == "" && s.options.Key == "" {
		return nil, nil
	}
	if s.options.Certificate == "" || s.options.Key == "" {
		return nil, errors.New("TLS needs both a certificate and its key: --tls-certificate and --tls-key")
	}
	if _, err := durable.ReadSecret(s.options.Key); err != nil {
		return nil, fmt.Errorf("reading the key for TLS: %w", err)
	}
	pair, err := tls.LoadX509KeyPair(s.options.Certificate, s.options.Key)
	if err != nil {
		return nil, fmt.Errorf("reading the certificate for TLS: %w", err)
	}
	return &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12,
		NextProtos: []string{"h2", "http/1.1"}}, nil
}

// watch takes in the files of the watched folder, in the name of the administrator.
func (s *Service) watch(ctx context.Context) error {
	if s.options.Watch == "" {
		return nil
	}
	if info, err := os.Stat(s.options.Watch); err != nil || !info.IsDir() {
		return fmt.Errorf("%s is no folder that can be watched; make it first", s.options.Watch)
	}
	administrator, err := store.FindPerson(ctx, s.store.DB, AdministratorName)
	if err != nil {
		return err
	}
	watching, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.unwatch = cancel
	s.watching.Go(func() error { return s.pool.Watch(watching, s.options.Watch, administrator.ID) })
	return nil
}

// TokenFile is where the first administrator's token is.
func TokenFile(directory string) string { return filepath.Join(directory, "administrator-token") }

func (s *Service) firstToken(ctx context.Context) error {
	return s.store.Do(ctx, func(tx *sqlx.Tx) error {
		// The lock makes nodes that start together make one token.
		if _, err := tx.ExecContext(ctx, "LOCK TABLE people IN EXCLUSIVE MODE"); err != nil {
			return err
		}
		people, err := store.People(ctx, tx)
		if err != nil || len(people) > 0 {
			return err
		}
		person, err := store.AddPerson(ctx, tx, AdministratorName, access.Administrator)
		if err != nil {
			return err
		}
		secret, err := access.NewSecret("ps_")
		if err != nil {
			return err
		}
		if _, err := store.AddToken(ctx, tx, &store.NewToken{PersonID: person.ID, Hash: access.Hash(secret), Note: "made at the first start"}); err != nil {
			return err
		}
		return durable.WriteFile(TokenFile(s.options.Directory), []byte(secret+"\n"), 0o600)
	})
}

// KeyFile is where the key is that certificates are signed with.
func KeyFile(directory string) string { return filepath.Join(directory, "signing-key.json") }

// SecretsFolder is where a node has the passwords by which it reaches databases.
func SecretsFolder(directory string) string { return filepath.Join(directory, "secrets") }

// SecretFile is where the secret is that links to sheets and messages to receivers are signed with.
func SecretFile(directory string) string { return filepath.Join(directory, "service-secret") }

// ownSecret reads the secret of the service, which is made where there is none. Of several nodes that start together on one
// directory, the first one's counts.
func ownSecret(path string) ([]byte, error) {
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		made, err := access.NewSecret("")
		if err != nil {
			return nil, err
		}
		if err := durable.Create(path, []byte(made+"\n"), 0o600); err != nil && !errors.Is(err, os.ErrExist) {
			return nil, err
		}
	}
	return durable.ReadSecret(path)
}

// URL is the address of the console.
func (s *Service) URL() string {
	scheme := "http://"
	if s.options.Certificate != "" {
		scheme = "https://"
	}
	return scheme + s.listener.Addr().String()
}

// Wait waits until ctx ends or the service fails, and stops it.
func (s *Service) Wait(ctx context.Context) error {
	var err error
	select {
	case <-ctx.Done():
	case err = <-s.failed:
	}
	return errors.Join(err, s.Stop())
}

const (
	answersEnd = 5 * time.Second // how long requests have to end when the service stops
	jobsEnd    = 10 * time.Second
	// tellingEnds is how long the last traces and metrics may take.
	tellingEnds = 5 * time.Second
)

// Stop ends requests and jobs in order; jobs under way are taken up at the next start.
func (s *Service) Stop() error {
	var errs []error
	if s.server != nil {
		ctx, cancel := context.WithTimeout(context.Background(), answersEnd)
		defer cancel()
		if s.unserve != nil {
			defer s.unserve()
		}
		short, enough := context.WithTimeout(ctx, answersEnd/5)
		defer enough()
		if s.server.Shutdown(short) != nil {
			s.unserve() // those who follow jobs would stay for ever
		}
		if err := s.server.Shutdown(ctx); err != nil {
			errs = append(errs, s.server.Close()) // uploads that do not end by themselves
		}
	}
	if s.server == nil && s.listener != nil {
		errs = append(errs, s.listener.Close())
	}
	if s.unwatch != nil {
		s.unwatch()
		errs = append(errs, s.watching.Wait())
	}
	if s.pool != nil {
		ctx, cancel := context.WithTimeout(context.Background(), jobsEnd)
		defer cancel()
		errs = append(errs, s.pool.Stop(ctx))
	}
	if s.untell != nil {
		ctx, cancel := context.WithTimeout(context.Background(), tellingEnds)
		defer cancel()
		if err := s.untell(ctx); err != nil { // which nobody has to wait for
			s.options.Log.Warn("the last traces and metrics could not be sent", "error", err)
		}
	}
	if s.store != nil {
		errs = append(errs, s.store.Close())
	}
	if s.files != nil {
		errs = append(errs, s.files.Close())
	}
	return errors.Join(errs...)
}
