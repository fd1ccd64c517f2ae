// Package condition is the language of row rules: the part of SQL's search
// conditions (ISO/IEC 9075) that speaks about one row.
//
//	condition   = conjunction { OR conjunction }
//	conjunction = negation { AND negation }
//	negation    = [ NOT ] predicate
//	predicate   = joined [ comparison joined | IS [NOT] ( NULL | MISSING | MISTYPED | TRUE | FALSE | UNKNOWN )
//	              | IS [NOT] DISTINCT FROM joined | [NOT] BETWEEN joined AND joined
//	              | [NOT] IN ( condition { , condition } )
//	              | [NOT] LIKE 'pattern' [ ESCAPE 'c' ] | [NOT] LIKE_REGEX 'pattern' ]
//	joined      = sum { || sum }
//	sum         = product { ( + | - ) product }
//	product     = factor { ( * | / ) factor }
//	factor      = [ - | + ] ( literal | column | function | case | ( condition ) )
//	literal     = 12.5 | 'text' | DATE '2024-05-31' | TIMESTAMP '2024-05-31 10:30:00'
//	              | INTERVAL '3' ( YEAR | MONTH | DAY | HOUR | MINUTE | SECOND ) | TRUE | FALSE | NULL
//	case        = CASE [ joined ] { WHEN condition THEN condition } [ ELSE condition ] END
//	function    = name ( condition { , condition } ) | EXTRACT ( field FROM sum )
//	              | CAST ( condition AS type ) | TRIM ( [ LEADING | TRAILING | BOTH ] [ characters ] [ FROM ] sum )
//	              | SUBSTRING ( sum FROM sum [ FOR sum ] ) | POSITION ( sum IN sum )
//	column      = name | "quoted name"
//
// The meaning is SQL's: three truth values, a comparison with a missing value
// unknown. A rule is broken only where its condition is false. Text is compared
// by its bytes, decimals exactly. What cannot be worked out (a division by zero, a CAST
// of a text that is no such value) has no value, where PostgreSQL, which the tests take
// as oracle, would stop; an audit counts the rows for which a rule is unknown. The standard leaves
// open, or PostgreSQL does otherwise: a quotient of whole numbers keeps its
// fraction (5 / 2 is 2.5), a date moved by days, months or years stays a date, LIKE has
// no escape character unless one is given, and the patterns of LIKE_REGEX are RE2's. A cell whose text
// is no value of its column's type is NULL as an empty one is; "flow IS MISSING" is true where nothing
// is there, and "flow IS MISTYPED" where a text is that is no such value.
package condition
