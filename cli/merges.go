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
		verb("keep-up", "say whether a merge runs again by itself with every table that it takes", "MERGE yes|no", nil,
			func(ctx context.Context, s *session, args []string) error {
				if args[1] != "yes" && args[1] != "no" {
					return fmt.Errorf("say yes or no, not %q", args[1])
				}
				d, err := s.KeepMerged(ctx, args[0], client.KeptBody{Kept: args[1] == "yes"})
				return show(s, d, err, func(d *records.Dataset) {
					if d.KeptMerged {
						s.line("The merge %s runs again once a table that it takes was made and did not fall short.", d.Name)
					} else {
						s.line("The merge %s runs when somebody asks for it.", d.Name)
					}
				})
			}),
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
				t, err := s.made(ctx, done)
				return show(s, t, err, func(t *records.Table) {
					var a merge.Accounting
					if json.Unmarshal(*t.Accounting, &a) == nil {
						s.accounting(&a)
					}
					s.line("The merged table is table %d, SHA-256 %s.", t.ID, t.Digest)
					s.judged(t)
					if a.Unmet > 0 {
						s.line("%s. To send them back: proudsieve table download --unmet %d FILE", unmetSays(a.Unmet), t.ID)
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
	err = show(s, &p, err, func(p *work.MergePreview) {
		if p.Refused != "" {
			s.line("The merge would be refused: %s.", visible(p.Refused))
			s.line("Were all such rows kept, this is what it would do:")
		}
		s.accounting(p.Accounting)
		if p.Accounting.Unmet > 0 {
			s.line("%s.", unmetSays(p.Accounting.Unmet))
		}
		s.sample(&p.Sample)
		if p.Audit != nil {
			s.findings(p.Audit)
			s.line("By the rulebook of the merged dataset its score would be %s.", percent(p.Audit.Score))
		}
		s.line("Nothing has been done.")
	})
	if err == nil && p.Refused != "" {
		return errFellShort
	}
	return err
}

// sampleShown is how many columns of the first rows of a merged table are shown.
const sampleShown = 8

// sample shows the first rows of what a merge would make, with where each is from.
func (o *output) sample(m *work.MergedSample) {
	if len(m.Rows) == 0 {
		return
	}
	o.line("The first rows; what joins add stands first, marked with +:")
	heads := []string{"made of"}
	shown := m.Columns[:min(len(m.Columns), sampleShown)]
	for i, name := range shown {
		if i < len(m.Added) {
			name = "+" + name
		}
		heads = append(heads, visible(shorten(name, 20)))
	}
	g := newGrid(heads...)
	for i, row := range m.Rows[:min(len(m.Rows), 5)] {
		from := make([]string, len(m.From[i]))
		for k, f := range m.From[i] {
			from[k] = fmt.Sprintf("%s %s", f.Dataset, count(f.Row))
		}
		cells := []string{strings.Join(from, ", ")}
		for c := range shown {
			cells = append(cells, visible(shorten(row[c], 20)))
		}
		g.add(cells...)
	}
	o.grid(g, "")
	if more := len(m.Columns) - len(shown); more > 0 {
		o.line("%s more: %s", document.Counted(int64(more), "column", "columns"), visible(strings.Join(m.Columns[len(shown):], ", ")))
	}
}

func (o *output) accounting(a *merge.Accounting) {
	g := newGrid("", ">rows", "sums")
	several := map[string]int{}
	for _, in := range a.Inputs {
		several[in.Dataset]++
	}
	for _, in := range a.Inputs {
		name := in.Dataset
		if in.Table > 0 {
			name += fmt.Sprintf(", table %d", in.Table)
		}
		if in.Name != "" && several[in.Dataset] > 1 {
			name += ", " + visible(in.Name)
		}
		g.add(name, count(in.Rows), sums(in.Sums))
	}
	if a.Stack.SetAside > 0 {
		g.add("another row stands for them", count(-a.Stack.SetAside), sums(a.Stack.SumsSetAside))
	}
	if a.Stack.SumsFilled != nil {
		g.add("cells filled from these", "", sums(a.Stack.SumsFilled))
	}
	g.add("stacked", count(a.Stack.Rows), sums(a.Stack.Sums))
	for _, j := range a.Joins {
		g.add("joined with "+j.With, count(j.RowsOut), sums(j.SumsOut))
	}
	g.add("merged table", count(a.Rows), sums(a.Sums))
	o.grid(g, "")
	for _, in := range a.Inputs {
		o.grain(in.Dataset, in.Grain)
	}
	for _, j := range a.Joins {
		o.grain(j.With, j.Grain)
	}
	o.stacked(&a.Stack)
	for _, j := range a.Joins {
		o.line("Of %s rows, %s met a row of %s by %s, %s did not; %s were set aside, %s added. No row asked for %s of its %s.", count(j.RowsIn), count(j.Matched), j.With,
			strings.Join(j.On, " and "), count(j.Unmatched), count(j.SetAside), count(j.Multiplied),
			count(j.JoinedUnused), document.Counted(j.JoinedRows, "row", "rows"))
		o.joinMore(&j)
	}
	for _, column := range sortedKeys(a.Stack.Lacking) {
		o.line("The column %s is missing in %s; its cells are empty there.", column,
			strings.Join(a.Stack.Lacking[column], " and "))
	}
}

// grain tells how rows of a table became others before the merge.
func (o *output) grain(dataset string, g *merge.GrainResult) {
	if g == nil {
		return
	}
	o.line("The grain of %s was changed: %s became those of another grain (%s). %s", dataset, document.Counted(g.RowsBefore, "row", "rows"), visible(g.Says), visible(g.Note))
}

// unmetSays counts the rows of the table of those that are not in a merged table, or are without a partner there.
func unmetSays(rows int64) string {
	return document.Counted(rows, "row found no partner, or has another row standing for it", "rows found no partner, or have another row standing for them")
}

// stacked tells what the stacked tables have in common, and what lies between them.
func (o *output) stacked(s *merge.StackResult) {
	for _, dataset := range sortedKeys(s.Renamed) {
		for _, was := range sortedKeys(s.Renamed[dataset]) {
			o.line("%s of %s is called %s.", visible(was), dataset, visible(s.Renamed[dataset][was]))
		}
	}
	if shared := s.Shared; shared != nil {
		by := "all their cells"
		if len(shared.Key) > 0 {
			by = "the key " + visible(strings.Join(shared.Key, ", "))
		}
		o.line("By %s, %s equal in several tables (%s), and %s one another (%s).", by, document.Counted(shared.Equal.Keys, "is", "are"), shared.Equal.Became,
			document.Counted(shared.Contradicting.Keys, "contradicts", "contradict"), shared.Contradicting.Became)
		for _, e := range shared.Examples {
			o.line("  %s differs in %s:", visible(e.Key), visible(strings.Join(e.Differ, ", ")))
			for _, r := range e.Rows {
				o.line("    row %d of %s, table %d: %s", r.Row, r.Dataset, r.Table, visible(strings.Join(r.Cells, ", ")))
			}
		}
		if more := shared.Contradicting.Keys - int64(len(shared.Examples)); more > 0 {
			o.line("  and %s more.", count(more))
		}
	}
	for _, column := range sortedKeys(s.Filled) {
		o.line("%s of %s filled from rows for which another one stands.", document.Counted(s.Filled[column], "cell", "cells"), visible(column))
	}
	if p := s.Periods; p != nil {
		for _, one := range p.Overlaps {
			o.line("%s of %s are in an earlier table too, from %s to %s (%s, %s).", document.Counted(one.Days, "day", "days"), visible(p.Column), one.First, one.Last, one.Dataset, visible(one.Name))
		}
		for _, gap := range p.Gaps {
			o.line("%s without a row between %s and %s.", document.Counted(gap.Days, "day", "days"), gap.After, gap.Before)
		}
	}
}

// joinMore tells of a join what is not there in most.
func (o *output) joinMore(j *merge.JoinResult) {
	if j.Blank > 0 {
		o.line("%s nothing in a part of the key, and so met nothing.", document.Counted(j.Blank, "row has", "rows have"))
	}
	if j.Multiplied > 0 && len(j.SumsMultiplied) > 0 {
		o.line("Rows that were added since a key was there more than once are counted again in the sums: %s.", sums(j.SumsMultiplied))
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
	if j.MissesMore > 0 {
		least := ""
		if j.MissesCut {
			least = "at least "
		}
		o.line("%s%s more that %s does not have", least, document.Counted(j.MissesMore, "key", "keys"), j.With)
	}
}
