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
//go:embed data rulebooks fixes merges planted.json planted_leads.json
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
