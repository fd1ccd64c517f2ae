package service_test

import (
	"encoding/csv"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/intake/detect"
	"proudsieve/core/relation"
	"proudsieve/core/tally"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// gauges is a table of 3,000 rows: flow follows depth, and is missing in every tenth row.
func gauges() string {
	var b strings.Builder
	b.WriteString("id;river;depth;flow;day\n")
	for i := range 3000 {
		flow := fmt.Sprintf("%d,5", i%97*3)
		if i%10 == 0 {
			flow = ""
		}
		fmt.Fprintf(&b, "G%04d;%s;%d;%s;%02d/0%d/2024\n", i+1, []string{"Alder", "Bram", "Coll"}[i%3], i%97, flow,
			1+i%28, 1+i%9)
	}
	return b.String()
}

// taken is a delivery without a rulebook, audited.
func taken(t *testing.T, r *servicetest.Running, content string) string {
	t.Helper()
	if _, err := servicetest.Post[records.Dataset](ctx, r.Steward, "/datasets",
		map[string]string{"name": "gauges"}); err != nil {
		t.Fatal(err)
	}
	d, err := r.Steward.Deliver(ctx, "gauges", "gauges.csv", records.SourceNotes{Contact: "the office", Period: "2024"},
		strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	audited(t, r.Steward, d.Table.ID)
	return fmt.Sprintf("/tables/%d", d.Table.ID)
}

func TestRowsByConditionTextAndOrder(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table := taken(t, r, gauges())
	id, err := strconv.ParseInt(strings.TrimPrefix(table, "/tables/"), 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		query string
		total int64
		first string // the first cell of the first row
	}{
		{"", 3000, "G0001"},
		{"offset=2990", 3000, "G2991"},
		{"after=2990", 3000, "G2991"},
		{"where=flow IS NULL", 300, "G0001"},
		{"where=flow IS NULL&offset=299", 300, "G2991"},
		{"where=flow IS NULL&after=2000", 300, "G2001"},
		{"where=depth = 5 AND river = 'Bram'", 10, "G0200"},
		{"find=g299", 10, "G2990"},
		{`is=[["river","Coll"],["depth","2"]]`, 11, "G0003"},
		{`is=[["flow",""]]`, 300, "G0001"},
		{"sort=depth&falling=true", 3000, "G0097"},
		{"sort=depth&offset=31", 3000, "G0002"},
		{"sort=flow&where=river = 'Alder'", 1000, "G0292"},
		{"sort=id&falling=true&limit=1", 3000, "G3000"},
		{"where=depth > 1000", 0, ""},
		{"offset=5000", 3000, ""},
	} {
		values, err := url.ParseQuery(strings.ReplaceAll(c.query, "+", "%2B"))
		if err != nil {
			t.Fatal(err)
		}
		page, err := servicetest.Get[api.RowsPage](ctx, r.Reader, table+"/rows?"+values.Encode())
		if err != nil {
			t.Errorf("%s: %v", c.query, err)
			continue
		}
		first := ""
		if len(page.Rows) > 0 {
			first = page.Rows[0].Cells[0]
		}
		if page.Total != c.total || first != c.first {
			t.Errorf("%s: %d rows, the first %s; want %d and %s", c.query, page.Total, first, c.total, c.first)
		}
		if values.Has("sort") || values.Has("offset") || values.Has("after") {
			continue
		}
		// A file of them has all of them, whatever fits a page.
		var file strings.Builder
		body, err := r.Reader.DownloadRows(ctx, id, &client.DownloadRowsParams{Where: values.Get("where"), Find: values.Get("find"),
			Is: values.Get("is"), Columns: []string{"river", "id"}})
		if err := client.Save(&file, body, err); err != nil {
			t.Fatal(err)
		}
		lines, err := csv.NewReader(strings.NewReader(file.String())).ReadAll()
		if err != nil || int64(len(lines)) != c.total+1 || !slices.Equal(lines[0], []string{"row", "river", "id"}) ||
			c.total > 0 && lines[1][2] != c.first {
			t.Errorf("%s: the file has %d lines, %q; %v", c.query, len(lines), lines[:min(len(lines), 2)], err)
		}
	}
	for query, says := range map[string]string{
		"where=flwo IS NULL": `did you mean`, "where=flow >": "cannot be used", "where=river > 5": "cannot be used",
		"is=nonsense":  "no list of columns",
		"sort=nothing": `no column "nothing"`, `is=[["x","y"]]`: `no column "x"`,
	} {
		values, err := url.ParseQuery(query)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := servicetest.Get[api.RowsPage](ctx, r.Reader, table+"/rows?"+values.Encode()); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", query, err, says)
		}
	}
}

func TestWhatColumnsHaveToDoWithOneAnother(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table := taken(t, r, gauges())
	c, err := servicetest.Get[relation.Correlations](ctx, r.Reader, table+"/correlations")
	if err != nil || fmt.Sprint(c.Columns) != "[depth flow]" || *c.Pearson[0][1] < 0.9999 || c.Pairs[0][1] != 2700 {
		t.Errorf("%+v, %v", c, err)
	}
	keys, err := servicetest.Get[[]relation.Key](ctx, r.Reader, table+"/keys")
	if err != nil || len(*keys) == 0 || fmt.Sprint((*keys)[0]) != "{[id] 0 0 []}" {
		t.Errorf("%+v, %v", keys, err)
	}
	gaps, err := servicetest.Get[[]relation.Gap](ctx, r.Reader, table+"/gaps?column=flow")
	if err != nil || len(*gaps) == 0 || (*gaps)[0].Strength > 0.3 {
		t.Errorf("%+v, %v", gaps, err)
	}
	for path, says := range map[string]string{"/tally?by=nothing": `no column "nothing"`,
		"/gaps?column=nothing": `no column "nothing"`, "/correlations?columns=nothing": `no column "nothing"`} {
		if _, err := servicetest.Get[any](ctx, r.Reader, table+path); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", path, err, says)
		}
	}
}

func TestHowADeliveryIsRead(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table := taken(t, r, gauges())
	d, err := servicetest.Get[detect.Detection](ctx, r.Reader, table+"/reading")
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]string{}
	for _, e := range d.Evidence {
		found[e.Aspect] = e.Found + " " + string(e.Confidence)
	}
	for aspect, want := range map[string]string{"delimiter": "semicolon likely", "decimal mark": "comma likely",
		"header": "line 1 likely", "dates of day": "dd/MM/yyyy likely"} {
		if found[aspect] != want {
			t.Errorf("%s: %s, want %s", aspect, found[aspect], want)
		}
	}
	tables, err := servicetest.All[records.Table](ctx, r.Reader, "/datasets/gauges/tables")
	if err != nil || !strings.Contains(string(tables[0].Source), `"contact":"the office"`) ||
		!strings.Contains(string(tables[0].Source), `"period":"2024"`) {
		t.Errorf("%s, %v", tables[0].Source, err)
	}
}

func TestEveryFormatIsTakenInAndBrowsed(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table := taken(t, r, "{\"a\":1,\"b\":{\"c\":\"x\"}}\n{\"a\":2}\nbroken\n")
	page, err := servicetest.Get[api.RowsPage](ctx, r.Reader, table+"/rows?offset=2")
	if err != nil || fmt.Sprint(page.Columns) != "[a b.c]" || page.Total != 3 || page.Rows[0].Line != 3 ||
		fmt.Sprint(page.Rows[0].Surplus) != "[broken]" {
		t.Errorf("%+v, %v", page, err)
	}
}

// What the service tells of a table by group is what was put into it.
func TestATableIsToldOfByGroup(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table := taken(t, r, gauges())
	ask := func(query string) *tally.Tally {
		t.Helper()
		found, err := servicetest.Get[tally.Tally](ctx, r.Reader, table+"/tally?"+query)
		if err != nil {
			t.Fatal(err)
		}
		return found
	}
	found := ask("by=river&measure=rows&measure=filled+flow&measure=highest+depth")
	if len(found.Downs) != 3 || found.Downs[0].Rows != 1000 || found.All.Values[1] != "2700" || found.All.Values[2] != "96" {
		t.Errorf("%+v", found)
	}
	found = ask(url.Values{"by": {"FLOOR(depth / 50)", "river"}, "share": {"all"}, "where": {"depth < 50"}}.Encode())
	if len(found.By[0].Groups) != 1 || found.All.Values[0] != "100" || found.All.Rows >= 3000 {
		t.Errorf("%+v", found)
	}
	for _, bad := range []string{"by=rivr", "by=a&by=b&by=c", "measure=total+flow", "share=half", "top=5000"} {
		if _, err := servicetest.Get[tally.Tally](ctx, r.Reader, table+"/tally?"+bad); err == nil {
			t.Errorf("%s is answered", bad)
		}
	}
}
