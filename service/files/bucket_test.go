package files

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"proudsieve/service/files/standin"
)

func startBucket(t *testing.T) *standin.Server {
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
	return s
}

func optionsOf(t *testing.T, s *standin.Server) BucketOptions {
	return BucketOptions{Server: s.URL, Name: standin.Bucket, Prefix: "survey/files", KeyID: standin.KeyID, Secret: standin.Secret,
		Directory: t.TempDir(), Cache: leastCache}
}

// node is a node of its own on the bucket of a stand-in.
func node(t *testing.T, o BucketOptions) *Bucket {
	t.Helper()
	b, err := OpenBucket(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	})
	return b
}

func put(t *testing.T, s Store, content []byte) string {
	t.Helper()
	k, err := Put(context.Background(), s, bytes.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	k.Close()
	return k.Digest
}

func readAll(s Store, digest string) ([]byte, error) {
	in, err := s.Open(digest)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return io.ReadAll(in)
}

func randomBytes(n int) []byte {
	out := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(out)
	return out
}

func none(context.Context, []string) (map[string]bool, error) { return nil, nil }

func TestWhatOneNodeKeepsAnotherReads(t *testing.T) {
	s := startBucket(t)
	one, other := node(t, optionsOf(t, s)), node(t, optionsOf(t, s))
	for _, n := range []int{1, 1000, block - 1, block, block + 1, 40 << 20} {
		content := randomBytes(n)
		digest := put(t, one, content)
		for _, b := range []*Bucket{one, other} {
			got, err := readAll(b, digest)
			if err != nil || !bytes.Equal(got, content) {
				t.Fatalf("%d bytes: read %d, %v", n, len(got), err)
			}
			for _, offset := range []int{0, n / 3, n - 1, n} {
				in, err := At(b, digest)(int64(offset))
				if err != nil {
					t.Fatal(err)
				}
				rest, err := io.ReadAll(in)
				if err != nil || !bytes.Equal(rest, content[offset:]) {
					t.Errorf("%d bytes from %d: read %d, %v", n, offset, len(rest), err)
				}
				_ = in.Close()
			}
		}
	}
	if _, err := one.Open(strings.Repeat("ab", 32)); !errors.Is(err, ErrNotFound) {
		t.Errorf("what is not there: %v", err)
	}
	if _, err := one.Open("../somewhere"); !errors.Is(err, ErrNotFound) {
		t.Errorf("no digest: %v", err)
	}
	listed := 0
	if err := other.Each(context.Background(), func(digest string, n int64) error {
		listed++
		return nil
	}); err != nil || listed != 6 {
		t.Errorf("%d are listed, %v", listed, err)
	}
}

// What a directory holds may be copied into a bucket as it is, and the other way round.
func TestABucketHasTheNamesOfADirectory(t *testing.T) {
	s := startBucket(t)
	b := node(t, optionsOf(t, s))
	d, root := open(t)
	content := []byte("station,value\nA,1\n")
	digest := put(t, d, content)
	put(t, b, content)
	path, err := d.path(digest)
	if err != nil {
		t.Fatal(err)
	}
	name, err := filepath.Rel(root, path)
	if err != nil || b.key(digest) != "survey/files/"+filepath.ToSlash(name) {
		t.Errorf("%s is called %s in the bucket", name, b.key(digest))
	}
}

func TestBytesArriveWholeThoughTheNetworkIsBad(t *testing.T) {
	s := startBucket(t)
	one, other := node(t, optionsOf(t, s)), node(t, optionsOf(t, s))
	s.Trouble(0.15, 7)
	for i := range 12 {
		content := randomBytes(i*i*200_000 + 17) // the last ones in two parts
		digest := put(t, one, content)
		in, err := other.Open(digest)
		if err != nil {
			t.Fatal(err)
		}
		var group sync.WaitGroup
		for k := range 4 { // side by side, as stretches of a table are read
			group.Go(func() {
				from := len(content) * k / 4
				part := make([]byte, len(content)-from)
				if n, err := in.ReadAt(part, int64(from)); err != nil && err != io.EOF || !bytes.Equal(part, content[from:]) {
					t.Errorf("%d bytes from %d: read %d, %v", len(content), from, n, err)
				}
			})
		}
		group.Wait()
		if got, err := io.ReadAll(in); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes: read %d, %v", len(content), len(got), err)
		}
		_ = in.Close()
	}
	s.Trouble(0, 0)
	if swept, err := one.Sweep(context.Background(), none); err != nil || swept.Files != 0 {
		t.Errorf("what was just kept: %+v, %v", swept, err)
	}
}

func TestANodeStartsThoughTheNetworkIsBad(t *testing.T) {
	s := startBucket(t)
	s.Trouble(0.3, 5)
	for range 20 {
		node(t, optionsOf(t, s))
	}
}

func TestAServerThatIsGoneIsSaidToBeAway(t *testing.T) {
	s := startBucket(t)
	b := node(t, optionsOf(t, s))
	digest := put(t, node(t, optionsOf(t, s)), []byte("some bytes"))
	s.Down(true)
	if _, err := b.Open(digest); !errors.Is(err, ErrAway) {
		t.Errorf("opening: %v", err)
	}
	if _, err := Put(context.Background(), b, strings.NewReader("other bytes")); !errors.Is(err, ErrAway) {
		t.Errorf("keeping: %v", err)
	}
	s.Down(false)
	if got, err := readAll(b, digest); err != nil || string(got) != "some bytes" {
		t.Errorf("afterwards: %q, %v", got, err)
	}
	if parts, _ := filepath.Glob(filepath.Join(b.spool.incoming(), "*")); len(parts) > 0 {
		t.Errorf("parts are left: %v", parts)
	}
}

func TestWhatABucketNeeds(t *testing.T) {
	s := startBucket(t)
	for _, one := range []struct {
		change func(o *BucketOptions)
		says   string
	}{
		{func(o *BucketOptions) { o.Name = "another" }, `has no bucket "another"`},
		{func(o *BucketOptions) { o.KeyID = "SOMEBODY" }, "does not let this node into the bucket"},
		{func(o *BucketOptions) { o.Secret = "" }, "needs a key"},
		{func(o *BucketOptions) { o.Server = "http://10.1.2.3:9000" }, "over https"},
		{func(o *BucketOptions) { o.Server = "store.example" }, "write it as https://"},
		{func(o *BucketOptions) { o.Server += "/bucket" }, "write it as https://"},
		{func(o *BucketOptions) { o.Cache = 1 }, "at least"},
		{func(o *BucketOptions) { o.Encryption = "some" }, "AES256, or kms:"},
	} {
		o := optionsOf(t, s)
		one.change(&o)
		if _, err := OpenBucket(context.Background(), o); err == nil || !strings.Contains(err.Error(), one.says) {
			t.Errorf("%+v: %v", o, err)
		}
		if left, _ := filepath.Glob(filepath.Join(o.Directory, "cache", "*")); len(left) > 0 {
			t.Errorf("a node that did not start leaves %v", left)
		}
	}
}

func TestWhatIsSentIsHeldAgainstItsChecksumAndEncrypted(t *testing.T) {
	for _, one := range []struct{ is, header, value string }{
		{"AES256", "X-Amz-Server-Side-Encryption", "AES256"},
		{"kms:survey", "X-Amz-Server-Side-Encryption-Aws-Kms-Key-Id", "survey"},
	} {
		s := startBucket(t)
		o := optionsOf(t, s)
		o.Encryption = one.is
		put(t, node(t, o), randomBytes(20<<20)) // two parts
		put(t, node(t, o), []byte("one part"))
		checked, encrypted := 0, 0
		for _, h := range s.Headers() {
			if h.Get("Content-Md5") != "" {
				checked++
			}
			if h.Get(one.header) == one.value {
				encrypted++
			}
		}
		if checked < 3 || encrypted < 2 {
			t.Errorf("%s: of the requests that wrote, %d had a checksum, and %d said how to encrypt", one.is, checked, encrypted)
		}
	}
}

func TestBytesThatWereAlteredAreNotRead(t *testing.T) {
	s := startBucket(t)
	b := node(t, optionsOf(t, s))
	digest := put(t, b, []byte("some bytes"))
	if _, err := b.client.PutObject(context.Background(), standin.Bucket, b.key(digest), strings.NewReader("same bytes"), 10, minio.PutObjectOptions{}); err != nil {
		t.Fatal(err)
	}
	if got, err := readAll(node(t, optionsOf(t, s)), digest); err == nil || !strings.Contains(err.Error(), "altered") {
		t.Errorf("read %q, %v", got, err)
	}
}

// rested keeps bytes that have rested as long as is given.
func rested(t *testing.T, s *standin.Server, b *Bucket, content string, hours int) string {
	t.Helper()
	s.Earlier(time.Duration(hours) * time.Hour)
	defer s.Earlier(0)
	return put(t, b, []byte(content))
}

func TestASweepSetsAsideWhatHasNoRecordAndRemovesItLater(t *testing.T) {
	ctx := context.Background()
	s := startBucket(t)
	b := node(t, optionsOf(t, s))
	old, young, known := rested(t, s, b, "old", 30), put(t, b, []byte("young")), rested(t, s, b, "known", 30)
	recorded := func(_ context.Context, digests []string) (map[string]bool, error) {
		return map[string]bool{known: true}, nil
	}
	swept, err := b.Sweep(ctx, recorded)
	if err != nil || swept.Files != 1 || swept.Bytes != 3 || swept.Kept != 10 {
		t.Errorf("%+v, %v", swept, err)
	}
	for _, digest := range []string{old, young, known} { // what was set aside is had back by whoever wants it
		if got, err := readAll(node(t, optionsOf(t, s)), digest); err != nil {
			t.Errorf("%q, %v", got, err)
		}
	}
	// nobody wants it: it goes once it has rested aside
	gone := rested(t, s, b, "gone", 60)
	s.Earlier(30 * time.Hour)
	if _, err := b.Sweep(ctx, recorded); err != nil {
		t.Fatal(err)
	}
	s.Earlier(0)
	if _, err := b.Sweep(ctx, recorded); err != nil {
		t.Fatal(err)
	}
	if got, err := readAll(node(t, optionsOf(t, s)), gone); !errors.Is(err, ErrNotFound) {
		t.Errorf("%q, %v", got, err)
	}
	if got, err := readAll(node(t, optionsOf(t, s)), known); err != nil || string(got) != "known" {
		t.Errorf("%q, %v", got, err)
	}
}

// A node keeps bytes at the very moment in which another node's sweep, which saw no record of them, removes them.
func TestWhatIsKeptWhileASweepRemovesItIsNotLost(t *testing.T) {
	ctx := context.Background()
	s := startBucket(t)
	sweeper, keeper := node(t, optionsOf(t, s)), node(t, optionsOf(t, s))
	digest := rested(t, s, sweeper, "wanted after all", 30)
	now := false
	recorded := func(_ context.Context, digests []string) (map[string]bool, error) {
		return map[string]bool{digest: now}, nil
	}
	if _, err := sweeper.Sweep(ctx, func(ctx context.Context, digests []string) (map[string]bool, error) {
		known, err := recorded(ctx, digests)
		put(t, keeper, []byte("wanted after all"))
		now = true
		return known, err
	}); err != nil {
		t.Fatal(err)
	}
	for range 2 { // before and after the next sweep, which finds the record and that its bytes are aside
		if got, err := readAll(node(t, optionsOf(t, s)), digest); err != nil || string(got) != "wanted after all" {
			t.Errorf("%q, %v", got, err)
		}
		if _, err := sweeper.Sweep(ctx, recorded); err != nil {
			t.Fatal(err)
		}
	}
}

func TestAnUploadThatWasCutOffIsForgotten(t *testing.T) {
	ctx := context.Background()
	s := startBucket(t)
	b := node(t, optionsOf(t, s))
	core := minio.Core{Client: b.client}
	begin := func(hours int) {
		s.Earlier(time.Duration(hours) * time.Hour)
		defer s.Earlier(0)
		if _, err := core.NewMultipartUpload(ctx, standin.Bucket, b.key(strings.Repeat("ab", 32)), minio.PutObjectOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	begin(30)
	begin(0)
	if _, err := b.Sweep(ctx, none); err != nil {
		t.Fatal(err)
	}
	left := 0
	for range b.client.ListIncompleteUploads(ctx, standin.Bucket, "survey/", true) {
		left++
	}
	if left != 1 {
		t.Errorf("%d uploads are left; the one that was just begun should be", left)
	}
}

func TestANodeKeepsNoMoreThanItMay(t *testing.T) {
	s := startBucket(t)
	one, o := node(t, optionsOf(t, s)), optionsOf(t, s)
	digest := put(t, one, randomBytes(3*leastCache/2))
	other := node(t, o)
	before := s.Requests()["GET"]
	for range 2 {
		if got, err := readAll(other, digest); err != nil || len(got) != 3*leastCache/2 {
			t.Fatalf("%d bytes, %v", len(got), err)
		}
		var used int64
		files, err := filepath.Glob(filepath.Join(o.Directory, "cache", "node-*", "*"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			if info, err := os.Stat(f); err == nil {
				used += info.Size()
			}
		}
		if used > leastCache || used < leastCache/2 {
			t.Errorf("%d bytes are kept", used)
		}
	}
	if asked := s.Requests()["GET"] - before; asked != 48 { // twice 24 blocks: each was gone when it was wanted again
		t.Errorf("%d blocks were asked for", asked)
	}
	small := put(t, one, randomBytes(block+1))
	before = s.Requests()["GET"]
	for range 3 {
		if _, err := readAll(other, small); err != nil {
			t.Fatal(err)
		}
	}
	if asked := s.Requests()["GET"] - before; asked != 2 {
		t.Errorf("%d blocks were asked for", asked)
	}
}

func TestWhatAKilledNodeKeptIsRemoved(t *testing.T) {
	root := t.TempDir()
	living, err := openCache(root, leastCache)
	if err != nil {
		t.Fatal(err)
	}
	killed, err := openCache(root, leastCache)
	if err != nil {
		t.Fatal(err)
	}
	_ = killed.lock.Close() // as the kernel does
	next, err := openCache(root, leastCache)
	if err != nil {
		t.Fatal(err)
	}
	for path, there := range map[string]bool{living.root: true, killed.root: false, next.root: true} {
		if _, err := os.Stat(path); there != (err == nil) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if err := errors.Join(living.close(), next.close()); err != nil {
		t.Error(err)
	}
}

func TestTheKeyOfABucket(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	for _, one := range []struct {
		content string
		mode    os.FileMode
		says    string
	}{
		{"id\nsecret\n", 0o600, ""}, {"id\n", 0o600, "has 1 lines"}, {"id\nsecret\n", 0o644, "other users"},
	} {
		_ = os.Remove(file)
		if err := os.WriteFile(file, []byte(one.content), one.mode); err != nil {
			t.Fatal(err)
		}
		id, secret, err := ReadKey(file)
		if one.says == "" && (err != nil || id != "id" || secret != "secret") || one.says != "" && (err == nil || !strings.Contains(err.Error(), one.says)) {
			t.Errorf("%q: %q, %q, %v", one.content, id, secret, err)
		}
	}
}
