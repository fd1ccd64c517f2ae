package rulebook

import (
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
)

// The parts of a rulebook that are no lists of items, as forms call them.
const (
	HeadSection    = "rulebook" // its own fields
	ReadingSection = "reading"
)

// What cells that were estimated count as.
const (
	EstimatesMissing = "missing"
	EstimatesValues  = "values"
)

var estimatesAre = []string{EstimatesMissing, EstimatesValues}

// headForms are the fields of the rulebook itself.
var headForms = []FieldForm{
	{Name: "title", Kind: "text", Says: "What the dataset is, in a few words"},
	{Name: "measures", Kind: "columns", Says: "Columns of numbers that are summed; they say what a finding costs"},
	{Name: "estimates", Kind: "choice", Choices: estimatesAre, Says: "Whether cells that were estimated count as missing or as values; as missing where it is left out"},
	{Name: "pass_mark", Kind: "number", Says: "The least score of a table that passes, of 100"},
}

// readingForms are the fields of the reading.
func readingForms() []FieldForm {
	return []FieldForm{
		{Name: "format", Kind: "choice", Choices: content.Formats(), Says: "What the file is; left out, its first bytes say so"},
		{Name: "encoding", Kind: "choice", Choices: intake.Encodings, Says: "How its characters are written"},
		{Name: "delimiter", Kind: "choice", Choices: []string{",", ";", "\t", "|", ":", " "}, Says: "The character between cells"},
		{Name: "quote", Kind: "text", Says: "The character around cells that hold delimiters, or none"},
		{Name: "header_line", Kind: "number", Says: "The line with the names, from 1; -1 where there is none"},
		{Name: "closing_lines", Kind: "texts", Says: "Texts with which lines at the end begin that are no rows"},
		{Name: "decimal_mark", Kind: "choice", Choices: []string{".", ","}, Says: "The mark of decimals"},
		{Name: "grouping_mark", Kind: "text", Says: "The character between thousands"},
		{Name: "missing", Kind: "texts", Says: "Texts that stand for a missing value, beside the empty cell"},
		{Name: "dates", Kind: "texts", Says: "Unicode date patterns, tried in order, as dd.MM.yyyy"},
		{Name: "true_words", Kind: "texts", Says: "Texts that stand for true"},
		{Name: "false_words", Kind: "texts", Says: "Texts that stand for false"},
		{Name: "sheet", Kind: "text", Says: "The sheet of a workbook; left out, the first that is not hidden"},
		{Name: "entry", Kind: "text", Says: "The file of an archive that is the table, where there are several"},
	}
}
