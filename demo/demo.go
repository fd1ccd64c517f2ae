// Package demo is the Alder Vale river survey: a made-up register of sampling
// stations, field visits, and the results of two laboratories that deliver in
// different shapes. Everything in it is written by Generate, with a fixed seed,
// and planted.json says which defects were put where.
package demo

import (
	"embed"
	"encoding/json"
)

// Files holds the committed files under data/, rulebooks/, fixes/ and merges/.
//
//go:embed data rulebooks fixes merges planted.json planted_leads.json planted_together.json
var Files embed.FS

// Planted is one kind of defect that was put into a file on purpose.
type Planted struct {
	Dataset string   `json:"dataset"`
	Defect  string   `json:"defect"` // in words
	Rules   []string `json:"rules"`  // the rules of the dataset's rulebook that must find exactly these rows
	Count   int      `json:"count"`
	Rows    []uint32 `json:"rows"` // row numbers, from 1
}

// PlantedDefects reads planted.json.
func PlantedDefects() ([]Planted, error) {
	raw, err := Files.ReadFile("planted.json")
	if err != nil {
		return nil, err
	}
	var planted []Planted
	return planted, json.Unmarshal(raw, &planted)
}

// Delivery is a dataset of the demo and the file it arrives in.
type Delivery struct{ Dataset, File string }

// Deliveries lists the datasets in the order in which the demo takes them in.
var Deliveries = []Delivery{
	{"stations", "stations.csv"},
	{"visits", "visits.csv"},
	{"highgarth_results", "highgarth_results.csv"},
	{"millrace_results", "millrace_results.csv"},
	{"gauge_sheets", "gauge_sheets.csv"},
}

// Levels is the dataset that the gauge sheets are turned into.
const Levels = "levels"

// Undeclared is a dataset of the demo that nobody has declared anything about.
var Undeclared = Delivery{"returns", "returns.csv"}

// UndeclaredBefore is the delivery before it, which nothing was planted in.
var UndeclaredBefore = Delivery{"returns", "returns_before.csv"}

// PlantedLead is one thing that looks odd in it, on purpose.
type PlantedLead struct {
	Lead   string `json:"lead"`
	Column string `json:"column"`
	Rows   int64  `json:"rows"` // that it must speak of; 0 for any number
}

// PlantedLeads reads planted_leads.json.
func PlantedLeads() ([]PlantedLead, error) {
	raw, err := Files.ReadFile("planted_leads.json")
	if err != nil {
		return nil, err
	}
	var planted []PlantedLead
	return planted, json.Unmarshal(raw, &planted)
}

// Rivers and Sums are the third source: gauges that are read every hour, and the sums that an office makes of them by month.
var (
	Rivers = Delivery{"river_gauges", "river_gauges.csv"}
	Sums   = Delivery{"monthly_flows", "monthly_flows.csv"}
)

// Revised is a delivery of a laboratory in which some results are corrected, some are taken back and some are new.
var Revised = Delivery{"highgarth_results", "highgarth_revised.csv"}

// PlantedTogether is what was put into the third source and the revised delivery on purpose.
type PlantedTogether struct {
	Spelled     int          `json:"spelled"`      // rows of a gauge that spells its station in lower case, with a space after it
	Apart       PlantedTotal `json:"apart"`        // the total of the office that is wrong
	TotalsLines int          `json:"totals_lines"` // among the sums of the office
	Corrected   int          `json:"corrected"`    // results with another value, and a remark that says so
	TakenBack   int          `json:"taken_back"`
	Added       int          `json:"added"`
}

// PlantedTotal is a sum by station and month that is wrong.
type PlantedTotal struct {
	Station string `json:"station"`
	Month   string `json:"month"` // its first day
	By      string `json:"by"`    // what is missing, in m3
}

// Together reads planted_together.json.
func Together() (*PlantedTogether, error) {
	raw, err := Files.ReadFile("planted_together.json")
	if err != nil {
		return nil, err
	}
	var planted PlantedTogether
	return &planted, json.Unmarshal(raw, &planted)
}
