package records

// DatasetRight is what somebody who is confined to datasets may do with one.
type DatasetRight struct {
	DatasetID int64  `db:"dataset_id" json:"-"`
	Dataset   string `db:"dataset" json:"dataset"`
	May       string `db:"may" json:"may" enum:"read,work,certify" doc:"As far as their role allows it as well: to read; to read, discuss and work; to read, discuss and certify"`
	Personal  bool   `db:"personal" json:"personal,omitempty" doc:"They see columns with personal data as they are; whoever works with the data does in any case"`
}

// Confinement says to which datasets somebody is confined.
type Confinement struct {
	Confined bool           `json:"confined" doc:"Whether they see some datasets alone; all that their role allows counts everywhere where they are not"`
	Rights   []DatasetRight `json:"rights" maxItems:"2000" doc:"What they may do with which"`
}
