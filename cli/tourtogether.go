package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"proudsieve/client"
	"proudsieve/core/merge"
	"proudsieve/demo"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/work"
)

// rivers takes the third source in, which is put together with the register of stations, with another grain and levelled names, and
// held against the sums that the water office made of it, taking all advice as it stands.
func (d *demoRun) rivers(ctx context.Context) error {
	d.heading("8. A third source: grain, levelling, reconciling")
	for _, one := range []demo.Delivery{demo.Rivers, demo.Sums} {
		if err := d.deliver(ctx, one); err != nil {
			return err
		}
	}
	return d.clean(ctx, demo.Rivers.Dataset, "river_gauges_clean")
}

// asTheyStand looks at a merge in which the names of stations are taken as they stand, as it would be written at first.
func (d *demoRun) asTheyStand(ctx context.Context) error {
	planted, err := demo.Together()
	if err != nil {
		return err
	}
	plan, err := demo.Files.ReadFile("merges/river_days.yaml")
	if err != nil {
		return err
	}
	asTheyStand := strings.Replace(string(plan), `{"UPPER(TRIM(station))": station}`, "[station]", 1)
	job, err := d.steward.PreviewMerge(ctx, client.MergePreviewedBody{Source: asTheyStand})
	if err != nil {
		return err
	}
	if job, err = d.steward.Follow(ctx, job.ID, nil); err != nil {
		return err
	}
	var looked work.MergePreview
	if err := json.Unmarshal(*job.Result, &looked); err != nil {
		return err
	}
	if looked.Refused == "" {
		return fmt.Errorf("a merge went through in which %d rows spell their station otherwise", planted.Spelled)
	}
	d.line("As it stands the merge would be refused: %s.", looked.Refused)
	d.joinMore(&looked.Accounting.Joins[0])
	d.line("")
	return nil
}

// gauged makes days of the hours, with the names of stations levelled, and reconciles them.
func (d *demoRun) gauged(ctx context.Context) error {
	planted, err := demo.Together()
	if err != nil {
		return err
	}
	d.line("With the names levelled, and the hours made days:")
	t, err := d.merged(ctx, "river_days")
	if err != nil {
		return err
	}
	if err := d.inherit(ctx, "river_days", t.ID); err != nil {
		return err
	}
	return d.reconcile(ctx, planted)
}

// inherit takes the rulebook that is proposed of a merged dataset as it stands, and judges its table by it.
func (d *demoRun) inherit(ctx context.Context, dataset string, merged int64) error {
	proposed, err := client.Decode[api.Proposed](d.steward.ProposeRulebook(ctx, dataset, nil))
	if err != nil {
		return err
	}
	if _, err := d.steward.Declare(ctx, "rulebooks", []byte(proposed.Source)); err != nil {
		return err
	}
	job, err := d.steward.StartAudit(ctx, merged)
	if err != nil {
		return err
	}
	if _, err := d.steward.Follow(ctx, job.ID, nil); err != nil {
		return err
	}
	audited, err := client.Decode[api.AuditShown](d.steward.AuditOf(ctx, merged, nil))
	if err != nil {
		return err
	}
	d.line("By the rulebook that is proposed of it, with what is declared of its inputs, its score is %s.", percent(audited.Result.Score))
	return nil
}

// reconcile holds the gauges against the sums of the water office, and takes each cause that is guessed as it is proposed.
func (d *demoRun) reconcile(ctx context.Context, planted *demo.PlantedTogether) error {
	d.line("")
	d.line("%s", d.styled("1", "Against the sums of the water office"))
	asked := &client.ShowTotalsParams{With: d.tables[demo.Sums.Dataset], By: []string{"station", "DATE_TRUNC('month', read_at)"}, ByThere: []string{"station", "month_end"}, Of: "flow"}
	var found *merge.Reconciled
	for range 5 {
		var err error
		if found, err = client.Decode[merge.Reconciled](d.steward.ShowTotals(ctx, d.tables[demo.Rivers.Dataset], asked)); err != nil {
			return err
		}
		d.line("%s agree, %d differ, %d only here, %d only there.", count(found.Agree), found.Differ, found.OnlyHere, found.OnlyThere)
		for _, c := range found.Causes {
			d.line("  Perhaps: %s", c.Says)
			take := func(into *string, text string) {
				if text != "" {
					*into = text
				}
			}
			take(&asked.Factor, c.Factor)
			take(&asked.Tolerance, c.Tolerance)
			take(&asked.Where, c.Where)
			take(&asked.WhereThere, c.WhereThere)
			if c.By != nil {
				asked.By, asked.ByThere = c.By, c.ByThere
			}
		}
		if len(found.Causes) == 0 {
			break
		}
	}
	p := planted.Apart
	if len(found.Groups) != 1 || found.Groups[0].Apart != p.By || found.Groups[0].Key[0] != strings.ToLower(p.Station) || !strings.HasPrefix(found.Groups[0].Key[1], p.Month) {
		return fmt.Errorf("one total is wrong by %s, that of %s in the month of %s; told is %+v", p.By, p.Station, p.Month, found.Groups)
	}
	d.reconciled(found)
	d.line("The planted difference is the only one that is left.")
	return nil
}

// revised compares the revised delivery of a laboratory with the one before it, row by row.
func (d *demoRun) revised(ctx context.Context) error {
	d.heading("9. A revised delivery, row by row")
	planted, err := demo.Together()
	if err != nil {
		return err
	}
	content, err := demo.Files.ReadFile("data/" + demo.Revised.File)
	if err != nil {
		return err
	}
	delivered, err := d.steward.Deliver(ctx, demo.Revised.Dataset, demo.Revised.File, records.SourceNotes{}, bytes.NewReader(content))
	if err != nil {
		return err
	}
	if _, err := d.steward.AuditOf(ctx, delivered.Table.ID, nil); err != nil {
		return err
	}
	found, err := client.Decode[api.RevisionShown](d.steward.ShowRevision(ctx, delivered.Table.ID, nil))
	if err != nil {
		return err
	}
	d.revision(found)
	if found.Changed != int64(planted.Corrected) || found.Came != int64(planted.Added) || found.Went != int64(planted.TakenBack) {
		return fmt.Errorf("%d results were corrected, %d added and %d taken back; told are %d, %d and %d", planted.Corrected, planted.Added, planted.TakenBack, found.Changed, found.Came, found.Went)
	}
	d.line("All planted changes are told, and nothing else.")
	return nil
}
