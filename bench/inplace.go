package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/rulebook"
	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/inplace"
)

// typedTable makes the table of generate in ClickHouse, of so many rows from one on.
func typedTable(first, rows int) string {
	return fmt.Sprintf(`SELECT concat('R-', substring(toString(1000000000 + %d + number), 2)) AS id, concat('AV-', substring(toString(1000 + rand(1) %% 600), 2)) AS station,
		arrayElement(['PH', 'NO3', 'PO4', 'DO', 'COND'], 1 + rand(2) %% 5) AS parameter, toDecimal64((rand(3) %% 900000) / 1000, 3) AS value, toDecimal32((rand(4) %% 9000) / 10, 1) AS limit,
		toDate('2015-01-01') + rand(5) %% 3000 AS sampled, sampled + rand(6) %% 9 AS received, toInt32(400000 + rand(7) %% 99999) AS easting, toInt32(200000 + rand(8) %% 99999) AS northing,
		concat('B', substring(toString(10000 + intDiv(%[1]d + number, 500) %% 10000), 2)) AS batch, arrayElement(['red', 'blue', 'green'], 1 + rand(9) %% 3) AS crew,
		arrayElement([NULL, NULL, NULL, 'bottle half full', 'filtered twice'], 1 + rand(10) %% 5) AS remark FROM system.numbers LIMIT %d`, first, rows)
}

// onThree judges a table of three shards where it lies, and compares that with taking and judging it.
func (b *bench) onThree(ctx context.Context) error {
	return b.shards(ctx, func(c *enginetest.ClickHouse) error {
		return b.there(ctx, "a table of three shards of one machine", c.Nodes[0], engine.Relation{Schema: "default", Table: "spread"}, 3)
	})
}

// onShards judges a table of ClickHouse where it lies, on one server and on three, and compares that with taking and judging it.
func (b *bench) onShards(ctx context.Context) error {
	return b.shards(ctx, func(c *enginetest.ClickHouse) error {
		if err := c.Run(ctx, 0, "CREATE TABLE whole ENGINE = MergeTree() ORDER BY tuple() AS SELECT * FROM spread"); err != nil {
			return err
		}
		return errors.Join(
			b.there(ctx, "a table of ClickHouse judged strictly where it lies", c.Nodes[0], engine.Relation{Schema: "default", Table: "whole"}, 3),
			b.there(ctx, "the same on three shards of one machine", c.Nodes[0], engine.Relation{Schema: "default", Table: "spread"}, 3))
	})
}

// shards starts three servers that have a table together.
func (b *bench) shards(ctx context.Context, use func(c *enginetest.ClickHouse) error) error {
	directory := filepath.Join(b.directory, "shards")
	if err := os.Mkdir(directory, 0o700); err != nil {
		return err
	}
	c, stop, err := enginetest.Launch(ctx, directory, 3)
	if err != nil {
		return err
	}
	defer stop()
	for node := range c.Nodes {
		if err := c.Run(ctx, node, "CREATE TABLE part ENGINE = MergeTree() ORDER BY tuple() AS "+typedTable(node*(b.rows/3), b.rows/3)); err != nil {
			return err
		}
	}
	if err := c.Run(ctx, 0, "CREATE TABLE spread AS part ENGINE = Distributed(vale, default, part)"); err != nil {
		return err
	}
	return use(c)
}

// inPostgreSQL judges the table t of texts with the types that its columns have.
func (b *bench) inPostgreSQL(ctx context.Context, conn *pgx.Conn) error {
	if _, err := conn.Exec(ctx, `CREATE TABLE typed AS SELECT id, station, parameter, value::numeric(9,3) AS value, "limit"::numeric(9,1) AS "limit", sampled::date AS sampled, received::date AS received, easting::int AS easting,
		northing::int AS northing, batch, crew, nullif(remark, '') AS remark FROM t`); err != nil {
		return err
	}
	of := conn.Config()
	return b.there(ctx, "a table of PostgreSQL judged strictly where it lies", engine.Database{Engine: "postgresql", Host: of.Host, Port: int(of.Port), Name: of.Database, User: of.User, Password: of.Password},
		engine.Relation{Schema: "public", Table: "typed"}, 0)
}

// there compares judging a table where it lies with taking and judging it; 0 for a figure without a bar.
func (b *bench) there(ctx context.Context, what string, d engine.Database, r engine.Relation, wanted float64) error {
	book, err := rulebook.Parse([]byte(strictBook()))
	if err != nil {
		return err
	}
	var inPlace, taken measured
	var text []string
	var answered int64
	exported := filepath.Join(b.directory, "exported.csv")
	session := func(use func(engine.Session) error) (measured, error) {
		started := time.Now()
		s, err := engine.Open(ctx, d)
		if err != nil {
			return measured{}, err
		}
		err = errors.Join(use(s), s.Close())
		return measured{took: time.Since(started)}, err
	}
	rounds := min(2, b.rounds)
	if wanted == 0 {
		rounds = 1
	}
	if err := (&bench{rounds: rounds}).inTurn([]measuring{
		{&inPlace, func() (measured, error) {
			return session(func(s engine.Session) error {
				result, err := inplace.Judge(ctx, s, d.Engine, r, book, inplace.Options{Workers: 2})
				if err == nil {
					answered = 0
					for _, one := range result.There.Statements {
						answered += one.Bytes
					}
				}
				return err
			})
		}},
		{&taken, func() (measured, error) {
			return session(func(s engine.Session) error {
				out, err := os.Create(exported)
				if err != nil {
					return err
				}
				facts, err := engine.Take(ctx, s, r, engine.Limits{}, out)
				if err = errors.Join(err, out.Close()); err != nil {
					return err
				}
				text = text[:0]
				for _, c := range facts.Columns {
					if c.Text {
						text = append(text, c.Name)
					}
				}
				typed := book.ForTyped(text)
				file, err := intake.Open(ctx, content.AtPath(exported), typed.Reading)
				if err != nil {
					return err
				}
				_, err = audit.Run(ctx, file, typed, 2)
				return err
			})
		}},
	}); err != nil {
		return err
	}
	info, err := os.Stat(exported)
	if err != nil {
		return err
	}
	fmt.Printf("%-58s %8.2f s, and %.2f s to take it and judge it; %.1f and %.1f MB came back\n", what, inPlace.took.Seconds(), taken.took.Seconds(), float64(answered)/1e6, float64(info.Size())/1e6)
	if wanted > 0 {
		bar(what, taken.took.Seconds()/inPlace.took.Seconds(), "times as fast as taking and judging it", wanted, true)
	}
	return nil
}
