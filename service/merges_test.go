package service_test

import (
	"bytes"
	"testing"

	"proudsieve/client"
	"proudsieve/service/servicetest"
)

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
			declare(t, r.Steward, "merges", plan)
			job, err := r.Steward.RunMerge(ctx, c.name, client.RunBody{})
			if err == nil {
				job, err = r.Steward.Follow(ctx, job.ID, nil)
			}
			if err != nil {
				t.Fatal(err)
			}
			made, err := r.Steward.ShowTable(ctx, *job.ResultTable)
			if err != nil {
				t.Fatal(err)
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
