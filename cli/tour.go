package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/audit"
	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/core/table"
	"proudsieve/demo"
	"proudsieve/durable"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// The people of the demo.
const (
	demoSteward   = "Mara Quill"
	demoCertifier = "Jonas Fell"
)

func demoTokenFile(directory, person string) string {
	return filepath.Join(directory, strings.ToLower(strings.Fields(person)[0])+"-token")
}

// demoRun takes the demo through the whole path, as its people would.
type demoRun struct {
	*output
	steward, certifier *client.Client
	tables             map[string]int64 // the newest delivery of each dataset
	cleaned            map[string]int64
}

// people makes the demo's people, each with a token in a file of their own.
func (p *private) people(ctx context.Context, o *output) (*demoRun, error) {
	admin, err := p.administrator()
	if err != nil {
		return nil, err
	}
	d := &demoRun{output: o, tables: map[string]int64{}, cleaned: map[string]int64{}}
	for person, role := range map[string]string{demoSteward: "steward", demoCertifier: "certifier"} {
		made, err := admin.AddPerson(ctx, client.NewPersonBody{Name: person, Role: client.NewPersonBodyRole(role),
			Note: "demo"})
		if err != nil {
			return nil, err
		}
		if err := durable.WriteFile(demoTokenFile(p.directory, person), []byte(made.Secret+"\n"), 0o600); err != nil {
			return nil, err
		}
		c := &client.Client{Server: p.service.URL(), Token: made.Secret, HTTP: admin.HTTP}
		if role == "steward" {
			d.steward = c
		} else {
			d.certifier = c
		}
	}
	return d, nil
}

// loadDemo loads the demo into a service that does not have it yet.
func (p *private) loadDemo(ctx context.Context, o *output) error {
	admin, err := p.administrator()
	if err != nil {
		return err
	}
	datasets, err := admin.ListDatasets(ctx, nil)
	if err != nil || len(datasets.Items) > 0 {
		return err
	}
	o.line("Loading the Alder Vale river survey …")
	d, err := p.people(ctx, &output{out: &bytes.Buffer{}, err: o.err})
	if err != nil {
		return err
	}
	if _, err = d.walk(ctx); err != nil {
		return err
	}
	if err := d.rivers(ctx); err != nil {
		return err
	}
	if err := d.gauged(ctx); err != nil {
		return err
	}
	sheet, err := d.ask(ctx) // its answers wait on the desk, and some questions are open
	if err != nil {
		return err
	}
	return d.answerByLink(ctx, sheet)
}

func tourCommand() *cli.Command {
	return &cli.Command{Name: "tour",
		Usage: "walk the demo through the whole path once, in a service of its own that is gone afterwards",
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, ""); err != nil {
				return err
			}
			directory, err := os.MkdirTemp("", "proudsieve-tour-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(directory)
			o := outputOf(c)
			running, err := startPrivate(ctx, service.Options{Directory: directory, Listen: "127.0.0.1:0",
				Log: logger(o, true)}, true)
			if err != nil {
				return err
			}
			return errors.Join(running.tour(ctx, o), running.stop())
		}}
}

func (p *private) tour(ctx context.Context, o *output) error {
	d, err := p.people(ctx, o)
	if err != nil {
		return err
	}
	certificate, err := d.walk(ctx)
	if err != nil {
		return err
	}
	if err := d.verify(ctx, certificate); err != nil {
		return err
	}
	if err := d.undeclared(ctx); err != nil {
		return err
	}
	for _, part := range []func(context.Context) error{d.rivers, d.asTheyStand, d.gauged, d.revised, d.asked} {
		if err := part(ctx); err != nil {
			return err
		}
	}
	return nil
}

// undeclared holds what is told of a dataset that nobody declared anything about against what was planted in it.
func (d *demoRun) undeclared(ctx context.Context) error {
	d.heading("7. What looks odd where nothing is declared")
	planted, err := demo.PlantedLeads()
	if err != nil {
		return err
	}
	if _, err := d.steward.AddDataset(ctx, client.NewDatasetBody{Name: demo.Undeclared.Dataset,
		Title: "Returns of those who take water"}); err != nil {
		return err
	}
	var a *api.AuditShown
	for _, one := range []demo.Delivery{demo.UndeclaredBefore, demo.Undeclared} {
		content, err := demo.Files.ReadFile("data/" + one.File)
		if err != nil {
			return err
		}
		delivered, err := d.steward.Deliver(ctx, one.Dataset, one.File, records.SourceNotes{}, bytes.NewReader(content))
		if err != nil {
			return err
		}
		if a, err = client.Decode[api.AuditShown](d.steward.AuditOf(ctx, delivered.Table.ID, nil)); err != nil {
			return err
		}
	}
	told := a.Result.Leads
	g := newGrid("lead", "column", "what is told")
	missed := 0
	for _, p := range planted {
		at := slices.IndexFunc(told, func(l audit.Lead) bool { return l.Kind == p.Lead && l.Column == p.Column })
		if at < 0 {
			missed++
			g.add(p.Lead, p.Column, "nothing")
			continue
		}
		g.add(p.Lead, p.Column, shorten(told[at].Says, 110))
	}
	d.grid(g, "")
	if missed > 0 || len(told) != len(planted) {
		return fmt.Errorf("%d things that look odd were planted, %d of them are not told, and %d are told in all", len(planted), missed,
			len(told))
	}
	d.line("All %d planted things that look odd are told, and nothing else.", len(planted))
	return nil
}

func (d *demoRun) heading(text string) {
	d.line("")
	d.line("%s", d.styled("1", text))
	d.line("%s", strings.Repeat("─", len([]rune(text))))
}

// walk goes from the files to the certificate.
func (d *demoRun) walk(ctx context.Context) (*records.Certificate, error) {
	d.heading("1. Take delivery and judge")
	for _, one := range demo.Deliveries {
		if err := d.deliver(ctx, one); err != nil {
			return nil, err
		}
	}
	if err := d.planted(ctx); err != nil {
		return nil, err
	}
	if err := d.settle(ctx); err != nil {
		return nil, err
	}
	d.heading("4. Put right")
	if err := d.declare(ctx, "rulebooks", "rulebooks/"+demo.Levels+".yaml"); err != nil {
		return nil, err
	}
	for _, one := range demo.Deliveries {
		if one.Dataset == "visits" {
			continue // its issues stay open, so that the console has something to do
		}
		if err := d.clean(ctx, one.Dataset, strings.TrimSuffix(one.Dataset, "_results")+"_clean"); err != nil {
			return nil, err
		}
	}
	merged, err := d.join(ctx)
	if err != nil {
		return nil, err
	}
	return d.certify(ctx, merged)
}

func (d *demoRun) declare(ctx context.Context, kind, path string) error {
	source, err := demo.Files.ReadFile(path)
	if err != nil {
		return err
	}
	_, err = d.steward.Declare(ctx, kind, source)
	return err
}

func (d *demoRun) deliver(ctx context.Context, one demo.Delivery) error {
	if err := d.declare(ctx, "rulebooks", "rulebooks/"+one.Dataset+".yaml"); err != nil {
		return err
	}
	content, err := demo.Files.ReadFile("data/" + one.File)
	if err != nil {
		return err
	}
	delivered, err := d.steward.Deliver(ctx, one.Dataset, one.File,
		records.SourceNotes{Provider: "Alder Vale river survey", Contact: "the survey office", Period: "2024",
			Method: "made up for the demo, with planted defects"}, bytes.NewReader(content))
	if err != nil {
		return err
	}
	d.tables[one.Dataset] = delivered.Table.ID
	a, err := client.Decode[api.AuditShown](d.steward.AuditOf(ctx, delivered.Table.ID, nil))
	if err != nil {
		return err
	}
	verdict := "passed"
	if !a.HasPassed() {
		verdict = "fell short"
	}
	d.line("%-20s %5s rows, %2d columns, score %6s, %2d rules broken: %s", one.Dataset, count(a.Rows),
		len(a.Result.Columns), percent(a.Result.Score), len(a.Result.Findings), verdict)
	return nil
}

// planted holds what was found against what was put into the files, row by row.
func (d *demoRun) planted(ctx context.Context) error {
	d.heading("2. Every planted defect, and what found it")
	planted, err := demo.PlantedDefects()
	if err != nil {
		return err
	}
	g := newGrid("dataset", "planted defect", ">planted", ">found", "by rule")
	missed := 0
	found := map[string]*table.RowSet{}
	for _, p := range planted {
		for _, rule := range p.Rules {
			key := p.Dataset + "/" + rule
			if found[key] == nil {
				if found[key], err = d.rowsBreaking(ctx, d.tables[p.Dataset], rule); err != nil {
					return err
				}
			}
			n := int64(0)
			for _, row := range p.Rows {
				if found[key].Contains(row) {
					n++
				}
			}
			missed += p.Count - int(n)
			g.add(p.Dataset, p.Defect, count(int64(p.Count)), count(n), rule)
		}
	}
	d.grid(g, "")
	if missed > 0 {
		return fmt.Errorf("%d planted defects were not found", missed)
	}
	d.line("All planted defects were found.")
	return nil
}

func (d *demoRun) rowsBreaking(ctx context.Context, id int64, rule string) (*table.RowSet, error) {
	set := table.NewRowSet()
	for after := uint32(0); ; {
		page, err := client.Decode[api.RowsPage](d.steward.ShowRows(ctx, id,
			&client.ShowRowsParams{Rule: rule, Limit: 1000, After: int32(after)}))
		if err != nil {
			return nil, err
		}
		for _, r := range page.Rows {
			set.Add(r.Row)
		}
		if after = page.Next; after == 0 {
			return set, nil
		}
	}
}

// settle waives what the laboratories confirmed.
func (d *demoRun) settle(ctx context.Context) error {
	d.heading("3. Issues: ask, record, decide")
	issues, err := client.All(func(after string, limit int64) (*records.Page[records.Issue], error) {
		return d.steward.ListIssues(ctx, &client.ListIssuesParams{After: after, Limit: limit,
			State: client.ListIssuesParamsStateUnsettled})
	})
	if err != nil {
		return err
	}
	bySeverity := map[string]int{}
	for _, i := range issues {
		bySeverity[i.Severity]++
	}
	d.line("%d issues were opened: %d are major and stop their table, %d are minor.", len(issues), bySeverity["major"],
		bySeverity["minor"])
	for _, i := range issues {
		if i.Rule != "received_after_sampled" {
			continue
		}
		if _, err := d.steward.CommentIssue(ctx, i.ID,
			client.CommentBody{Text: "Asked the laboratory: which of the two dates is right?"}); err != nil {
			return err
		}
		waiver := client.Waived{Reason: "The clock of the laboratory's intake was wrong; the dates of sampling are right.", Until: time.Now().AddDate(1, 0, 0).Format(time.DateOnly)}
		waived, err := d.steward.Waive(ctx, i.ID, waiver)
		if err != nil {
			return err
		}
		w := waived.Given[0]
		d.line("Issue %d (%s, %s) is waived by %s for %s, until %s.", waived.ID, waived.Dataset, waived.Rule, w.By, w.Covers, *w.Until)
	}
	return nil
}

func (d *demoRun) clean(ctx context.Context, dataset, plan string) error {
	if err := d.declare(ctx, "fix-plans", "fixes/"+plan+".yaml"); err != nil {
		return err
	}
	job, err := d.steward.ApplyFix(ctx, d.tables[dataset], client.PlannedBody{FixPlan: plan})
	t, err := d.made(ctx, job, err)
	if err != nil {
		return err
	}
	d.cleaned[dataset] = t.ID
	var ledger fix.Ledger
	if err := json.Unmarshal(*t.Accounting, &ledger); err != nil {
		return err
	}
	a, err := client.Decode[api.AuditShown](d.steward.AuditOf(ctx, t.ID, nil))
	if err != nil {
		return err
	}
	d.line("%s, by the fix plan %s:", d.styled("1", dataset), plan)
	d.ledger(&ledger)
	if err := ledger.Balance(); err != nil {
		return err
	}
	d.line("The ledger adds up. The cleaned table has a score of %s.", percent(a.Result.Score))
	d.line("")
	return nil
}

func (d *demoRun) join(ctx context.Context) (int64, error) {
	d.heading("5. Put together")
	if err := d.declare(ctx, "rulebooks", "rulebooks/survey_results.yaml"); err != nil {
		return 0, err
	}
	t, err := d.merged(ctx, "survey_results")
	if err != nil {
		return 0, err
	}
	d.line("The merge adds up.")
	audited, err := client.Decode[api.AuditShown](d.steward.AuditOf(ctx, t.ID, nil))
	if err != nil {
		return 0, err
	}
	d.line("The merged table has a score of %s, its pass mark is %s.", percent(audited.Result.Score),
		percent(audited.PassMark))
	return t.ID, nil
}

// made follows a job that was asked for, and returns the table that it makes.
func (d *demoRun) made(ctx context.Context, job *records.Job, err error) (*records.Table, error) {
	if err == nil {
		job, err = d.steward.Follow(ctx, job.ID, nil)
	}
	if err != nil {
		return nil, err
	}
	return d.steward.ShowTable(ctx, *job.ResultTable)
}

// merged declares a merge of the demo, runs it, and shows its accounting, which must add up.
func (d *demoRun) merged(ctx context.Context, name string) (*records.Table, error) {
	if err := d.declare(ctx, "merges", "merges/"+name+".yaml"); err != nil {
		return nil, err
	}
	job, err := d.steward.RunMerge(ctx, name, client.RunBody{})
	t, err := d.made(ctx, job, err)
	if err != nil {
		return nil, err
	}
	var a merge.Accounting
	if err := json.Unmarshal(*t.Accounting, &a); err != nil {
		return nil, err
	}
	d.accounting(&a)
	return t, a.Balance()
}

func (d *demoRun) certify(ctx context.Context, merged int64) (*records.Certificate, error) {
	d.heading("6. Certify")
	own, err := client.Decode[api.Obstacles](d.steward.ListObstacles(ctx, merged))
	if err != nil {
		return nil, err
	}
	for _, o := range own.Obstacles {
		d.line("Refused to the steward: %s", o.Says)
	}
	made, err := d.certifier.CertifyTable(ctx, merged, client.Certifying{})
	if err != nil {
		return nil, err
	}
	d.line("Certificate %d of table %d is signed by %s.", made.ID, made.TableID, made.CreatedBy)
	return made, nil
}

// verify holds the certificate against the table, and against the table with one byte changed.
func (d *demoRun) verify(ctx context.Context, c *records.Certificate) error {
	var content bytes.Buffer
	whole, err := d.steward.DownloadTable(ctx, c.TableID, nil)
	if err := client.Save(&content, whole, err); err != nil {
		return err
	}
	var marks bytes.Buffer
	if t, err := d.steward.ShowTable(ctx, c.TableID); err != nil {
		return err
	} else if t.Marks != nil {
		whole, err := d.steward.DownloadTable(ctx, c.TableID, &client.DownloadTableParams{What: client.DownloadTableParamsWhatMarks})
		if err := client.Save(&marks, whole, err); err != nil {
			return err
		}
	}
	key, err := d.steward.SigningKey(ctx)
	if err != nil {
		return err
	}
	if _, err := certify.Verify(bytes.NewReader(content.Bytes()), bytes.NewReader(marks.Bytes()), c.Signature, key); err != nil {
		return err
	}
	d.line("The certificate verifies against the %s bytes of the table.", count(int64(content.Len())))
	content.Bytes()[content.Len()/2] ^= 1
	if _, err := certify.Verify(bytes.NewReader(content.Bytes()), bytes.NewReader(marks.Bytes()), c.Signature, key); !errors.Is(err, certify.ErrTable) {
		return fmt.Errorf("one byte was changed, and the certificate still verifies: %v", err)
	}
	d.line("With one byte changed, it no longer does.")
	return d.check(ctx, c)
}

// check hands the certified table over as a pack, and computes every figure of its certificate again from that alone.
func (d *demoRun) check(ctx context.Context, c *records.Certificate) error {
	var content bytes.Buffer
	in, err := d.certifier.DownloadPack(ctx, c.ID, &client.DownloadPackParams{Deliveries: true})
	if err := client.Save(&content, in, err); err != nil {
		return err
	}
	keys, err := d.steward.Call(ctx, http.MethodGet, "/signing-keys", nil)
	if err != nil {
		return err
	}
	p, err := pack.Open(bytes.NewReader(content.Bytes()), int64(content.Len()), keys)
	if err != nil {
		return err
	}
	opened, err := certify.OpenWhole(p.Certificate, keys)
	if err != nil {
		return err
	}
	report, err := pack.Check(ctx, opened, p, 2)
	if err != nil {
		return err
	}
	d.line("")
	d.line("A pack of %s hands it over. From that alone, without the service:", document.Counted(int64(len(p.Contents.Files)), "file", "files"))
	d.checkReport(report)
	if len(report.Of(pack.Differs))+len(report.Of(pack.Unchecked)) > 0 {
		return errors.New("not every figure of the certificate could be computed again as it is")
	}
	return nil
}
