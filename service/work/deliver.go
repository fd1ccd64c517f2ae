package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/service/files"
	"proudsieve/service/store"
)

// TakenIn is what became of bytes that arrived.
type TakenIn struct {
	Table *store.Table
	Job   *store.Job // its audit; nil where the bytes were known
	Known bool       // the dataset had a delivery with these bytes already
}

// TakeIn records a delivery whose bytes are kept, and queues its audit. The same bytes
// twice are recognised.
func (p *Pool) TakeIn(ctx context.Context, person int64, t store.NewTable, dataset string) (*TakenIn, error) {
	known := func() (*TakenIn, error) {
		found, err := store.DeliveryWith(ctx, p.store.DB, t.DatasetID, t.Digest)
		if err != nil {
			return nil, err
		}
		return &TakenIn{Table: found, Known: true}, nil
	}
	if taken, err := known(); !errors.Is(err, store.ErrNotFound) {
		return taken, err
	}
	out := &TakenIn{}
	err := p.store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		if out.Table, err = store.AddTable(ctx, tx, t); err != nil {
			return err
		}
		if out.Job, err = p.AddAudit(ctx, tx, out.Table, person); err != nil {
			return err
		}
		return store.Record(ctx, tx, person, "took in a delivery", fmt.Sprintf("table %d of %s", out.Table.ID, dataset), map[string]any{"sha256": t.Digest, "file": t.FileName})
	})
	if errors.Is(err, store.ErrConflict) { // somebody sent the same bytes at the same time
		return known()
	}
	return out, err
}

// FetchOf is the detail of a fetch job.
type FetchOf struct {
	Fetch int64 `json:"fetch"`
}

// AddFetchJob records and queues one fetch.
func (p *Pool) AddFetchJob(ctx context.Context, tx *sqlx.Tx, f *store.Fetch, person int64) (*store.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: store.JobFetch, DatasetID: f.DatasetID, Detail: FetchOf{f.ID}, CreatedBy: person})
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

// ErrPrivateAddress says that a fetch would reach into a network of its own.
var ErrPrivateAddress = errors.New("the address leads to this machine or a private network, which the service does not fetch from; start it with --fetch-private if it may")

// fetcher returns a client that keeps away from private networks unless it may reach
// them. The address is checked once it is resolved, so that no name hides one.
func (p *Pool) fetcher() *http.Client {
	dialer := &net.Dialer{Timeout: 15 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		ip := at.Addr().Unmap()
		if !p.FetchPrivate && (ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() || ip.IsUnspecified() || ip.IsMulticast()) {
			return ErrPrivateAddress
		}
		return nil
	}}
	return &http.Client{
		Timeout:   fetchLongest,
		Transport: &http.Transport{DialContext: dialer.DialContext, ResponseHeaderTimeout: fetchHeaderWait, TLSHandshakeTimeout: fetchHeaderWait, DisableCompression: true},
		CheckRedirect: func(request *http.Request, via []*http.Request) error {
			if len(via) >= fetchRedirects {
				return fmt.Errorf("the address was passed on more than %d times", fetchRedirects)
			}
			return CheckAddress(request.URL.String())
		},
	}
}

// fetch asks an address for a new delivery, unless it says that nothing is new.
func (a *attempt) fetch(ctx context.Context) error {
	var detail FetchOf
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil {
		return err
	}
	f, err := store.FindFetch(ctx, a.store.DB, detail.Fetch)
	if err != nil {
		return err
	}
	outcome, message, marks, table, err := a.fetchOnce(ctx, f)
	if err != nil {
		if ctx.Err() == nil {
			return errors.Join(err, store.RecordFetch(ctx, a.store.DB, f.ID, "failed", err.Error(), "", "", nil))
		}
		return err
	}
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) {
		return map[string]string{"outcome": outcome, "message": message}, table, store.RecordFetch(ctx, tx, f.ID, outcome, message, marks[0], marks[1], table)
	})
}

func (a *attempt) fetchOnce(ctx context.Context, f *store.Fetch) (outcome, message string, marks [2]string, table *int64, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, f.Address, nil)
	if err != nil {
		return "", "", marks, nil, err
	}
	request.Header.Set("User-Agent", "proudsieve")
	if f.ETag != "" {
		request.Header.Set("If-None-Match", f.ETag)
	}
	if f.LastModified != "" {
		request.Header.Set("If-Modified-Since", f.LastModified)
	}
	response, err := a.fetcher().Do(request)
	if err != nil {
		return "", "", marks, nil, fmt.Errorf("%s could not be reached: %w", f.Address, err)
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode == http.StatusNotModified:
		return "unchanged", "Nothing is new there.", marks, nil, nil
	case response.StatusCode != http.StatusOK:
		return "", "", marks, nil, fmt.Errorf("%s answered %s; check the address, or ask its owner", f.Address, response.Status)
	}
	a.total = max(response.ContentLength, 0)
	in := &told{in: io.LimitReader(response.Body, a.UploadLimit+1), tell: func(n int64) { a.progress(n, 0) }}
	digest, bytes, err := a.files.Put(ctx, in)
	switch {
	case errors.Is(err, files.ErrNothing):
		return "", "", marks, nil, fmt.Errorf("%s answered with nothing; nothing was kept", f.Address)
	case err != nil:
		return "", "", marks, nil, fmt.Errorf("%s was cut off: %w; nothing was kept", f.Address, err)
	case bytes > a.UploadLimit:
		return "", "", marks, nil, fmt.Errorf("%s holds more than the %d bytes that this service takes in", f.Address, a.UploadLimit)
	}
	taken, err := a.TakeIn(ctx, f.CreatedByID, store.NewTable{DatasetID: f.DatasetID, Origin: store.OriginDelivery, Digest: digest, Bytes: bytes,
		FileName: fileName(response), Source: withAddress(f), CreatedBy: f.CreatedByID}, f.Dataset)
	if err != nil {
		return "", "", marks, nil, err
	}
	marks = [2]string{response.Header.Get("ETag"), response.Header.Get("Last-Modified")}
	if taken.Known {
		return "known", fmt.Sprintf("The bytes arrived before, as delivery %d.", taken.Table.ID), marks, &taken.Table.ID, nil
	}
	return "delivered", fmt.Sprintf("Delivery %d of %s is kept, and its audit is queued.", taken.Table.ID, f.Dataset), marks, &taken.Table.ID, nil
}

// told tells how many bytes were read.
type told struct {
	in   io.Reader
	tell func(int64)
	n    int64
}

// Read implements io.Reader.
func (t *told) Read(b []byte) (int, error) {
	n, err := t.in.Read(b)
	t.n += int64(n)
	t.tell(t.n)
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

// withAddress adds the address to what is known of the source.
func withAddress(f *store.Fetch) json.RawMessage {
	known := map[string]string{}
	_ = json.Unmarshal(f.Source, &known)
	known["address"] = f.Address
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
// root, once it has not changed for a moment. The files stay where they are.
func (p *Pool) Watch(ctx context.Context, root string, person int64) {
	seen := map[string]time.Time{} // path to the change that was taken in
	ticker := time.NewTicker(watchEvery)
	defer ticker.Stop()
	for {
		paths, err := filepath.Glob(filepath.Join(root, "*", "*"))
		if err != nil {
			p.log.Warn("the watched folder cannot be read", "folder", root, "error", err)
			return
		}
		for _, path := range paths {
			info, err := os.Lstat(path)
			if err != nil || !info.Mode().IsRegular() || info.Size() == 0 || strings.HasPrefix(info.Name(), ".") || time.Since(info.ModTime()) < watchSettled || seen[path].Equal(info.ModTime()) {
				continue
			}
			if err := p.takeFile(ctx, path, person); err != nil {
				p.log.Warn("a file of the watched folder was not taken in", "file", path, "error", err)
			}
			seen[path] = info.ModTime()
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

func (p *Pool) takeFile(ctx context.Context, path string, person int64) error {
	name := filepath.Base(filepath.Dir(path))
	dataset, err := store.FindDataset(ctx, p.store.DB, name)
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("there is no dataset %q; make it first, or rename the folder", name)
	}
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	digest, bytes, err := p.files.Put(ctx, f)
	if err != nil {
		return err
	}
	source, err := json.Marshal(map[string]string{"address": path})
	if err != nil {
		return err
	}
	taken, err := p.TakeIn(ctx, person, store.NewTable{DatasetID: dataset.ID, Origin: store.OriginDelivery, Digest: digest, Bytes: bytes,
		FileName: strings.ToValidUTF8(filepath.Base(path), "?"), Source: source, CreatedBy: person}, dataset.Name)
	if err == nil && !taken.Known {
		p.log.Info("a file of the watched folder was taken in", "file", path, "table", taken.Table.ID)
	}
	return err
}
