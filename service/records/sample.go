package records

// Sample is a dataset that a service can bring by itself, to be looked around in: its rulebook, and a file of it.
type Sample struct {
	Dataset  string `json:"dataset"`
	FileName string `json:"file_name"`
	Rulebook string `json:"rulebook" doc:"YAML"`
	Content  []byte `json:"-"`
}
