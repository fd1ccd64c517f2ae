package inplace

import (
	"context"
	"fmt"
	"strings"

	"proudsieve/core/rulebook"
	"proudsieve/engine"
)

// Plan is what would be asked of a relation that is judged where it lies.
type Plan struct {
	Server    string    `json:"server"`
	Rows      int64     `json:"rows" doc:"The first rows of the table, by which it was worked out what is asked"`
	Whole     bool      `json:"whole" doc:"These are all of its rows"`
	Questions []Planned `json:"questions"`
	Unjudged  []string  `json:"unjudged" doc:"The rules that would stay unjudged, each with why"`
	Notes     []string  `json:"notes"`
}

// Planned is a question of a plan.
type Planned struct {
	Says     string `json:"says"`
	SQL      string `json:"sql"`
	Estimate string `json:"estimate" doc:"What the engine expects it to cost, in its own words; empty where it tells nothing"`
}

// Foresee judges the first rows of a relation, and returns what was asked of them as it would be asked of all. Which questions there are depends on
// what is in the columns: on the whole table there are others where the rows that follow are not like the first ones. Nothing is read but these rows; the
// engine is asked what it expects of each question on the whole.
func Foresee(ctx context.Context, s engine.Session, engineName string, r engine.Relation, book *rulebook.Rulebook, o Options) (*Plan, error) {
	j, described, err := begin(ctx, s, engineName, r)
	if err != nil {
		return nil, err
	}
	whole := j.from
	j.from = fmt.Sprintf("(SELECT * FROM %s LIMIT %d) AS sieve_first", whole, samples)
	if err := j.bind(ctx, described, book, o); err != nil {
		return nil, err
	}
	told, err := j.judge(ctx)
	if err != nil {
		return nil, err
	}
	result, err := j.outline.Result(ctx, told)
	if err != nil {
		return nil, err
	}
	plan := &Plan{Server: s.Server(), Rows: j.rows, Whole: j.rows < samples, Questions: []Planned{}, Unjudged: []string{}, Notes: []string{}}
	plan.Notes = append(plan.Notes, j.there(s, r, result).Notes...)
	for i := range result.Rules {
		if rule := &result.Rules[i]; rule.Unjudged != "" {
			plan.Unjudged = append(plan.Unjudged, rule.Rule+": "+rule.Unjudged)
		}
	}
	for _, asked := range j.statements {
		sql := strings.ReplaceAll(asked.SQL, j.from, whole)
		estimate, err := j.estimate(ctx, sql)
		if err != nil {
			return nil, err
		}
		plan.Questions = append(plan.Questions, Planned{Says: asked.Says, SQL: cutSQL(sql), Estimate: estimate})
	}
	return plan, nil
}

// estimate is what the engine expects of a question; empty where it tells nothing, or nothing of this one.
func (j *judgement) estimate(ctx context.Context, sql string) (string, error) {
	ask, read := j.explained(sql)
	if ask == "" {
		return "", nil
	}
	answer, err := j.all(ctx, "what is expected", ask)
	if err != nil && (ctx.Err() != nil || ofEngine(err)) {
		return "", err
	}
	if err != nil || len(answer) == 0 {
		return "", nil
	}
	return read(answer[0][0].text), nil
}

// cutSQL keeps the start of a question that is very long.
func cutSQL(sql string) string {
	if len(sql) <= sqlKept {
		return sql
	}
	return strings.ToValidUTF8(sql[:sqlKept], "") + " …"
}
