package keeping_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/demo"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/keeping"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

var ctx = context.Background()

// worked starts a service and takes one delivery to its certificate.
func worked(t *testing.T) (r *servicetest.Running, database string, certificate *records.Certificate) {
	t.Helper()
	r = servicetest.Start(t, func(o *service.Options) { database = o.DatabaseURL })
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, one := range [][2]string{{"rulebooks", "rulebooks/stations.yaml"},
		{"fix-plans", "fixes/stations_clean.yaml"}} {
		text, err := demo.Files.ReadFile(one[1])
		must(err)
		_, err = r.Steward.Declare(ctx, one[0], text)
		must(err)
	}
	content, err := demo.Files.ReadFile("data/stations.csv")
	must(err)
	d, err := r.Steward.Deliver(ctx, "stations", "stations.csv", records.SourceNotes{}, bytes.NewReader(content))
	must(err)
	_, err = r.Steward.AuditOf(ctx, d.Table.ID, nil)
	must(err)
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", d.Table.ID),
		map[string]string{"fix_plan": "stations_clean"})
	must(err)
	done, err := r.Steward.Follow(ctx, job.ID, nil)
	must(err)
	_, err = r.Steward.AuditOf(ctx, *done.ResultTable, nil)
	must(err)
	certificate, err = servicetest.Post[records.Certificate](ctx, r.Certifier,
		fmt.Sprintf("/tables/%d/certificates", *done.ResultTable), nil)
	must(err)
	// a file that is looked at, and no delivery yet
	_, err = r.Steward.Arrive(ctx, "arrived.csv", strings.NewReader("id\n1\n"))
	must(err)
	return r, database, certificate
}

func TestABackupPutBackIsTheSameService(t *testing.T) {
	r, database, certificate := worked(t)
	directory := filepath.Join(t.TempDir(), "backup")
	first, err := keeping.Make(ctx, keeping.Place{Database: database, Data: r.Directory}, directory)
	if err != nil {
		t.Fatal(err)
	}
	if first.Files < 4 || first.Copied != first.Files {
		t.Errorf("%+v", first)
	}
	second, err := keeping.Make(ctx, keeping.Place{Database: database, Data: r.Directory}, directory)
	if err != nil || second.Copied != 0 || second.Files != first.Files {
		t.Errorf("a second time: %+v, %v", second, err)
	}
	dumps, err := filepath.Glob(filepath.Join(directory, "records-*"))
	if err != nil || len(dumps) != 1 {
		t.Errorf("the records of %v are kept, %v", dumps, err)
	}
	place, empty := t.TempDir(), postgrestest.Database(t)
	restored, err := keeping.Restore(ctx, directory, keeping.Place{Database: empty, Data: place})
	if err != nil || restored.Copied != first.Files {
		t.Fatalf("%+v, %v", restored, err)
	}
	if _, err := keeping.Restore(ctx, directory, keeping.Place{Database: empty, Data: t.TempDir()}); err == nil ||
		!strings.Contains(err.Error(), "is put back into an empty place") {
		t.Errorf("into a database that holds something: %v", err)
	}
	if _, err := keeping.Restore(ctx, directory, keeping.Place{Database: postgrestest.Database(t), Data: place}); err == nil ||
		!strings.Contains(err.Error(), "is there already") {
		t.Errorf("into a directory that holds something: %v", err)
	}
	s, err := service.Start(ctx, service.Options{DatabaseURL: empty, Directory: place, Listen: "127.0.0.1:0",
		Log: servicetest.Quiet(t)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Stop() })
	mara := &client.Client{Server: s.URL(), Token: r.Steward.Token}
	there, err := servicetest.Get[records.Certificate](ctx, mara, fmt.Sprintf("/certificates/%d", certificate.ID))
	if err != nil || there.Signature != certificate.Signature {
		t.Fatalf("%+v, %v", there, err)
	}
	var key, table bytes.Buffer
	if err := servicetest.Download(ctx, mara, "/signing-key", &key); err != nil {
		t.Fatal(err)
	}
	if err := servicetest.Download(ctx, mara, fmt.Sprintf("/tables/%d/bytes", there.TableID), &table); err != nil {
		t.Fatal(err)
	}
	if _, err := certify.Verify(&table, nil, there.Signature, key.Bytes()); err != nil {
		t.Errorf("the certificate does not verify: %v", err)
	}
	if seen, err := servicetest.Post[api.LookedAt](ctx, mara, "/arrivals/1/reading", map[string]any{}); err != nil || len(seen.Rows) != 1 {
		t.Errorf("what had arrived: %+v, %v", seen, err)
	}
	if checked, err := keeping.Check(ctx, keeping.Place{Database: empty, Data: place}); err != nil || !checked.Good() || checked.Files != first.Files {
		t.Errorf("%+v, %v", checked, err)
	}
}

func TestACheckTellsWhatIsMissingAlteredAndTooMuch(t *testing.T) {
	r, database, _ := worked(t)
	var kept []string
	if err := filepath.WalkDir(filepath.Join(r.Directory, "files"), func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && len(d.Name()) == 64 {
			kept = append(kept, path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	missing, altered := kept[0], kept[1]
	if err := os.Remove(missing); err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(altered)
	if err != nil {
		t.Fatal(err)
	}
	raw[len(raw)/2] ^= 1
	if err := os.WriteFile(altered, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	extra := strings.Repeat("ab", 32)
	if err := os.MkdirAll(filepath.Join(r.Directory, "files", "ab", "ab"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(r.Directory, "files", "ab", "ab", extra), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	found, err := keeping.Check(ctx, keeping.Place{Database: database, Data: r.Directory})
	if err != nil || len(found.Missing) != 1 || len(found.Altered) != 1 || len(found.TooMuch) != 1 ||
		!strings.Contains(found.Missing[0], filepath.Base(missing)) ||
		!strings.Contains(found.Altered[0], filepath.Base(altered)) || found.TooMuch[0] != extra {
		t.Errorf("%+v, %v", found, err)
	}
	// A backup says so too, and leaves the one before as it was.
	if _, err := keeping.Make(ctx, keeping.Place{Database: database, Data: r.Directory}, filepath.Join(t.TempDir(), "b")); err == nil {
		t.Error("a backup without all files is taken for one")
	}
}

func TestWhatIsNoBackupIsRefused(t *testing.T) {
	directory := t.TempDir()
	if _, err := keeping.Restore(ctx, directory, keeping.Place{Database: "postgres://127.0.0.1:1/x", Data: t.TempDir()}); err == nil ||
		!strings.Contains(err.Error(), "is no finished backup") {
		t.Errorf("%v", err)
	}
	if err := os.WriteFile(filepath.Join(directory, "letters.txt"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	r, database, _ := worked(t)
	if _, err := keeping.Make(ctx, keeping.Place{Database: database, Data: r.Directory}, directory); err == nil ||
		!strings.Contains(err.Error(), "holds letters.txt, which is not of a backup") {
		t.Errorf("%v", err)
	}
}
