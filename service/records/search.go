package records

// Hit is something that a search finds.
type Hit struct {
	Kind    string `db:"kind" json:"kind" enum:"dataset,column,rule,issue,delivery,certificate"`
	Name    string `db:"name" json:"name" doc:"What it is called"`
	Dataset string `db:"dataset" json:"dataset" doc:"The dataset that it is in"`
	Says    string `db:"says" json:"says" doc:"What else is to be known of it"`
	ID      int64  `db:"id" json:"id" doc:"Of an issue, a delivery or a certificate; of a column the newest delivery that has it; 0 for others"`
}

// Found is what a search finds, of each kind the first.
type Found struct {
	Hits []Hit    `json:"hits"`
	More []string `json:"more" doc:"Kinds of which there are more; a longer text finds fewer"`
}
