package files

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/encrypt"

	"proudsieve/durable"
)

// BucketOptions say which bucket of which server is the store, and what this node keeps of it on its own disk.
type BucketOptions struct {
	Server string // https://host:port of what speaks the protocol of S3; http only for this machine
	Name   string // of the bucket, which must be there
	Prefix string // of the names of all objects, as survey/files; may be empty
	Region string // empty lets the server say
	// KeyID and Secret are what this node signs its requests with.
	KeyID, Secret string
	// Encryption is how the server encrypts what it keeps: empty for what the bucket does by itself, AES256 for keys of the
	// server's, or kms: and the name of a key.
	Encryption string
	// Authority is a file in PEM with the certificates that the server's is held against, besides the system's; may be empty.
	Authority string
	// Directory is where this node takes bytes in and keeps what it read.
	Directory string
	// Cache is how many bytes of the store this node keeps on its disk, at least 64 MiB.
	Cache int64
	// Rest is how long bytes without a record rest before a sweep sets them aside, and again before it removes them; 0 means
	// UsualRest. No job may hold bytes that long before it records them.
	Rest time.Duration
}

// Usual settings of a bucket.
const (
	UsualRest  = 24 * time.Hour
	UsualCache = 16 << 30
)

// What one request may take: a server that takes longer is taken for away.
const (
	answers   = 20 * time.Second // until the answer begins
	tries     = 5
	sendTries = 3
	partBytes = 16 << 20
	partsOnce = 4
)

// Bucket is a store in a bucket of a server that speaks the protocol of S3, under the names that a Directory has. What is kept is
// taken in by a file of this node first, so that a connection that is lost loses nothing, and is read by blocks, which this node
// keeps for a while. Nodes agree by nothing but the objects: see Sweep.
type Bucket struct {
	options BucketOptions
	client  *minio.Client
	spool   *Directory
	cache   *cache
	encrypt encrypt.ServerSide
	// open ends with Close, and what is asked for nobody in particular with it.
	open  context.Context
	close context.CancelFunc
}

// Check says what the options lack, which needs no server.
func (o *BucketOptions) Check() error {
	u, err := url.Parse(o.Server)
	switch {
	case err != nil || u.Host == "" || u.Path != "" && u.Path != "/" || u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("the server of the bucket is %q; write it as https://store.example:9000", o.Server)
	case u.Scheme == "http" && !onThisMachine(u.Hostname()):
		return fmt.Errorf("the server of the bucket is asked over https, unless it is on this machine, and not as %s", o.Server)
	case o.KeyID == "" || o.Secret == "":
		return errors.New("the bucket needs a key: a file of mode 0600 with the key's id in its first line and its secret in the second, or PROUDSIEVE_BUCKET_KEY_ID and PROUDSIEVE_BUCKET_SECRET")
	case o.Cache < leastCache:
		return fmt.Errorf("at least %d bytes of the bucket are kept on the node's disk, and not %d", leastCache, o.Cache)
	}
	_, err = o.encryption()
	return err
}

func onThisMachine(host string) bool {
	return host == "localhost" || host == "::1" || strings.HasPrefix(host, "127.")
}

func (o *BucketOptions) encryption() (encrypt.ServerSide, error) {
	key, named := strings.CutPrefix(o.Encryption, "kms:")
	switch {
	case o.Encryption == "":
		return nil, nil
	case o.Encryption == "AES256":
		return encrypt.NewSSE(), nil
	case named && key != "":
		return encrypt.NewSSEKMS(key, nil)
	}
	return nil, fmt.Errorf("the bucket's encryption is %q; it is AES256, or kms: and the name of a key", o.Encryption)
}

// OpenBucket opens a store in a bucket, which must be there. The node's directory is made where it is not.
func OpenBucket(ctx context.Context, o BucketOptions) (*Bucket, error) {
	if o.Rest == 0 {
		o.Rest = UsualRest
	}
	if err := o.Check(); err != nil {
		return nil, err
	}
	if o.Prefix = strings.Trim(o.Prefix, "/"); o.Prefix != "" {
		o.Prefix += "/"
	}
	b := &Bucket{options: o}
	b.open, b.close = context.WithCancel(context.WithoutCancel(ctx))
	var err error
	if b.encrypt, err = o.encryption(); err != nil {
		return nil, err
	}
	u, err := url.Parse(o.Server)
	if err != nil {
		return nil, err
	}
	transport, err := o.transport(u.Scheme == "https")
	if err != nil {
		return nil, err
	}
	if b.client, err = minio.New(u.Host, &minio.Options{Creds: credentials.NewStaticV4(o.KeyID, o.Secret, ""), Secure: u.Scheme == "https",
		Region: o.Region, Transport: transport, BucketLookup: minio.BucketLookupPath, MaxRetries: tries}); err != nil {
		return nil, err
	}
	if b.spool, err = OpenDirectory(path.Join(o.Directory, "spool")); err != nil {
		return nil, err
	}
	if b.cache, err = openCache(path.Join(o.Directory, "cache"), o.Cache); err != nil {
		return nil, err
	}
	if err := b.reach(ctx); err != nil {
		return nil, errors.Join(err, b.Close())
	}
	return b, nil
}

// reach looks for the bucket. Where it is, which is asked first, is asked once by the client, and not again where that goes wrong.
func (b *Bucket) reach(ctx context.Context) error {
	for try := 0; ; try++ {
		there, err := b.client.BucketExists(ctx, b.options.Name)
		switch err = b.told(err); {
		case err == nil && there:
			return nil
		case err == nil:
			return fmt.Errorf("%s has no bucket %q; make it first, or name another one", b.options.Server, b.options.Name)
		case !errors.Is(err, ErrAway) || try == tries:
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try+1) * 200 * time.Millisecond):
		}
	}
}

func (o *BucketOptions) transport(secure bool) (*http.Transport, error) {
	t, err := minio.DefaultTransport(secure)
	if err != nil {
		return nil, err
	}
	t.ResponseHeaderTimeout = answers
	if o.Authority != "" {
		pem, err := os.ReadFile(o.Authority)
		if err != nil {
			return nil, err
		}
		pool, err := x509.SystemCertPool()
		if err != nil {
			return nil, err
		}
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s has no certificate in PEM", o.Authority)
		}
		t.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}
	}
	return t, nil
}

// Close implements Store: what this node keeps of the bucket goes.
func (b *Bucket) Close() error {
	b.close()
	return b.cache.close()
}

// told is an error of the server in the words of a store.
func (b *Bucket) told(err error) error {
	answer := minio.ToErrorResponse(err)
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case answer.Code == minio.NoSuchUpload: // it was completed, and the answer lost, or given up
	case answer.Code == minio.NoSuchKey || answer.StatusCode == http.StatusNotFound && answer.Code != minio.NoSuchBucket:
		return fmt.Errorf("%w: %w", ErrNotFound, err)
	case answer.StatusCode == http.StatusForbidden:
		return fmt.Errorf("%s does not let this node into the bucket %q: %w", b.options.Server, b.options.Name, err)
	case answer.StatusCode >= http.StatusBadRequest && answer.StatusCode < http.StatusInternalServerError && answer.StatusCode != http.StatusTooManyRequests &&
		answer.StatusCode != http.StatusRequestTimeout:
		return fmt.Errorf("the file store at %s: %w", b.options.Server, err)
	case Full(err), errors.Is(err, os.ErrPermission):
		return err
	}
	return fmt.Errorf("%w (%s): %w", ErrAway, b.options.Server, err)
}

// key is the name of the object with a digest's bytes, and aside that of what a sweep set aside.
func (b *Bucket) key(digest string) string {
	return b.options.Prefix + path.Join(digest[:2], digest[2:4], digest)
}

func (b *Bucket) aside(digest string) string { return b.options.Prefix + "aside/" + digest }

// Create implements Store.
func (b *Bucket) Create() (*Writer, error) {
	w, err := b.spool.Create()
	if err == nil {
		w.place = b.place
	}
	return w, err
}

// place sends a part to the bucket, unless that has its bytes and will have them for a while; this node goes on with the part.
func (b *Bucket) place(ctx context.Context, file *os.File, digest string, bytes int64) error {
	for try := range sendTries {
		there, err := b.client.StatObject(ctx, b.options.Name, b.key(digest), minio.StatObjectOptions{})
		if err == nil && there.Size == bytes && time.Since(there.LastModified) < b.options.Rest/2 {
			break
		}
		if err != nil && !errors.Is(b.told(err), ErrNotFound) {
			return b.told(err)
		}
		// What did not arrive may have: the answer may be all that was lost.
		if err = b.send(ctx, file, digest, bytes, err != nil); err == nil {
			break
		}
		if !errors.Is(err, ErrAway) || try == sendTries-1 {
			return err
		}
	}
	return b.cache.take(file.Name(), digest, bytes)
}

// send writes an object; where it is new, one that another node wrote in the meantime stays.
func (b *Bucket) send(ctx context.Context, file *os.File, digest string, bytes int64, isNew bool) error {
	o := minio.PutObjectOptions{ContentType: "application/octet-stream", ServerSideEncryption: b.encrypt, SendContentMd5: true, PartSize: partBytes, NumThreads: partsOnce}
	if isNew {
		o.SetMatchETagExcept("*")
	}
	sent, err := b.client.PutObject(ctx, b.options.Name, b.key(digest), io.NewSectionReader(file, 0, bytes), bytes, o)
	if isNew && minio.ToErrorResponse(err).StatusCode == http.StatusPreconditionFailed {
		return nil // also where this is the answer to our own request, which was sent again as its answer was lost
	}
	if err == nil && sent.Size != bytes {
		err = fmt.Errorf("%d of %d bytes arrived", sent.Size, bytes)
	}
	return b.told(err)
}

// Open implements Store.
func (b *Bucket) Open(digest string) (File, error) {
	if !digestShape.MatchString(digest) {
		return nil, fmt.Errorf("%w: %q", ErrNotFound, digest)
	}
	f, err := b.cache.whole(digest)
	if f != nil || err != nil {
		return f, err
	}
	size, known := b.cache.size(digest)
	if !known {
		ctx, cancel := context.WithTimeout(b.open, tries*answers)
		defer cancel()
		if size, err = b.look(ctx, digest); err != nil {
			return nil, err
		}
		b.cache.sized(digest, size)
	}
	return &blocks{bucket: b, digest: digest, size: size}, nil
}

// look returns how many bytes a digest has. What a sweep set aside is put back.
func (b *Bucket) look(ctx context.Context, digest string) (int64, error) {
	there, err := b.client.StatObject(ctx, b.options.Name, b.key(digest), minio.StatObjectOptions{})
	if errors.Is(b.told(err), ErrNotFound) {
		if err := b.copy(ctx, b.aside(digest), b.key(digest)); err != nil {
			if errors.Is(err, ErrNotFound) {
				return 0, fmt.Errorf("%w: %s", ErrNotFound, digest)
			}
			return 0, err
		}
		there, err = b.client.StatObject(ctx, b.options.Name, b.key(digest), minio.StatObjectOptions{})
	}
	return there.Size, b.told(err)
}

// copyMost is the largest object that the protocol copies by one request.
const copyMost = 5 << 30

// copy copies an object within the bucket, of whatever size.
func (b *Bucket) copy(ctx context.Context, from, to string) error {
	there, err := b.client.StatObject(ctx, b.options.Name, from, minio.StatObjectOptions{})
	if err != nil {
		return b.told(err)
	}
	target := minio.CopyDestOptions{Bucket: b.options.Name, Object: to, Encryption: b.encrypt}
	source := minio.CopySrcOptions{Bucket: b.options.Name, Object: from}
	if there.Size <= copyMost {
		_, err = b.client.CopyObject(ctx, target, source)
	} else {
		_, err = b.client.ComposeObject(ctx, target, source)
	}
	return b.told(err)
}

// Remove implements Store.
func (b *Bucket) Remove(digest string) error {
	if !digestShape.MatchString(digest) {
		return fmt.Errorf("%w: %q", ErrNotFound, digest)
	}
	ctx, cancel := context.WithTimeout(b.open, tries*answers)
	defer cancel()
	b.cache.forget(digest)
	return b.remove(ctx, b.key(digest))
}

// Each implements Store.
func (b *Bucket) Each(ctx context.Context, f func(digest string, bytes int64) error) error {
	return b.each(ctx, "", func(o *minio.ObjectInfo, digest string) error { return f(digest, o.Size) })
}

// each calls f for the objects under a prefix of ours that have the name of a digest.
func (b *Bucket) each(ctx context.Context, below string, f func(o *minio.ObjectInfo, digest string) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for o := range b.client.ListObjectsIter(ctx, b.options.Name, minio.ListObjectsOptions{Prefix: b.options.Prefix + below, Recursive: true}) {
		if o.Err != nil {
			return b.told(o.Err)
		}
		digest := path.Base(o.Key)
		if !digestShape.MatchString(digest) || below == "" && o.Key != b.key(digest) {
			continue
		}
		if err := f(&o, digest); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// Disk implements Store: it is the disk that this node takes bytes in by.
func (b *Bucket) Disk() (Disk, error) { return b.spool.Disk() }

// Pause implements Store: nothing that was recorded when the pause began is removed for as long as unrecorded bytes rest, so that
// nothing need be paused.
func (b *Bucket) Pause() (resume func(), err error) { return func() {}, nil }

var _, _ Store = (*Directory)(nil), (*Bucket)(nil)

// ReadKey reads the key of a bucket from a file of mode 0600: its id, and its secret in the next line.
func ReadKey(file string) (id, secret string, err error) {
	raw, err := durable.ReadSecret(file)
	if err != nil {
		return "", "", fmt.Errorf("reading the key of the bucket: %w", err)
	}
	lines := strings.Fields(string(raw))
	if len(lines) != 2 {
		return "", "", fmt.Errorf("%s has %d lines; it has the key's id in the first and its secret in the second", file, len(lines))
	}
	return lines[0], lines[1], nil
}
