// Package sharded has the network of gauges of the Alder Vale river survey: readings every quarter of an hour, on three servers of ClickHouse, which
// nobody exports to have them judged. What is planted among them stands here.
package sharded

import (
	"fmt"
	"strings"
)

// Servers is how many servers share the readings, and Rows how many each has before anything is planted.
const (
	Servers = 3
	Rows    = 200_000
)

const stations = 40

// Planted is a defect that was planted, and where a judgement tells of it.
type Planted struct {
	Rule string // that catches it
	Rows int64
	Says string
}

// All lists what was planted.
var All = []Planted{
	{"one_reading", 2, "two readings of server 0 stand on server 1 again, with other levels: no server sees that by itself"},
	{"level.range", 5, "five levels of server 2 are -9.999, which the logger writes where it measured nothing"},
	{"station.codes", 7, "seven readings of server 1 are of AV-099, which is no station"},
	{"sensor.required", 11, "eleven readings of server 0 do not say by which sensor they were read"},
}

// quarters is how many quarters of an hour each server has, of all stations.
const quarters = Rows / stations

// reading is a reading with a number, of the quarter of an hour that is so many after the first one.
func reading(id, quarter, station, level, sensor string) string {
	return fmt.Sprintf("SELECT toUInt64(%s) AS id, %s AS station, toDateTime('2026-01-01 00:00:00', 'UTC') + (%s) * 900 AS read_at, %s AS level, %s AS sensor", id, station, quarter, level, sensor)
}

// usual is when the readings of a server were read, one after the other.
func usual(server int, number string) string {
	return fmt.Sprintf("%d + intDiv(%s, %d)", server*quarters, number, stations)
}

const (
	usualStation = "concat('AV-0', substring(toString(101 + number % 40), 2))"
	usualLevel   = "toDecimal64((1 + number % 40) / 4 + (number % 97) / 200, 3)"
	usualSensor  = "arrayElement(['float', 'radar', 'pressure'], 1 + number % 3)"
)

// Statements make the readings of a server; the first one has the table of all of them as well, vale.readings.
func Statements(server int) []string {
	// What is planted comes after all others, each at a time of its own.
	planted := func(rows int, station, level, sensor string) string {
		made := reading(fmt.Sprintf("%d + number", Servers*Rows+100*server), fmt.Sprintf("%d + number", Servers*quarters+100*server), station, level, sensor)
		return fmt.Sprintf("INSERT INTO vale.part %s FROM system.numbers LIMIT %d", made, rows)
	}
	all := []string{"CREATE DATABASE IF NOT EXISTS vale",
		"CREATE TABLE vale.part (id UInt64, station String, read_at DateTime('UTC'), level Decimal(9, 3), sensor Nullable(String)) ENGINE = MergeTree() ORDER BY tuple()",
		fmt.Sprintf("INSERT INTO vale.part %s FROM system.numbers LIMIT %d", reading(fmt.Sprintf("%d + number", server*Rows), usual(server, "number"), usualStation, usualLevel, usualSensor), Rows)}
	switch server {
	case 0:
		all = append(all, planted(11, usualStation, usualLevel, "NULL"),
			"CREATE TABLE vale.readings AS vale.part ENGINE = Distributed(vale, vale, part)")
	case 1:
		again := reading(fmt.Sprintf("%d + number", Servers*Rows+300), usual(0, "number"), usualStation, usualLevel+" + toDecimal64(1, 3)", usualSensor)
		all = append(all, planted(7, "'AV-099'", usualLevel, usualSensor), fmt.Sprintf("INSERT INTO vale.part %s FROM system.numbers LIMIT 2", again))
	case 2:
		all = append(all, planted(5, usualStation, "toDecimal64(-9.999, 3)", usualSensor))
	}
	return all
}

// Rulebook is what is declared of the readings.
func Rulebook() string {
	var codes strings.Builder
	for i := range stations {
		fmt.Fprintf(&codes, "    - {code: AV-%03d}\n", i+1)
	}
	return `dataset: gauge_network
title: Readings of all gauges, on three servers
columns:
  - {name: id, type: integer, required: true}
  - {name: station, type: code, codes: stations, required: true, severity: major}
  - {name: read_at, type: datetime, required: true}
  - {name: level, title: "Level, m", type: decimal, from: 0, to: 12}
  - {name: sensor, required: true}
keys:
  - {id: one_id, columns: [id]}
  - {id: one_reading, columns: [station, read_at]}
measures: [level]
code_lists:
  stations:
` + codes.String()
}
