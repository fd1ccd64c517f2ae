package service_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"reflect"
	"testing"

	"proudsieve/client"
	"proudsieve/service/servicetest"
)

// alike reports whether two texts in JSON say the same.
func alike(t *testing.T, a, b []byte) bool {
	t.Helper()
	var x, y any
	if err := errors.Join(json.Unmarshal(a, &x), json.Unmarshal(b, &y)); err != nil {
		t.Fatal(err)
	}
	return reflect.DeepEqual(x, y)
}

// The rows of a merge that find no partner are fetched as a table to be sent back; where every row finds one there is none.
func TestRowsWithoutAPartnerCanBeSentBack(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for dataset, content := range map[string]string{"visits": "visit,station\n1,ALD\n2,BRE\n3,ald\n4,\n", "sites": "code,river\nALD,Alder\nBRE,Bren\n"} {
		columns := map[string]string{"visits": "[{name: visit}, {name: station}]", "sites": "[{name: code}, {name: river}]"}[dataset]
		declare(t, r.Steward, "rulebooks", "dataset: "+dataset+"\ncolumns: "+columns+"\n")
		declare(t, r.Steward, "fix-plans", "fix_plan: "+dataset+"_clean\ndataset: "+dataset+"\nsteps:\n  - {do: standard_form, reason: As it is read.}\n")
		applyPlan(t, r, deliver(t, r.Steward, dataset, content).Table.ID, dataset+"_clean")
	}
	for _, c := range []struct{ name, match, want string }{
		{"visited", "{station: code}", "from_dataset,from_row,no_partner_in,key,visit,station\nvisits,3,sites,ald,3,ald\nvisits,4,sites,,4,\n"},
		{"visited_by_any_case", "{UPPER(station): code}", "from_dataset,from_row,no_partner_in,key,visit,station\nvisits,4,sites,,4,\n"},
		{"stacked_alone", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			plan := "merge: " + c.name + "\nstack: [visits]\n"
			if c.match != "" {
				plan += "join:\n  - {with: sites, match: " + c.match + ", take: [river], unmatched: keep}\n"
			}
			// Seen before it is done, and before the merge is saved: nothing is recorded, and then the same is done.
			looked, err := r.Steward.PreviewMerge(ctx, client.MergePreviewedBody{Source: plan})
			if err == nil {
				looked, err = r.Steward.Follow(ctx, looked.ID, nil)
			}
			if err != nil || looked.ResultTable != nil {
				t.Fatalf("%+v %v", looked, err)
			}
			var ahead struct{ Accounting json.RawMessage }
			if err := json.Unmarshal(*looked.Result, &ahead); err != nil {
				t.Fatal(err)
			}
			declare(t, r.Steward, "merges", plan)
			made := mergedBy(t, r, c.name)
			if !alike(t, ahead.Accounting, *made.Accounting) {
				t.Errorf("it would be\n%s\nand is\n%s", ahead.Accounting, *made.Accounting)
			}
			var out bytes.Buffer
			whole, err := r.Reader.DownloadTable(ctx, made.ID, &client.DownloadTableParams{What: client.DownloadTableParamsWhatUnmet})
			err = client.Save(&out, whole, err)
			if c.want == "" {
				refused(t, "rows without a partner of a stack", err, 404, "no merge in which a row found no partner")
			} else if err != nil || out.String() != c.want || made.Unmet == nil {
				t.Errorf("%v\n%s\nwant\n%s", err, out.String(), c.want)
			}
		})
	}
}
