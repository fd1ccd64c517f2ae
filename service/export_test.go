package service_test

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"

	"proudsieve/client"
	"proudsieve/service/servicetest"
)

func exportedTable(t *testing.T, c *client.Client, id int64, asked *client.ExportTableParams) (string, error) {
	t.Helper()
	in, err := c.ExportTable(ctx, id, asked)
	var out bytes.Buffer
	err = client.Save(&out, in, err)
	return out.String(), err
}

func TestATableIsExportedForAnalysis(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: samples\nreading: {dates: [dd.MM.yyyy], decimal_mark: ','}\ncolumns:\n  - {name: station, type: code, codes: stations}\n"+
		"  - {name: taken, type: date}\n  - {name: value, type: decimal, to: 5}\ncode_lists: {stations: {codes: [{code: A, label: Weir}, {code: B}]}}\n")
	d := deliver(t, r.Steward, "samples", "station,taken,value\nA,29.02.2024,\"1,50\"\nB,01.03.2024,\"9,25\"\n")
	audited(t, r.Steward, d.Table.ID)
	for _, c := range []struct {
		asked client.ExportTableParams
		want  string
	}{
		{client.ExportTableParams{Labels: true}, "station,station_label,taken,value\nA,Weir,2024-02-29,1.50\nB,,2024-03-01,9.25\n"},
		{client.ExportTableParams{Rule: "value.range", Columns: []string{"value", "taken"}}, "value,taken\n9.25,2024-03-01\n"},
		{client.ExportTableParams{Format: "jsonl", Where: "value < 2"}, `{"station":"A","taken":"2024-02-29","value":1.50}` + "\n"},
	} {
		got, err := exportedTable(t, r.Reader, d.Table.ID, &c.asked)
		if err != nil || got != c.want {
			t.Errorf("%+v: %q, %v", c.asked, got, err)
		}
	}
	raw, err := exportedTable(t, r.Reader, d.Table.ID, &client.ExportTableParams{Format: "parquet"})
	if err != nil {
		t.Fatal(err)
	}
	type row struct {
		Station *string `parquet:"station,optional"`
		Taken   *int32  `parquet:"taken,date,optional"`
		Value   *int32  `parquet:"value,decimal(2:3),optional"`
	}
	rows, err := parquet.Read[row](strings.NewReader(raw), int64(len(raw)))
	if err != nil || len(rows) != 2 || *rows[1].Value != 925 || *rows[0].Taken != 19782 {
		t.Errorf("%+v, %v", rows, err)
	}
	_, err = exportedTable(t, r.Reader, d.Table.ID, &client.ExportTableParams{Columns: []string{"depth"}})
	refused(t, "a column that is not there", err, http.StatusUnprocessableEntity, `no column "depth"`)
	_, err = exportedTable(t, r.Reader, d.Table.ID, &client.ExportTableParams{Format: "xlsx", Packing: "gz"})
	refused(t, "a packed workbook", err, http.StatusUnprocessableEntity, "A workbook is packed already")
	wrong := deliver(t, r.Steward, "samples", "station,taken,value\nA,29.02.2024,about 2\n")
	audited(t, r.Steward, wrong.Table.ID)
	_, err = exportedTable(t, r.Reader, wrong.Table.ID, &client.ExportTableParams{Format: "parquet"})
	refused(t, "a text that is no decimal", err, http.StatusUnprocessableEntity, `1 cell of value is no decimal, as "about 2". Put them right, or ask for such columns as text.`)
	entries, err := r.Steward.ListHistory(ctx, &client.ListHistoryParams{})
	if err != nil || !strings.Contains(asJSON(t, entries), "exported a table") {
		t.Errorf("nobody knows that it was exported: %v", err)
	}
}

// A download that cannot be finished must not look like one that was.
func TestADownloadThatBreaksOffIsNotTakenForWhole(t *testing.T) {
	servicetest.NeedsDirectory(t)
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: samples\ncolumns: [{name: id}]\n")
	var text strings.Builder
	text.WriteString("id,note\n")
	for i := range 60_000 {
		text.WriteString(fmt.Sprintf("%d,%x\n", i, sha256.Sum256([]byte{byte(i), byte(i >> 8)})))
	}
	content := text.String()
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	if _, err := w.Write([]byte(content)); err != nil || w.Close() != nil {
		t.Fatal(err)
	}
	d := deliver(t, r.Steward, "samples", packed.String())
	if whole, err := saved(t, r.Steward, d.Table.ID); err != nil || len(whole) < len(content) {
		t.Fatal(len(whole), err)
	}
	if err := filepath.WalkDir(filepath.Join(r.Directory, "files"), func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		info, err := entry.Info()
		if err == nil && info.Size() > 1<<20 {
			if err = os.Chmod(path, 0o600); err == nil {
				err = os.Truncate(path, info.Size()*9/10)
			}
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if part, err := saved(t, r.Steward, d.Table.ID); err == nil && len(part) < len(content) {
		t.Errorf("%d of %d bytes came, and nothing was said", len(part), len(content))
	}
}

func saved(t *testing.T, c *client.Client, id int64) (string, error) {
	t.Helper()
	in, err := c.DownloadRows(ctx, id, &client.DownloadRowsParams{})
	var out bytes.Buffer
	err = client.Save(&out, in, err)
	return out.String(), err
}
