package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/fix/estimate"
)

// weighEstimates compares methods of estimating on a table of the service.
func weighEstimates(ctx context.Context, s *session, args []string) error {
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	body := client.WeighedBody{Step: int64(s.command.Int("step"))}
	switch file := s.command.String("file"); {
	case file != "" && len(args) == 1:
		raw, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		body.Source = string(raw)
	case file == "" && len(args) == 2:
		t, err := s.ShowTable(ctx, id)
		if err != nil {
			return err
		}
		plan, err := declarationOf(ctx, s, "fix-plans", t.Dataset, args[1], int64(s.command.Int("version")))
		if err != nil {
			return err
		}
		body.Source = plan.Source
	default:
		return errors.New("methods are compared for a step of a fix plan that is saved, by its name, or of one in a file: name one of them")
	}
	job, err := s.WeighEstimates(ctx, id, body)
	if err != nil {
		return err
	}
	if job, err = s.Follow(ctx, job.ID, s.progress()); err != nil {
		return err
	}
	compared, err := client.Decode[estimate.Comparison](s.ShowComparisonOfEstimates(ctx, job.ID))
	return show(s, compared, err, s.compared)
}

// compared shows what each method makes of the gaps.
func (o *output) compared(c *estimate.Comparison) {
	o.line("%s of %s %s and %s.", count(c.Gaps), count(c.Gaps+c.Observed), document.Plural(c.Gaps, "cell of "+c.Column+" is missing", "cells of "+c.Column+" are missing"),
		document.Counted(c.Observed, "has a value", "have values"))
	if int64(c.Donors) < c.Observed || int64(c.GapsSeen) < c.Gaps {
		o.line("The comparison rests on %s of the values and %s of the gaps, taken by the seed %d.", count(int64(c.Donors)), count(int64(c.GapsSeen)), c.Seed)
	}
	for _, d := range c.Depends {
		switch {
		case d.Most != "":
			o.line("Gaps go with %s: strength %.2f of 1; at %s %s %% are missing.", safe(d.Column), d.Strength, visible(d.Most), fmt.Sprintf("%.0f", 100*d.Share))
		default:
			o.line("Gaps go with %s: it is %.2f standard deviations %s where %s is missing.", safe(d.Column), d.Strength, map[bool]string{true: "higher", false: "lower"}[d.Higher], safe(c.Column))
		}
	}
	for _, w := range c.Warnings {
		o.line("Take care: %s", w)
	}
	o.line("")
	o.line("One observed value in ten was hidden and estimated by each method:")
	g := newGrid("method", ">hidden", ">filled", ">error", ">bias", ">spread kept", ">exactly right", "correlations kept", ">gaps left")
	for _, w := range c.Ways {
		if w.Trouble != "" {
			g.add(w.Method, "", "", "", "", "", "", w.Trouble, "")
			continue
		}
		var kept []string
		for _, k := range w.Kept {
			kept = append(kept, fmt.Sprintf("%s %s of %s", safe(k.Column), digits(k.Estimated), digits(k.True)))
		}
		g.add(w.Method, count(int64(w.Hidden)), count(int64(w.Filled)), digits(w.Error), digits(w.Bias), shareOf(w.Spread), shareOf(w.Right), strings.Join(kept, ", "), shareOf(&w.Open))
	}
	o.grid(g, "There is no method to compare.")
	if c.Mean == nil {
		return
	}
	o.line("")
	o.line("What becomes of the column when the gaps are filled:")
	g = newGrid("choice", ">mean", ">from", ">to", ">sum")
	g.add("set the rows aside", digits(c.Mean), "", "", digits(c.Sum))
	for _, w := range c.Ways {
		if w.Trouble == "" {
			g.add(w.Method, digits(w.Mean), digits(w.From), digits(w.To), digits(w.Sum))
		}
	}
	o.grid(g, "")
	o.line("From and to hold the true mean with a confidence of 95 %%, by %d draws; a method that gives one value cannot say how unsure it is.", drawsOf(c))
	if bias := c.Dropping.Bias; bias != nil {
		o.line("Setting %s aside would move the mean by %s, by what is foretold of them.", document.Counted(c.Dropping.Rows, "row", "rows"), digits(bias))
	}
	o.line("That a method puts hidden values back well says nothing of values that are missing because of what they are.")
}

func drawsOf(c *estimate.Comparison) int {
	most := 1
	for _, w := range c.Ways {
		most = max(most, len(w.Draws))
	}
	return most
}

// digits writes a number for people; nothing for none.
func digits(x *float64) string {
	if x == nil {
		return ""
	}
	return document.Figure(*x)
}

// shareOf writes a share of one in percent.
func shareOf(x *float64) string {
	if x == nil {
		return ""
	}
	return fmt.Sprintf("%.1f %%", 100**x)
}

// estimated says what a step estimated; nothing of one that does not.
func (o *output) estimated(step int, e *fix.Estimated) {
	if e == nil {
		return
	}
	o.line("Step %d estimates %s by %s: %s of %s gaps filled, from %s that were observed.", step, safe(e.Column), e.Method, count(e.Filled), count(e.Filled+e.Open),
		document.Counted(e.Observed, "value", "values"))
	if e.MeanThen != nil {
		o.line("  Its mean goes from %s to %s.", digits(e.MeanObserved), digits(e.MeanThen))
	}
	if e.MeanFrom != nil {
		o.line("  By %d draws the true mean lies from %s to %s, with a confidence of 95 %%.", e.Draws, digits(e.MeanFrom), digits(e.MeanTo))
	}
	for _, w := range e.Warnings {
		o.line("  Take care: %s", w)
	}
}
