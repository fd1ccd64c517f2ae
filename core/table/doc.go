// Package table holds what every other package of core/ speaks in: types and
// typed values, exact decimals, batches of dictionary-encoded columns, row sets,
// and the Source through which a table is read any number of times.
//
// A cell keeps the text it had in the file. Its typed value is worked out from
// that text by a Format, once per distinct text of a column.
package table
