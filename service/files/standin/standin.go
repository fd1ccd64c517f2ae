// Package standin has a small stand-in, for tests and storms, for a server that keeps objects and speaks the protocol of S3, on
// loopback. It keeps them in memory, and can be made to fail as networks and servers do.
package standin

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"proudsieve/core/guard"
)

// What the stand-in lets in.
const (
	Bucket = "alder-vale"
	KeyID  = "SIEVE"
	Secret = "a-secret-of-the-stand-in"
)

// Server is a running stand-in with one bucket.
type Server struct {
	URL string

	objects http.Handler
	server  *http.Server
	failed  chan error

	mutex    sync.Mutex
	rand     *rand.Rand
	share    float64 // of requests that go wrong
	down     bool
	later    time.Duration // what its clock is ahead
	requests map[string]int
	headers  []http.Header
}

// Start starts a stand-in at an address.
func Start(address string) (*Server, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s := &Server{URL: "http://" + listener.Addr().String(), rand: rand.New(rand.NewPCG(1, 1)), requests: map[string]int{}, failed: make(chan error, 1)}
	memory := s3mem.New(s3mem.WithTimeSource(s))
	if err := memory.CreateBucket(Bucket); err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	s.objects = gofakes3.New(memory, gofakes3.WithTimeSource(s), gofakes3.WithTimeSkewLimit(0)).Server()
	s.server = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	guard.Go(func() error { return s.server.Serve(listener) }, func(err error) { s.failed <- err })
	return s, nil
}

// Stop ends it; what it kept is gone.
func (s *Server) Stop() error {
	err := s.server.Close()
	if ended := <-s.failed; !errors.Is(ended, http.ErrServerClosed) {
		err = errors.Join(err, ended)
	}
	return err
}

// Trouble makes a share of the requests go wrong from now on, by a seed: connections that are lost before or after the
// request was carried out, or in the middle of the answer; refusals; delays.
func (s *Server) Trouble(share float64, seed uint64) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.share, s.rand = share, rand.New(rand.NewPCG(seed, 2))
}

// Down loses every connection, until it is up again.
func (s *Server) Down(down bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.down = down
}

// Earlier moves the stand-in's clock back for what is kept from now on, so that it has rested that long.
func (s *Server) Earlier(by time.Duration) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.later = -by
}

// Requests are how many requests of each method came, and were carried out.
func (s *Server) Requests() map[string]int {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return maps.Clone(s.requests)
}

// Headers are those of the requests that wrote something.
func (s *Server) Headers() []http.Header {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.headers
}

// Now implements gofakes3.TimeSource.
func (s *Server) Now() time.Time {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return time.Now().Add(s.later)
}

// Since implements gofakes3.TimeSource.
func (s *Server) Since(t time.Time) time.Duration { return s.Now().Sub(t) }

// wrong are the ways in which a request goes wrong.
type wrong int

const (
	well wrong = iota
	lostBefore
	lostAfter
	cutOff
	refused
	slow
	wrongs
)

func (s *Server) draw() wrong {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	switch {
	case s.down:
		return lostBefore
	case s.rand.Float64() >= s.share:
		return well
	}
	return 1 + wrong(s.rand.IntN(int(wrongs-1)))
}

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !strings.Contains(r.Header.Get("Authorization"), "Credential="+KeyID+"/") {
		refuse(w, http.StatusForbidden, "AccessDenied")
		return
	}
	if strings.HasPrefix(r.Header.Get(payload), "STREAMING-") {
		if err := unchunk(r); err != nil {
			refuse(w, http.StatusBadRequest, "IncompleteBody")
			return
		}
	}
	how := s.draw()
	switch how {
	case lostBefore:
		panic(http.ErrAbortHandler)
	case refused:
		refuse(w, http.StatusServiceUnavailable, "SlowDown")
		return
	case slow:
		time.Sleep(200 * time.Millisecond)
	}
	s.mutex.Lock()
	s.requests[r.Method]++
	if r.Method == http.MethodPut || r.Method == http.MethodPost {
		s.headers = append(s.headers, r.Header.Clone())
	}
	s.mutex.Unlock()
	if how == well || how == slow {
		s.objects.ServeHTTP(w, r)
		return
	}
	answer := httptest.NewRecorder()
	s.objects.ServeHTTP(answer, r)
	if how == cutOff {
		maps.Copy(w.Header(), answer.Header())
		w.Header().Set("Content-Length", fmt.Sprint(answer.Body.Len()))
		w.WriteHeader(answer.Code)
		_, _ = w.Write(answer.Body.Bytes()[:answer.Body.Len()/2])
	}
	panic(http.ErrAbortHandler)
}

// payload is the header that says how a body is signed.
const payload = "X-Amz-Content-Sha256"

// unchunk takes the signatures out of a body that is signed by chunks, each of them a line with its length in hexadecimal digits and
// its signature, its bytes, and the end of a line.
func unchunk(r *http.Request) error {
	in, body := bufio.NewReader(r.Body), new(bytes.Buffer)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return err
		}
		length, _, _ := strings.Cut(line, ";")
		n, err := strconv.ParseInt(length, 16, 32)
		if err != nil {
			return err
		}
		if _, err := io.CopyN(body, in, n); err != nil {
			return err
		}
		if _, err := in.Discard(len("\r\n")); err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	r.Body, r.ContentLength = io.NopCloser(body), int64(body.Len())
	r.Header.Set("Content-Length", strconv.Itoa(body.Len()))
	r.Header.Set(payload, "UNSIGNED-PAYLOAD")
	return nil
}

func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?><Error><Code>%s</Code><Message>refused by the stand-in</Message></Error>`, code)
}
