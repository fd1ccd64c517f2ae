// Package keeping makes backups of a service, puts them back, and holds the file store
// against the records.
//
// A backup is a directory: records.dump (as pg_dump writes it, custom format), files/ (as the
// file store has them, under their SHA-256), signing-key.json, and backup.json, which is written
// last and says what belongs to it. It is made while the service runs: the records first, so
// that all files they speak of are there, then the files that it does not have yet, while no
// sweep removes any. A backup that is cut off leaves the one before as it was.
package keeping

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"proudsieve/durable"
	"proudsieve/service"
	"proudsieve/service/files"
	"proudsieve/service/store"
)

// Backup is what backup.json says.
type Backup struct {
	Kind    string    `json:"kind"` // BackupKind
	MadeAt  time.Time `json:"made_at"`
	Records string    `json:"records"` // the file with them
	SHA256  string    `json:"records_sha256"`
	Files   int       `json:"files"` // that the records speak of
	Bytes   int64     `json:"bytes"` // of these
	Copied  int       `json:"-"`     // files that the directory did not have yet
}

// BackupKind marks our backups and their version.
const BackupKind = "proudsieve backup 1"

const description = "backup.json"

// Place is where a service keeps everything.
type Place struct {
	Database string               // its address
	Data     string               // the data directory
	Bucket   *files.BucketOptions // of the file store; nil where that is in the data directory
}

func (p Place) files(ctx context.Context) (files.Store, error) {
	return service.OpenFiles(ctx, p.Data, p.Bucket)
}

// Make makes a backup of a service in a directory.
func Make(ctx context.Context, place Place, directory string) (*Backup, error) {
	kept, err := place.files(ctx)
	if err != nil {
		return nil, err
	}
	defer kept.Close()
	if err := durable.MakeDirectory(directory, 0o700); err != nil {
		return nil, err
	}
	if err := mayHold(directory); err != nil {
		return nil, err
	}
	resume, err := kept.Pause()
	if err != nil {
		return nil, err
	}
	defer resume()
	b := &Backup{Kind: BackupKind, MadeAt: time.Now().UTC()}
	b.Records = "records-" + b.MadeAt.Format("20060102T150405.000000") + ".dump"
	if b.SHA256, err = dump(ctx, place.Database, filepath.Join(directory, b.Records)); err != nil {
		return nil, err
	}
	s, err := store.Look(ctx, place.Database)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	to, err := files.OpenDirectory(filepath.Join(directory, "files"))
	if err != nil {
		return nil, err
	}
	// What was recorded since the dump is copied too, which does no harm.
	seen := map[string]bool{}
	err = store.AllDigests(ctx, s.DB, func(digest, of string) error {
		if seen[digest] {
			return nil
		}
		seen[digest] = true
		bytes, copied, err := carry(ctx, kept, to, digest)
		if err != nil {
			return fmt.Errorf("%s: %w", of, err)
		}
		b.Files++
		b.Bytes += bytes
		if copied {
			b.Copied++
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := CarrySecrets(place.Data, directory); err != nil {
		return nil, err
	}
	raw, err := json.MarshalIndent(b, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := durable.WriteFile(filepath.Join(directory, description), append(raw, '\n'), 0o600); err != nil {
		return nil, err
	}
	return b, b.forgetEarlier(directory)
}

// CarrySecrets copies the signing key and the service's secret from one data directory to another, as for a backup or another
// node. What was kept by an earlier version has no secret, and one is made at the next start.
func CarrySecrets(from, to string) error {
	for _, file := range []func(string) string{service.KeyFile, service.SecretFile} {
		secret, err := durable.ReadSecret(file(from))
		if errors.Is(err, os.ErrNotExist) && file("") == service.SecretFile("") {
			continue
		}
		if err != nil {
			return fmt.Errorf("reading %s: %w", file(from), err)
		}
		if err := durable.WriteFile(file(to), secret, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// mayHold refuses a directory that holds something which is no backup.
func mayHold(directory string) error {
	entries, err := os.ReadDir(directory)
	if err != nil || len(entries) == 0 {
		return err
	}
	for _, e := range entries {
		if ours, _ := filepath.Match("records-*.dump*", e.Name()); !ours && e.Name() != "files" &&
			e.Name() != description && e.Name() != service.KeyFile("") && e.Name() != service.SecretFile("") {
			return fmt.Errorf("%s holds %s, which is not of a backup; name a directory of its own", directory, e.Name())
		}
	}
	return nil
}

// forgetEarlier removes the records of the backups before this one.
func (b *Backup) forgetEarlier(directory string) error {
	dumps, err := filepath.Glob(filepath.Join(directory, "records-*.dump*"))
	if err != nil {
		return err
	}
	for _, path := range dumps {
		if filepath.Base(path) != b.Records {
			err = errors.Join(err, os.Remove(path))
		}
	}
	return err
}

func dump(ctx context.Context, databaseURL, path string) (digest string, err error) {
	unfinished := path + ".unfinished"
	f, err := os.OpenFile(unfinished, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer func() { _ = os.Remove(unfinished) }()
	sum := sha256.New()
	c, err := program(ctx, databaseURL, "pg_dump", "--format=custom", "--no-owner", "--no-privileges")
	if err != nil {
		return "", errors.Join(err, f.Close())
	}
	said := &limited{}
	c.Stdout, c.Stderr = io.MultiWriter(f, sum), said
	err = c.Run()
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", fmt.Errorf("writing down the records: %w\n%s", err, said.text)
	}
	return hex.EncodeToString(sum.Sum(nil)), durable.Rename(unfinished, path)
}

// limited keeps the first of what a program says.
type limited struct{ text []byte }

// Write implements io.Writer.
func (l *limited) Write(p []byte) (int, error) {
	l.text = append(l.text, p[:min(len(p), max(0, 4<<10-len(l.text)))]...)
	return len(p), nil
}

// carry copies the bytes of a digest from one store to another, unless that has them, whole.
func carry(ctx context.Context, from, to files.Store, digest string) (bytes int64, copied bool, err error) {
	in, err := from.Open(digest)
	if err != nil {
		return 0, false, err
	}
	defer in.Close()
	if there, err := to.Open(digest); err == nil {
		have := there.Size()
		_ = there.Close()
		if have == in.Size() {
			return in.Size(), false, nil
		}
	}
	kept, err := files.Copy(ctx, to, in)
	if err != nil {
		return 0, false, err
	}
	defer kept.Close()
	if kept.Digest != digest {
		return 0, false, errors.Join(fmt.Errorf("%w: its bytes have the SHA-256 %s", ErrAltered, kept.Digest),
			to.Remove(kept.Digest))
	}
	return kept.Bytes, true, nil
}

// ErrAltered says that bytes are not those that were kept under a digest.
var ErrAltered = errors.New("the bytes were altered since they were kept")

// Read reads what a backup says of itself.
func Read(directory string) (*Backup, error) {
	raw, err := os.ReadFile(filepath.Join(directory, description))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s is no finished backup: it has no %s", directory, description)
	}
	if err != nil {
		return nil, err
	}
	var b Backup
	if err := json.Unmarshal(raw, &b); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(directory, description), err)
	}
	if b.Kind != BackupKind || filepath.Base(b.Records) != b.Records {
		return nil, fmt.Errorf("%s is of the kind %q, and this program reads %q", directory, b.Kind, BackupKind)
	}
	return &b, nil
}

// Restore puts a backup into an empty database and an empty data directory. A bucket need not be empty: what it has stays.
func Restore(ctx context.Context, directory string, place Place) (*Backup, error) {
	b, err := Read(directory)
	if err != nil {
		return nil, err
	}
	digest, err := digestOf(ctx, filepath.Join(directory, b.Records))
	if err != nil {
		return nil, err
	}
	if digest != b.SHA256 {
		return nil, fmt.Errorf("%w: %s", ErrAltered, filepath.Join(directory, b.Records))
	}
	if err := store.Empty(ctx, place.Database); err != nil {
		return nil, err
	}
	for _, path := range []string{filepath.Join(place.Data, "files"), service.KeyFile(place.Data), service.SecretFile(place.Data), service.TokenFile(place.Data)} {
		if _, err := os.Lstat(path); !errors.Is(err, os.ErrNotExist) {
			return nil, errors.Join(err, fmt.Errorf("%s is there already; a backup is put back into an empty place",
				path))
		}
	}
	from, err := files.OpenDirectory(filepath.Join(directory, "files"))
	if err != nil {
		return nil, err
	}
	to, err := place.files(ctx)
	if err != nil {
		return nil, err
	}
	defer to.Close()
	err = from.Each(ctx, func(digest string, _ int64) error {
		_, copied, err := carry(ctx, from, to, digest)
		if copied {
			b.Copied++
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	if err := CarrySecrets(directory, place.Data); err != nil {
		return nil, err
	}
	// The records come last: until they are there, the place is still empty to another try.
	c, err := program(ctx, place.Database, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error",
		"--single-transaction", "--dbname", databaseName(place.Database), filepath.Join(directory, b.Records))
	if err != nil {
		return nil, err
	}
	if out, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("putting the records back: %w\n%s", err, out[:min(len(out), 4<<10)])
	}
	return b, nil
}

func digestOf(ctx context.Context, path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return sum(ctx, f)
}

func sum(ctx context.Context, in io.Reader) (string, error) {
	s := sha256.New()
	buffer := make([]byte, 1<<20)
	for {
		if err := ctx.Err(); err != nil {
			return "", err
		}
		n, err := in.Read(buffer)
		s.Write(buffer[:n])
		if errors.Is(err, io.EOF) {
			return hex.EncodeToString(s.Sum(nil)), nil
		}
		if err != nil {
			return "", err
		}
	}
}
