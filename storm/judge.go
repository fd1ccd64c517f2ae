package storm

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/postgres"
	"proudsieve/service/keeping"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// judge waits for what was accepted to end, and holds it against what there is.
func (s *storm) judge(ctx context.Context) error {
	admin := s.client(0, s.admin)
	if err := s.settle(ctx, admin); err != nil {
		return err
	}
	jobs, err := client.All(func(after string, limit int64) (*records.Page[records.Job], error) {
		return admin.ListJobs(ctx, &client.ListJobsParams{After: after, Limit: limit})
	})
	if err != nil {
		return err
	}
	byID := map[int64]records.Job{}
	for _, j := range jobs {
		byID[j.ID] = j
		if strings.Contains(j.Error, "was started") {
			s.result.GivenUp++
		}
	}
	tables, err := client.All(func(after string, limit int64) (*records.Page[records.Table], error) {
		return admin.ListTables(ctx, "samples", &client.ListTablesParams{After: after, Limit: limit})
	})
	if err != nil {
		return err
	}
	merged, err := client.All(func(after string, limit int64) (*records.Page[records.Table], error) {
		return admin.ListTables(ctx, "survey", &client.ListTablesParams{After: after, Limit: limit})
	})
	if err != nil {
		return err
	}
	s.judgeTables(tables)
	s.judgeJobs(byID, append(tables, merged...))
	if err := s.judgeDeliveries(ctx, admin, tables, byID); err != nil {
		return err
	}
	if err := s.judgeRecords(ctx, admin); err != nil {
		return err
	}
	if err := s.judgeTold(ctx, admin); err != nil {
		return err
	}
	return s.judgeFiles(ctx)
}

// settle waits until all jobs have ended.
func (s *storm) settle(ctx context.Context, admin *client.Client) error {
	started := time.Now()
	for {
		running, err := client.All(func(after string, limit int64) (*records.Page[records.Job], error) {
			return admin.ListJobs(ctx, &client.ListJobsParams{After: after, Limit: limit, Running: true})
		})
		if err != nil {
			return err
		}
		if len(running) == 0 {
			s.result.SlowestEnd = time.Since(started)
			return nil
		}
		// A queue of jobs may take longer than a minute; what is stuck does not move for one.
		if time.Since(started) > stuckAfter {
			before := fmt.Sprint(running)
			s.pause(ctx, stuckAfter)
			after, err := client.All(func(after string, limit int64) (*records.Page[records.Job], error) {
				return admin.ListJobs(ctx, &client.ListJobsParams{After: after, Limit: limit, Running: true})
			})
			if err != nil {
				return err
			}
			if fmt.Sprint(after) == before {
				s.wrong("%d jobs are stuck, the first of them %+v", len(after), after[0])
				return nil
			}
		}
		s.pause(ctx, 200*time.Millisecond)
	}
}

func (s *storm) judgeTables(tables []records.Table) {
	deliveries, cleaned := map[string]int64{}, map[string]int64{}
	for _, t := range tables {
		if t.Origin == store.OriginCleaned {
			made := fmt.Sprint(*t.ParentID, *t.DeclarationID, t.Digest)
			if other, ok := cleaned[made]; ok {
				s.wrong("one version of a plan made tables %d and %d of table %d, and they are the same", other, t.ID, *t.ParentID)
			}
			cleaned[made] = t.ID
		}
		if t.Origin == store.OriginDelivery {
			if other, ok := deliveries[t.Digest]; ok {
				s.wrong("deliveries %d and %d are the same bytes", other, t.ID)
			}
			deliveries[t.Digest] = t.ID
		}
	}
}

// judgeJobs holds jobs against the tables that they made: each made one, and each table was made by one; a job that says
// that its table was there already made none.
func (s *storm) judgeJobs(jobs map[int64]records.Job, tables []records.Table) {
	made := map[int64]int64{}
	for _, j := range jobs {
		if j.ResultTable != nil && j.Result == nil {
			if other, ok := made[*j.ResultTable]; ok {
				s.wrong("jobs %d and %d made the same table", other, j.ID)
			}
			made[*j.ResultTable] = j.ID
		}
		if (j.Kind == work.Fix || j.Kind == work.Merge) && j.State == "done" && j.ResultTable == nil {
			s.wrong("job %d is done and made no table", j.ID)
		}
		if j.State == "failed" && !strings.Contains(j.Error, "was started") &&
			!strings.Contains(j.Error, "apply a fix plan to its newest delivery first") {
			s.wrong("job %d failed: %s", j.ID, j.Error)
		}
	}
	for _, t := range tables {
		if t.Origin != store.OriginDelivery && made[t.ID] == 0 {
			s.wrong("table %d (%s) was made by no job that ended well", t.ID, t.Origin)
		}
	}
	for _, one := range s.things {
		if one.kind == "job" {
			if _, ok := jobs[one.id]; !ok {
				s.wrong("the %s job %d is lost", one.name, one.id)
			}
		}
	}
}

func (s *storm) judgeDeliveries(ctx context.Context, admin *client.Client, tables []records.Table,
	jobs map[int64]records.Job) error {
	byID, audited := map[int64]records.Table{}, map[int64]bool{}
	for _, t := range tables {
		byID[t.ID] = t
	}
	for _, j := range jobs {
		if j.Kind == work.Audit && j.TableID != nil {
			audited[*j.TableID] = true
		}
	}
	for _, one := range s.things {
		if one.kind != "delivery" {
			continue
		}
		t, ok := byID[one.id]
		if !ok || t.Digest != one.digest {
			s.wrong("delivery %d is lost", one.id)
			continue
		}
		if !audited[t.ID] {
			s.wrong("delivery %d never got an audit", t.ID)
		}
		sum := sha256.New()
		if err := download(ctx, admin, t.ID, sum); err != nil {
			s.wrong("the bytes of delivery %d are lost: %v", t.ID, err)
		} else if hex.EncodeToString(sum.Sum(nil)) != one.digest {
			s.wrong("the bytes of delivery %d are others", t.ID)
		}
	}
	return nil
}

func (s *storm) judgeRecords(ctx context.Context, admin *client.Client) error {
	versions, err := client.All(func(after string, limit int64) (*records.Page[records.Declaration], error) {
		return admin.ListRulebooks(ctx, &client.ListRulebooksParams{After: after, Limit: limit, Dataset: "samples"})
	})
	if err != nil {
		return err
	}
	known := map[int64]string{}
	for _, v := range versions {
		known[int64(v.Version)] = v.Digest
	}
	key, err := admin.SigningKey(ctx)
	if err != nil {
		return err
	}
	for _, one := range s.things {
		switch one.kind {
		case "version":
			if known[one.id] != one.digest {
				s.wrong("version %d of the rulebook is lost, or another one", one.id)
			}
		case "certificate":
			c, err := admin.ShowCertificate(ctx, one.id)
			if err != nil {
				s.wrong("certificate %d is lost: %v", one.id, err)
				continue
			}
			if _, err := certify.Open(c.Signature, key); err != nil {
				s.wrong("certificate %d does not verify: %v", one.id, err)
			}
		}
	}
	return nil
}

// judgeFiles stops everything, lets a last start sweep, and holds the file store against the records.
func (s *storm) judgeFiles(ctx context.Context) error {
	s.end()
	s.nodes = s.nodes[:1]
	if !s.start(ctx, 0) {
		s.wrong("the last start does not come up")
		return nil
	}
	address, err := os.ReadFile(postgres.AddressFile(filepath.Join(s.data, "postgres")))
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(30 * time.Second); ; {
		found, err := keeping.Check(ctx, keeping.Place{Database: strings.TrimSpace(string(address)), Data: s.data, Bucket: s.bucket.options()})
		if err != nil {
			return err
		}
		parts, err := filepath.Glob(filepath.Join(s.data, "files", "incoming", "*"))
		if err != nil {
			return err
		}
		s.result.FilesLeft = len(found.TooMuch) + len(parts)
		if s.result.FilesLeft == 0 || time.Now().After(deadline) {
			for _, text := range append(found.Missing, found.Altered...) {
				s.wrong("a file: %s", text)
			}
			if s.result.FilesLeft > 0 {
				s.wrong("%d files are left that no record speaks of", s.result.FilesLeft)
			}
			break
		}
		s.pause(ctx, time.Second)
	}
	if left, err := filepath.Glob(filepath.Join(s.data, "postgres", "making-*")); err != nil || len(left) > 0 {
		s.wrong("unfinished clusters are left: %v, %v", left, err)
	}
	return nil
}

// download copies the bytes of a table.
func download(ctx context.Context, c *client.Client, table int64, out io.Writer) error {
	in, err := c.DownloadTable(ctx, table, nil)
	return client.Save(out, in, err)
}
