package cli

import (
	"proudsieve/demo"
	"proudsieve/service/records"
)

// demoSamples are the deliveries of the demo, which the console offers to whoever wants to look around.
func demoSamples() ([]records.Sample, error) {
	var out []records.Sample
	for _, one := range demo.Deliveries {
		book, err := demo.Files.ReadFile("rulebooks/" + one.Dataset + ".yaml")
		if err != nil {
			return nil, err
		}
		content, err := demo.Files.ReadFile("data/" + one.File)
		if err != nil {
			return nil, err
		}
		out = append(out, records.Sample{Dataset: one.Dataset, FileName: one.File, Rulebook: string(book), Content: content})
	}
	return out, nil
}
