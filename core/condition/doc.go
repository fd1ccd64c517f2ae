// Package condition is the language of row rules: the part of SQL's search
// conditions (ISO/IEC 9075) that speaks about one row.
//
//	condition  = conjunction { OR conjunction }
//	conjunction = negation { AND negation }
//	negation   = [ NOT ] predicate
//	predicate  = sum [ comparison sum | IS [NOT] NULL | [NOT] BETWEEN sum AND sum
//	             | [NOT] IN ( sum { , sum } ) ]
//	sum        = product { ( + | - ) product }
//	product    = factor { ( * | / ) factor }
//	factor     = [ - | + ] ( literal | column | ( condition ) )
//	literal    = 12.5 | 'text' | DATE '2024-05-31' | TIMESTAMP '2024-05-31 10:30:00'
//	             | TRUE | FALSE | NULL
//	column     = name | "quoted name"
//
// The meaning is SQL's: three truth values, a comparison with a missing value
// unknown. A rule is broken only where its condition is false. Text is compared
// by its bytes, decimals exactly. Two things are left open by the standard or
// differ from PostgreSQL, which the tests take as oracle: a quotient of whole
// numbers keeps its fraction (5 / 2 is 2.5), and a division by zero has no value.
package condition
