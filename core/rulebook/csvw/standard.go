package csvw

import (
	"encoding/json"

	"proudsieve/core/rulebook"
)

// Suffix is what the name of the metadata beside a table has after that of the table (CSVW, section 5.3).
const Suffix = "-metadata.json"

// standardReading is what tables of ours conform to: commas, UTF-8, a header, points for decimal marks, ISO dates, and
// nothing but the empty cell for a missing value.
const standardReading = "urn:proudsieve:standard-reading"

// IsStandard reports whether metadata say of a table that it is one of ours. What is no metadata says nothing.
func IsStandard(metadata []byte) bool {
	var t description
	return json.Unmarshal(metadata, &t) == nil && t.ConformsTo == standardReading
}

// OfTable writes the metadata of a table of ours by its rulebook.
func OfTable(b *rulebook.Rulebook, url string) []byte {
	metadata, _ := Of(b.ForTable(rulebook.TableReading{}), url)
	var t map[string]any
	if json.Unmarshal(metadata, &t) != nil {
		return metadata
	}
	t["dc:conformsTo"] = standardReading
	metadata, _ = json.MarshalIndent(t, "", "  ") // nothing in it can fail
	return append(metadata, '\n')
}
