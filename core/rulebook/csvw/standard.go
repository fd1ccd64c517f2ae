package csvw

import (
	"encoding/json"

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
)

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

// OfTable writes the metadata of a table of ours by its rulebook and its reading.
func OfTable(b *rulebook.Rulebook, reading rulebook.TableReading, url string) []byte {
	metadata, _ := Of(b.ForTable(reading), url)
	var t map[string]any
	if json.Unmarshal(metadata, &t) != nil {
		return metadata
	}
	t["dc:conformsTo"] = standardReading
	if !reading.IsStandard() {
		t["dc:conformsTo"], t[ownReading] = ownReading, reading
	}
	metadata, _ = json.MarshalIndent(t, "", "  ") // nothing in it can fail
	return append(metadata, '\n')
}
