package inplace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/table"
)

// ErrAnswer says that an answer is longer than one may be.
var ErrAnswer = errors.New("the answer of the database is longer than it may be")

// answerLimit is how many rows an answer may have that is held in memory.
const answerLimit = 2_000_000

// cell is a text of an answer.
type cell struct {
	text string
	null bool
}

// each puts a question, and hands over its answer row by row; a row is good until the next one.
func (j *judgement) each(ctx context.Context, says, sql string, take func(row []cell) error) (err error) {
	began, n, moved := time.Now(), int64(0), int64(0)
	if j.options.Tell != nil {
		j.options.Tell(says, sql)
	}
	rows, err := j.session.Ask(ctx, sql)
	if err != nil {
		return fmt.Errorf("%s: %w", says, err)
	}
	defer func() {
		if closed := rows.Close(); err == nil && closed != nil {
			err = fmt.Errorf("%s: %w", says, closed)
		}
		j.statements = append(j.statements, audit.Statement{Says: says, SQL: sql, Rows: n, Bytes: moved, Milliseconds: time.Since(began).Milliseconds()})
	}()
	var row []cell
	for {
		texts, err := rows.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w", says, err)
		}
		n++
		row = row[:0]
		for _, text := range texts {
			row = append(row, cell{string(text), text == nil})
			moved += int64(len(text))
		}
		if err := take(row); err != nil {
			return err
		}
	}
}

// all is each for an answer that is held in memory.
func (j *judgement) all(ctx context.Context, says, sql string) (answer [][]cell, err error) {
	err = j.each(ctx, says, sql, func(row []cell) error {
		if len(answer) == answerLimit {
			return fmt.Errorf("%s: %w: more than %d rows", says, ErrAnswer, answerLimit)
		}
		answer = append(answer, append([]cell(nil), row...))
		return nil
	})
	return answer, err
}

// count reads a whole number of an answer.
func (c cell) count() (int64, error) {
	if c.null {
		return 0, nil
	}
	n, err := strconv.ParseInt(c.text, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("the database answered %q where a whole number was asked for", c.text)
	}
	return n, nil
}

// sumPower stands in the text of a sum between how often ten to the power 20 is in it, and the rest.
const sumPower = "e20 "

// number reads a number of an answer.
func (c cell) number() (table.Decimal, error) {
	if c.null {
		return table.Decimal{}, nil
	}
	if above, rest, two := strings.Cut(c.text, sumPower); two {
		high, err := cell{text: above + strings.Repeat("0", 20)}.number()
		if err != nil {
			return high, err
		}
		low, err := cell{text: rest}.number()
		return high.Add(low), err
	}
	d, ok := table.ParseDecimal(c.text)
	if !ok {
		return d, fmt.Errorf("the database answered %q where a number was asked for", c.text)
	}
	return d, nil
}

// float reads a number of an answer in double precision.
func (c cell) float() (float64, error) {
	if c.null {
		return 0, nil
	}
	x, err := strconv.ParseFloat(c.text, 64)
	if err != nil {
		return x, fmt.Errorf("the database answered %q where a number was asked for", c.text)
	}
	return x, nil
}
