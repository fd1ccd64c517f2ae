// Package table holds what every other package of core/ speaks in: types and
// typed values, exact decimals, batches of dictionary-encoded columns, row sets,
// and the Source through which a table is read any number of times.
//
// A cell keeps the text it had in the file. Its typed value is worked out from
// that text by a Format, once per distinct text of a column.
//
// A table is never held whole. A Source is opened as often as is wanted and hands out Parts in the
// order of the file; Scan and its sisters have workers take them apart into Batches side by side
// and give the results back in order, so that the number of workers cannot be seen in them. A
// batch's column is a Dictionary of texts and a code per row. What refers to rows is a RowSet.
//
// To add a type of values, give it its place in value.go: how it is parsed, ordered, written in
// the standard form, and what it is in a key (Identity).
package table
