package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/intake/content"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// fetchKind is the kind of job that asks an address for a new delivery.
const fetchKind = "fetch"

func init() {
	register(kind{queue: fetchQueue, bytes: fetchBytes, work: fetch}, func(j ofJob) fetchArgs { return fetchArgs{j} })
}

// fetchArgs are what the queue carries for a fetch.
type fetchArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (fetchArgs) Kind() string { return fetchKind }

// fetchOf is the detail of a fetch job.
type fetchOf struct {
	Fetch int64 `json:"fetch"`
}

// AddFetchJob records and queues one fetch.
func (p *Pool) AddFetchJob(ctx context.Context, tx *sqlx.Tx, f *records.Fetch, person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: fetchKind, DatasetID: f.DatasetID, Detail: fetchOf{f.ID},
		CreatedBy: person})
}

// fetchDue queues the fetches that are due.
func (p *Pool) fetchDue(ctx context.Context) error {
	return p.store.Do(ctx, func(tx *sqlx.Tx) error {
		due, err := store.DueFetches(ctx, tx)
		if err != nil {
			return err
		}
		for i := range due {
			if _, err := p.AddFetchJob(ctx, tx, &due[i], due[i].CreatedByID); err != nil {
				return err
			}
		}
		return nil
	})
}

const (
	fetchHeaderWait = 30 * time.Second
	fetchLongest    = 6 * time.Hour
	fetchRedirects  = 5
	// fetchSlowest is how many bytes an address must send in each fetchWindow.
	fetchSlowest = 64 << 10
	fetchWindow  = time.Minute
)

// CheckAddress says what is wrong with an address to fetch from.
func CheckAddress(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "":
		return fmt.Errorf("%q is no web address; write it as https://host/path", address)
	case u.Scheme != "http" && u.Scheme != "https":
		return fmt.Errorf("%q cannot be fetched from: only http and https addresses can", address)
	case u.User != nil:
		return fmt.Errorf("the address holds a name or password, which would be shown with it; leave them out")
	}
	return nil
}

// ErrPrivateAddress says that a fetch, or what is told to a receiver, would reach into a network of its own.
var ErrPrivateAddress = errors.New("the address leads to this machine or a private network, which the service keeps away from; start it with --fetch-private if it may fetch there, and with --tell-private if receivers may be there")

// special are the networks that are no place in the public internet: IANA's registries of
// special-purpose addresses for IPv4 (RFC 6890) and IPv6, with multicast and what was used
// before. Those that carry an IPv4 address within are among them, so that none hides there.
var special = sync.OnceValue(func() []netip.Prefix {
	var out []netip.Prefix
	for _, text := range strings.Fields(`
		0.0.0.0/8 10.0.0.0/8 100.64.0.0/10 127.0.0.0/8 169.254.0.0/16 172.16.0.0/12 192.0.0.0/24 192.0.2.0/24 192.31.196.0/24
		192.52.193.0/24 192.88.99.0/24 192.168.0.0/16 192.175.48.0/24 198.18.0.0/15 198.51.100.0/24 203.0.113.0/24 224.0.0.0/4 240.0.0.0/4
		::/96 64:ff9b::/96 64:ff9b:1::/48 100::/64 100:0:0:1::/64 2001::/23 2001:db8::/32 2002::/16 2620:4f:8000::/48 3fff::/20
		5f00::/16 fc00::/7 fe80::/10 fec0::/10 ff00::/8`) {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
})

// public reports whether an address is a place in the public internet.
func public(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	return ip.IsValid() && !slices.ContainsFunc(special(), func(p netip.Prefix) bool { return p.Contains(ip) })
}

// fetching is how addresses are asked: through one client, which keeps no connection open.
type fetching struct {
	once   sync.Once
	client *http.Client
}

// transport keeps away from private networks unless it may reach them. An address is judged once it is resolved, so that no name
// hides one.
func transport(private bool) *http.Transport {
	dialer := &net.Dialer{Timeout: 15 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		if !private && !public(at.Addr()) {
			return ErrPrivateAddress
		}
		return nil
	}}
	return &http.Transport{DialContext: dialer.DialContext, ResponseHeaderTimeout: fetchHeaderWait, TLSHandshakeTimeout: fetchHeaderWait,
		DisableCompression: true, DisableKeepAlives: true, MaxConnsPerHost: fetchesAtOnce, MaxResponseHeaderBytes: 1 << 16}
}

// fetcher returns the client that addresses are asked through; each that it passes on to is judged as well.
func (p *Pool) fetcher() *http.Client {
	p.fetching.once.Do(func() {
		p.fetching.client = &http.Client{
			Timeout:   fetchLongest,
			Transport: transport(p.FetchPrivate),
			CheckRedirect: func(request *http.Request, via []*http.Request) error {
				if len(via) >= fetchRedirects {
					return fmt.Errorf("the address was passed on more than %d times", fetchRedirects)
				}
				return CheckAddress(request.URL.String())
			},
		}
	})
	return p.fetching.client
}

// Poster returns a client for receivers, which may be in private networks where private is true. It does not go where it is passed
// on to: nobody declared that.
func Poster(private bool) *http.Client {
	return &http.Client{Timeout: sendLongest, Transport: transport(private),
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// fetch asks an address for a new delivery, unless it says that nothing is new.
func fetch(ctx context.Context, a *attempt) error {
	var detail fetchOf
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil {
		return err
	}
	f, err := store.FindFetch(ctx, a.store.DB, detail.Fetch)
	if err != nil {
		return err
	}
	done, err := a.fetchOnce(ctx, f)
	if err != nil {
		if ctx.Err() == nil {
			return errors.Join(err, store.RecordFetch(ctx, a.store.DB, f.ID,
				&store.Fetched{Outcome: "failed", Message: err.Error()}),
				store.Record(ctx, a.store.DB, a.job.CreatedByID, "fetched from an address", "dataset "+f.Dataset,
					map[string]any{"address": f.Address, "outcome": "failed"}))
		}
		return err
	}
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) {
		err := store.RecordFetch(ctx, tx, f.ID, done)
		if err == nil {
			err = store.Record(ctx, tx, a.job.CreatedByID, "fetched from an address", "dataset "+f.Dataset,
				map[string]any{"address": f.Address, "outcome": done.Outcome})
		}
		return map[string]string{"outcome": done.Outcome, "message": done.Message}, done.TableID, err
	})
}

func (a *attempt) fetchOnce(ctx context.Context, f *records.Fetch) (*store.Fetched, error) {
	switch {
	case f.InPlace:
		return a.identify(ctx, f)
	case f.Database != "":
		return a.takeFrom(ctx, f)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, f.Address, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("User-Agent", "proudsieve")
	if f.ETag != "" {
		request.Header.Set("If-None-Match", f.ETag)
	}
	if f.LastModified != "" {
		request.Header.Set("If-Modified-Since", f.LastModified)
	}
	client, err := a.letIn(ctx, request)
	if err != nil {
		return nil, err
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, fmt.Errorf("%s could not be reached: %w", f.Address, err)
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode == http.StatusNotModified:
		return &store.Fetched{Outcome: "unchanged", Message: "Nothing is new there."}, nil
	case response.StatusCode == http.StatusUnauthorized, response.StatusCode == http.StatusForbidden:
		return nil, fmt.Errorf("%s answered %s: it wants to know who asks, or this one may not; an administrator declares the credential of a host", f.Address, response.Status)
	case response.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("%s answered %s; check the address, or ask its owner", f.Address, response.Status)
	}
	a.total.Store(max(response.ContentLength, 0))
	in := &told{counted: counted{in: response.Body, tell: func(n int64) { a.progress(n, 0) }}, most: a.UploadLimit}
	kept, err := a.Receive(ctx, in)
	switch {
	case errors.Is(err, files.ErrNothing):
		return nil, fmt.Errorf("%s answered with nothing; nothing was kept", f.Address)
	case errors.Is(err, errTooLarge):
		return nil, fmt.Errorf("%s holds more than the %d bytes that this service takes in; nothing was kept",
			f.Address, a.UploadLimit)
	case errors.Is(err, content.ErrWebPage), errors.Is(err, errTooSlow):
		return nil, fmt.Errorf("%s: %w; nothing was kept", f.Address, err)
	case err != nil:
		return nil, fmt.Errorf("%s was cut off: %w; nothing was kept", f.Address, err)
	}
	defer kept.Close()
	done, err := a.deliver(ctx, f, kept, fileName(response), nil)
	if err == nil {
		done.ETag, done.LastModified = response.Header.Get("ETag"), response.Header.Get("Last-Modified")
	}
	return done, err
}

// deliver makes a delivery of what was fetched; beside it stands what more is known of the source.
func (a *attempt) deliver(ctx context.Context, f *records.Fetch, kept *files.Kept, name string, more map[string]any) (*store.Fetched, error) {
	taken, err := a.TakeIn(ctx, f.CreatedByID, store.NewTable{DatasetID: f.DatasetID, Origin: store.OriginDelivery, Digest: kept.Digest, Bytes: kept.Bytes,
		FileName: name, Source: withAddress(f, more), CreatedBy: f.CreatedByID}, f.Dataset)
	if err != nil {
		return nil, err
	}
	if taken.Known {
		return &store.Fetched{Outcome: "known", TableID: &taken.Table.ID, Message: fmt.Sprintf("The bytes arrived before, as delivery %d.", taken.Table.ID)}, nil
	}
	return &store.Fetched{Outcome: "delivered", TableID: &taken.Table.ID,
		Message: fmt.Sprintf("Delivery %d of %s is kept, and its audit is queued.", taken.Table.ID, f.Dataset)}, nil
}

var (
	errTooLarge = errors.New("it is too large")
	errTooSlow  = fmt.Errorf("it sent less than %d bytes in %s", fetchSlowest, fetchWindow)
)

// counted tells how many bytes were read.
type counted struct {
	in   io.Reader
	tell func(int64)
	n    int64
}

// Read implements io.Reader.
func (c *counted) Read(b []byte) (int, error) {
	n, err := c.in.Read(b)
	c.n += int64(n)
	c.tell(c.n)
	return n, err
}

// told is counted that ends where there are too many bytes, or they come too slowly.
type told struct {
	counted
	most   int64
	window time.Time // when it began
	before int64     // bytes read by then
}

// Read implements io.Reader.
func (t *told) Read(b []byte) (int, error) {
	n, err := t.counted.Read(b)
	if t.n > t.most {
		return n, errTooLarge
	}
	switch now := time.Now(); {
	case t.window.IsZero():
		t.window = now
	case now.Sub(t.window) > fetchWindow && err == nil:
		if t.n-t.before < fetchSlowest {
			return n, errTooSlow
		}
		t.window, t.before = now, t.n
	}
	return n, err
}

// fileName is the last part of the address that answered.
func fileName(response *http.Response) string {
	name := path.Base(response.Request.URL.Path)
	if name == "." || name == "/" || name == "" {
		name = "fetched"
	}
	return strings.ToValidUTF8(name, "?")
}

// withAddress adds the address, and what more is known, to what was said of the source.
func withAddress(f *records.Fetch, more map[string]any) json.RawMessage {
	known := map[string]any{}
	_ = json.Unmarshal(f.Source, &known)
	known["address"] = f.Address
	maps.Copy(known, more)
	raw, err := json.Marshal(known)
	if err != nil {
		return f.Source
	}
	return raw
}

const (
	watchEvery = 2 * time.Second
	// watchSettled is how long a file must not have changed before it is taken in.
	watchSettled = 3 * time.Second
)

// Watch takes in every file that is put into a folder with the name of a dataset under
// root, once it has not changed for a moment. The files stay where they are. A file whose
// dataset is not there yet is taken in when it is. Nothing outside of root is opened, and no
// link is followed.
func (p *Pool) Watch(ctx context.Context, root string, person int64) error {
	w := &watching{Pool: p, root: root, person: person, seen: map[string]time.Time{}, told: map[string]string{}}
	return p.every(ctx, watchEvery, "the watched folder "+root+" cannot be read", w.look)
}

type watching struct {
	*Pool
	root   string
	person int64
	seen   map[string]time.Time // path to the change that was taken in
	told   map[string]string    // path to what was said of it last
}

// look goes through the folder once.
func (w *watching) look(ctx context.Context) error {
	root, err := os.OpenRoot(w.root)
	if err != nil {
		return err
	}
	defer root.Close()
	folders, err := fs.ReadDir(root.FS(), ".")
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, folder := range folders {
		if !folder.IsDir() || strings.HasPrefix(folder.Name(), ".") { // a link to a directory is none
			continue
		}
		entries, err := fs.ReadDir(root.FS(), folder.Name())
		if err != nil {
			w.say(folder.Name(), err)
			continue
		}
		for _, e := range entries {
			path := folder.Name() + "/" + e.Name()
			info, err := root.Lstat(path)
			if err != nil || !info.Mode().IsRegular() || info.Size() == 0 || strings.HasPrefix(e.Name(), ".") {
				continue
			}
			there[path] = true
			if time.Since(info.ModTime()) < watchSettled || w.seen[path].Equal(info.ModTime()) {
				continue
			}
			if err := w.take(ctx, root, folder.Name(), path); err != nil {
				w.say(path, err)
				continue // until what keeps it out is gone
			}
			w.seen[path] = info.ModTime()
		}
	}
	maps.DeleteFunc(w.seen, func(path string, _ time.Time) bool { return !there[path] })
	return ctx.Err()
}

// say logs why a file was not taken in, once for each reason.
func (w *watching) say(path string, err error) {
	if w.told[path] != err.Error() {
		w.told[path] = err.Error()
		w.log.Warn("a file of the watched folder is not taken in yet", "file", filepath.Join(w.root, path), "error",
			err)
	}
}

func (w *watching) take(ctx context.Context, root *os.Root, folder, path string) error {
	dataset, err := store.FindDataset(ctx, w.store.DB, folder)
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("there is no dataset %q; make it, or rename the folder", folder)
	}
	if err != nil {
		return err
	}
	f, err := root.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	opened, err := f.Stat()
	if err != nil {
		return err
	}
	if named, err := root.Lstat(path); err != nil || !os.SameFile(opened, named) {
		return errors.Join(errors.New("it was replaced while it was opened"), err)
	}
	kept, err := w.Receive(ctx, &told{counted: counted{in: f, tell: func(int64) {}}, most: w.UploadLimit})
	if err != nil {
		return err
	}
	defer kept.Close()
	source, err := json.Marshal(map[string]string{"address": filepath.Join(w.root, path)})
	if err != nil {
		return err
	}
	taken, err := w.TakeIn(ctx, w.person, store.NewTable{DatasetID: dataset.ID, Origin: store.OriginDelivery,
		Digest: kept.Digest, Bytes: kept.Bytes,
		FileName: strings.ToValidUTF8(filepath.Base(path), "?"), Source: source, CreatedBy: w.person}, dataset.Name)
	if err == nil && !taken.Known {
		w.log.Info("a file of the watched folder was taken in", "file", filepath.Join(w.root, path), "table",
			taken.Table.ID)
	}
	return err
}
