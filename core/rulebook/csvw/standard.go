package csvw

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

// Suffix is what the name of the metadata beside a table has after that of the table (CSVW, section 5.3).
const Suffix = "-metadata.json"

const (
	// standardReading is what tables of ours conform to: commas, UTF-8, a header, points for decimal marks, ISO dates, and
	// nothing but the empty cell for a missing value.
	standardReading = "urn:proudsieve:standard-reading"
	// ownReading is what tables of ours conform to of which some columns are written otherwise. The reading stands beside,
	// in a property of this name: CSVW has no words for all of it.
	ownReading = "urn:proudsieve:table-reading"
	// marksBeside is the property that names the file which says what cells of a table of ours are estimates.
	marksBeside = "urn:proudsieve:marks"
)

// Marks name the file that says which cells of a table are estimates.
type Marks struct {
	URL    string `json:"url"` // beside the metadata
	SHA256 string `json:"sha256"`
	// Cells counts the estimates per column.
	Cells map[string]int64 `json:"cells"`
}

// MarksOf returns the marks that metadata name; nil where they name none.
func MarksOf(metadata []byte) *Marks {
	var t struct {
		Marks *Marks `json:"urn:proudsieve:marks"`
	}
	if json.Unmarshal(metadata, &t) != nil {
		return nil
	}
	return t.Marks
}

// note is an annotation of a table (CSVW, section 5.4.3), in the terms of the Web Annotation Data Model.
type note struct {
	Type       string `json:"type"`
	Target     string `json:"target"`
	Motivation string `json:"motivation"`
	Body       string `json:"body"`
}

// notes say in words what the marks say.
func (m *Marks) notes(url string) (out []note) {
	for _, column := range slices.Sorted(maps.Keys(m.Cells)) {
		out = append(out, note{"Annotation", url, "commenting",
			fmt.Sprintf("%s of the column %s %s; %s says which.", document.Counted(m.Cells[column], "value", "values"), column,
				document.Plural(m.Cells[column], "is an estimate", "are estimates"), m.URL)})
	}
	return out
}

// ReadingOf returns how a table is read whose metadata say that it is one of ours. It is false for other tables; what is no
// metadata says nothing.
func ReadingOf(metadata []byte) (reading rulebook.TableReading, ours bool) {
	var t struct {
		ConformsTo any                    `json:"dc:conformsTo"`
		Reading    *rulebook.TableReading `json:"urn:proudsieve:table-reading"`
	}
	if json.Unmarshal(metadata, &t) != nil {
		return reading, false
	}
	switch t.ConformsTo {
	case standardReading:
		return reading, true
	case ownReading:
		if t.Reading != nil {
			return *t.Reading, true
		}
	}
	return reading, false
}

// OfTable writes the metadata of a table of ours by its rulebook and its reading; marks is nil where no cell is an estimate.
func OfTable(b *rulebook.Rulebook, reading rulebook.TableReading, marks *Marks, url string) []byte {
	metadata, _ := Of(b.ForTable(reading), url)
	var t map[string]any
	if json.Unmarshal(metadata, &t) != nil {
		return metadata
	}
	t["dc:conformsTo"] = standardReading
	if !reading.IsStandard() {
		t["dc:conformsTo"], t[ownReading] = ownReading, reading
	}
	if marks != nil {
		t[marksBeside], t["notes"] = marks, marks.notes(url)
	}
	metadata, _ = json.MarshalIndent(t, "", "  ") // nothing in it can fail
	return append(metadata, '\n')
}
