package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/core/merge"
	"proudsieve/service/records"
	"proudsieve/service/work"
)

func mergeCommand() *cli.Command {
	return group("merge", "stacking and joining cleaned tables", append(declarationCommands("merges", "merge"),
		tryMergeCommand(),
		verb("preview", "show what a merge in a file would do to the newest cleaned tables, without doing it", "FILE", nil, previewMerge),
		verb("run", "run a merge on the newest cleaned tables", "MERGE",
			[]cli.Flag{&cli.IntFlag{Name: "version", Usage: "0 for the newest"}},
			func(ctx context.Context, s *session, args []string) error {
				job, err := s.RunMerge(ctx, args[0], client.RunBody{Version: int64(s.command.Int("version"))})
				if err != nil {
					return err
				}
				done, err := s.Follow(ctx, job.ID, s.progress())
				if err != nil {
					return err
				}
				t, err := s.ShowTable(ctx, *done.ResultTable)
				return show(s, t, err, func(t *records.Table) {
					var a merge.Accounting
					if json.Unmarshal(*t.Accounting, &a) == nil {
						s.accounting(&a)
					}
					s.line("The merged table is table %d, SHA-256 %s.", t.ID, t.Digest)
					if a.Unmet > 0 {
						s.line("%s no partner. To send them back: proudsieve table download --unmet %d FILE", document.Counted(a.Unmet, "row found", "rows found"), t.ID)
					}
				})
			}),
	)...)
}

func previewMerge(ctx context.Context, s *session, args []string) error {
	source, err := readFile(args[0])
	if err != nil {
		return err
	}
	job, err := s.PreviewMerge(ctx, client.MergePreviewedBody{Source: string(source)})
	if err != nil {
		return err
	}
	if job, err = s.Follow(ctx, job.ID, s.progress()); err != nil {
		return err
	}
	var p work.MergePreview
	err = json.Unmarshal(*job.Result, &p)
	return show(s, &p, err, func(p *work.MergePreview) {
		s.accounting(p.Accounting)
		if p.Accounting.Unmet > 0 {
			s.line("%s no partner.", document.Counted(p.Accounting.Unmet, "row finds", "rows find"))
		}
		if p.Audit != nil {
			s.findings(p.Audit)
			s.line("By the rulebook of the merged dataset its score would be %s.", percent(p.Audit.Score))
		}
		s.line("Nothing has been done.")
	})
}

func (o *output) accounting(a *merge.Accounting) {
	g := newGrid("", ">rows", "sums")
	for _, in := range a.Inputs {
		g.add(in.Dataset, count(in.Rows), sums(in.Sums))
	}
	g.add("stacked", count(a.Stack.Rows), sums(a.Stack.Sums))
	for _, j := range a.Joins {
		g.add("joined with "+j.With, count(j.RowsOut), sums(j.SumsOut))
	}
	g.add("merged table", count(a.Rows), sums(a.Sums))
	o.grid(g, "")
	for _, j := range a.Joins {
		o.line("Of %s rows, %s met a row of %s by %s, %s did not; %s were set aside, %s added. %s of its %s rows were not asked for.", count(j.RowsIn), count(j.Matched), j.With,
			strings.Join(j.On, " and "), count(j.Unmatched), count(j.SetAside), count(j.Multiplied),
			count(j.JoinedUnused), count(j.JoinedRows))
		o.joinMore(&j)
	}
	for _, column := range sortedKeys(a.Stack.Lacking) {
		o.line("The column %s is missing in %s; its cells are empty there.", column,
			strings.Join(a.Stack.Lacking[column], " and "))
	}
}

// joinMore tells of a join what is not there in most.
func (o *output) joinMore(j *merge.JoinResult) {
	if j.Blank > 0 {
		o.line("%s nothing in a part of the key, and so met nothing.", document.Counted(j.Blank, "row has", "rows have"))
	}
	if j.Chosen > 0 {
		o.line("Of %s that were there several times one row was taken; of %s another one was as good.", document.Counted(j.Chosen, "key", "keys"), count(j.Tied))
	}
	if j.Added > 0 {
		o.line("%s of %s that no row asked for were kept as rows of their own.", count(j.Added), j.With)
	}
	for _, t := range j.Taken {
		says := fmt.Sprintf("%s of %s: %s of %s have a value", visible(t.Column), j.With, count(t.Filled), document.Counted(t.Of, "row", "rows"))
		if t.SumThen != "" {
			says += fmt.Sprintf("; its sum is %s there and %s after the join", t.SumThere, t.SumThen)
		}
		o.line("%s", says)
	}
	for _, w := range j.Why {
		o.line("%s", visible(w.Says))
		for _, e := range w.Examples {
			o.line("  %s is %s there", visible(e.Key), visible(e.Meets))
		}
		if len(w.Left) > 0 {
			pairs := make([]string, len(w.Left))
			for i := range w.Left {
				pairs[i] = fmt.Sprintf("%q: %q", w.Left[i], w.Right[i])
			}
			o.line("  To have them meet: match: {%s}", visible(strings.Join(pairs, ", ")))
		} else if w.Step != "" {
			o.line("  To have them meet: a step %s in the fix plan of one side", w.Step)
		}
	}
	for _, miss := range j.Misses {
		if miss.Close == "" {
			o.line("%s the key %s, which %s does not have", document.Counted(miss.Rows, "row has", "rows have"), visible(miss.Key), j.With)
		}
	}
}
