package inplace

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/table"
	"proudsieve/engine"
)

// dialect is the SQL of an engine. Names and texts get into a statement through it alone.
type dialect interface {
	// name quotes the name of a column.
	name(string) string
	// quote writes a text as a literal; an error where there is no such literal.
	quote(text string) (string, error)
	natureOf(c *engine.Column) nature
	// text is a column as the text that a delivery would have; null for none.
	text(ref string, n nature) string
	// garbled is where servers of some versions write a column as another text than it has, and a question to which those answer something
	// else than right; empty where none do.
	garbled(ref string, n nature) (where, try, right string)
	// direct is a column as a value of a type, where its nature is one of that type; odd is a condition that is true where it is none all the
	// same, as of NaN; empty for never.
	direct(ref string, n nature, to table.Type) (v said, odd string, ok bool)
	// none is a null of a kind, like another value.
	none(like said) said
	literal(v table.Value) (said, error)
	compare(sign string, a, b said) (string, error)
	// not is NOT, and join is AND or OR, in the logic of three values.
	not(condition string) string
	join(word, a, b string) string
	calculate(sign string, a, b said) (said, error)
	call(s *condition.Step, args []said) (said, error)
	// choose is one of several values by conditions that are never null; the last value is the one without.
	choose(when []string, then []said) (said, error)
	// mapped turns the texts of a column into the values that they stand for; others are null.
	mapped(text string, from []string, to []table.Value, kind table.Kind) (said, error)
	// number reads a text of digits, a sign and a point as a number of so many digits after it, where a condition holds that is never null.
	number(text, where string, scale int) (said, error)
	// replace puts a text in the place of another.
	replace(text, what, by string) string
	// matches is a condition that a text matches a pattern of RE2.
	matches(text, pattern string) (string, error)
	// certain makes a condition that is true or false and never null: whether it is true.
	certain(condition string) string
	isNull(sql string) string
	// among is a condition that a text is one of some, and amongRows that several are together; a null is like an empty text.
	among(text string, list []string) string
	amongRows(texts []string, rows [][]string) string
	// firstOf is a text or, where that is null, nothing.
	firstOf(text string) string
	// sorted is a text that is ordered by its bytes.
	sorted(text string) string
	digitsAlike(text string) string
	length(text string) string
	// pads is a question to which a server that writes a number with all digits that its type has after the point answers right; empty where all do.
	pads() (try, right string)
	// asText turns what was worked out into a text.
	asText(sql string) string
	countWhere(condition string) string
	sum(v said) string
	// sumText is the text of such a sum: a number, or a number of tens to the power sumPower, that word, and what is to be added.
	sumText(sum string, of said) string
	lowest(v said, condition string) string
	highest(v said, condition string) string
	// bits is a word of up to wordBits conditions.
	bits(conditions []string) string
	// bucket is the first bits of a number as in profile.BucketBits.
	bucket(v said) string
	double(v said) string
	// near is an exact number in double precision, to which it comes back where it has up to doubleDigits; empty where that takes no less.
	near(v said) string
	// trimmed is the text of an exact number, without zeros at its end.
	trimmed(v said) string
	// spread is one of hashBuckets, by a hash of a column.
	spread(c *column) string
	// rowHash is a hash of 128 bits of texts, in hexadecimal.
	rowHash(texts []string) string
	// explained is a question of what the server expects of another one, and reads the first line of its answer; empty where it tells nothing.
	explained(sql string) (ask string, read func(line string) string)
	// fence keeps what stands in a question within from being worked out again for each use; empty where an engine does so by itself.
	fence() string
	// matchesFast says that texts are held against patterns faster than they are made into shapes.
	matchesFast() bool
	// hash is a hash of 64 bits of columns, whose name is hashName, and exclusiveOr what comes of several.
	hash(columns []*column) string
	hashName() string
	exclusiveOr(hash string) string
	// crowded tells a part of all hashes by one of them, and of those of a part whether some may be there more than once, in much less work than to count
	// each; empty where an engine has no such way.
	crowded(hash string) (part, crowded string)
	// groups says that equal values of a nature are found by grouping what the engine holds.
	groups(n nature) bool
	day(v said) string
	// distinct is how many different texts there are, with its relative error; a query over all of them is asked where it is empty.
	distinct(text string) (sql string, relative float64)
	// elsewhere is the word before IN that has a list from a query told to all parts of a table.
	elsewhere() string
}

// said is a value in the words of an engine.
type said struct {
	sql    string
	raw    string // the same as the engine holds it, where sql makes something else of it for calculations; empty elsewhere
	kind   table.Kind
	scale  int  // digits after the point, of an exact number; -1 where they differ
	float  bool // it is a binary fraction, with which an engine does not calculate exactly
	digits int  // at most, of an exact number as the engine holds it; 0 where that is not known
	wide   bool // it is an exact number with room for calculations
	sure   bool // it is never null
	near   bool // it is a date or moment within the reach of the engine's own
	may    truths
}

// nature is what an engine has a column hold.
type nature struct {
	kind   natureKind
	scale  int  // of exact numbers, -1 where they differ; of moments the digits after the second
	digits int  // of exact numbers
	zoned  bool // moments with a zone
	sure   bool // the engine says that there are no nulls
}

type natureKind uint8

const (
	textual natureKind = iota
	padded             // texts that are filled up to a width
	integer
	exact
	floating
	boolean
	dated
	moment
	other // what an engine writes as text in its own way
)

// errUnsaid is what all that an engine's SQL cannot say exactly has in common.
var errUnsaid = errors.New("cannot be said in its SQL")

func unsaid(format string, args ...any) error {
	return fmt.Errorf("%s %w", fmt.Sprintf(format, args...), errUnsaid)
}

// doubleDigits is how many digits of an exact number double precision holds.
const doubleDigits = 15

// wordBits is how many conditions are gathered into one number.
const wordBits = 60

// translator says conditions about the columns of a table.
type translator struct {
	dialect
	columns map[string]*column
}

// holds says a condition.
func (t *translator) holds(c *condition.Condition) (said, error) { return t.step(c.Steps()) }

func (t *translator) step(s condition.Step) (said, error) {
	if s.Kind != table.Boolean || len(s.Of) == 0 {
		return t.part(s)
	}
	c, of := t.beforehand(&s)
	known := truths(0)
	for _, truth := range of {
		known |= truthsOf(truth)
	}
	if len(of) == 0 && len(s.Of) == 2 {
		known = t.byExtremes(&s)
	}
	if v, ok := t.settled(known); ok {
		return v, nil
	}
	v, err := t.part(s)
	if c != nil && errors.Is(err, errUnsaid) {
		v, err = t.byTexts(c, of)
	}
	if known != 0 {
		v.may = known
	}
	return v, err
}

func (t *translator) part(s condition.Step) (said, error) {
	switch s.Does {
	case condition.Literally:
		return t.literal(s.Is)
	case condition.OfColumn:
		c := t.columns[s.Name]
		return c.value, c.valueUnsaid
	case condition.IsMissing, condition.IsMistyped:
		c := t.columns[s.Of[0].Name]
		if c.valueUnsaid != nil {
			return said{}, c.valueUnsaid
		}
		sql := c.mistyped
		if s.Does == condition.IsMissing {
			sql = fmt.Sprintf("(%s AND NOT %s)", t.nullOf(c.value), sql)
		}
		return said{sql: sql, kind: table.Boolean, sure: true}, nil
	}
	if s.Does == condition.And || s.Does == condition.Or {
		return t.junction(&s)
	}
	args := make([]said, len(s.Of))
	for i := range s.Of {
		var err error
		if args[i], err = t.step(s.Of[i]); err != nil {
			return said{}, err
		}
	}
	if err := t.shapeNulls(&s, args); err != nil {
		return said{}, err
	}
	sure := !slices.ContainsFunc(args, func(v said) bool { return !v.sure })
	truth := func(sql string, err error) (said, error) { return said{sql: sql, kind: table.Boolean, sure: sure}, err }
	always := func(sql string, err error) (said, error) { return said{sql: sql, kind: table.Boolean, sure: true}, err }
	switch s.Does {
	case condition.Minus:
		zero, err := t.literal(table.NumberValue(table.Decimal{}))
		if err != nil {
			return said{}, err
		}
		return t.calculated("-", zero, args[0])
	case "+", "-", "*", "/":
		return t.calculated(s.Does, args[0], args[1])
	case "=", "<>", "<", "<=", ">", ">=":
		return truth(t.compare(s.Does, args[0], args[1]))
	case condition.IsNull:
		return always(t.nullOf(args[0]), nil)
	case condition.Not:
		return t.negated(args[0]), nil
	case condition.OneOf:
		return truth(t.oneOf(args, sure))
	case "IS TRUE":
		return always(t.certainly(args[0]), nil)
	case "IS FALSE":
		return always(t.certain(t.not(args[0].sql)), nil)
	case "IS UNKNOWN":
		return always(t.nullOf(args[0]), nil)
	case "IS DISTINCT FROM":
		equal, err := t.compare("=", args[0], args[1])
		a, b := t.isNull(args[0].sql), t.isNull(args[1].sql)
		return always(t.not(fmt.Sprintf("(%s OR (%s AND %s))", t.certain(equal), a, b)), err)
	case "COALESCE":
		var when []string
		for _, one := range args[:len(args)-1] {
			when = append(when, "(NOT "+t.isNull(one.sql)+")")
		}
		return t.choose(when, args)
	case "NULLIF":
		equal, err := t.compare("=", args[0], args[1])
		if err != nil {
			return said{}, err
		}
		return t.choose([]string{t.certain(equal)}, []said{t.none(args[0]), args[0]})
	case "CASE":
		var when []string
		var then []said
		for i := 0; i < len(args)-1; i += 2 {
			when, then = append(when, t.certainly(args[i])), append(then, args[i+1])
		}
		return t.choose(when, append(then, args[len(args)-1]))
	case "LIKE":
		pattern, _ := condition.LikePattern(s.Of[1].Is.Text, s.Word) // which Check has seen
		return truth(t.matches(args[0].sql, pattern))
	case "LIKE_REGEX":
		return truth(t.matches(args[0].sql, s.Of[1].Is.Text))
	}
	v, err := t.call(&s, args)
	switch s.Does {
	case condition.Move, condition.PlusDays, condition.LessDays, condition.DaysFrom:
		v.sure = sure
	}
	return v, err
}

// junction says AND and OR. A part that decides by itself makes up for another one that cannot be said.
func (t *translator) junction(s *condition.Step) (said, error) {
	var args [2]said
	var errs [2]error
	for i := range s.Of {
		args[i], errs[i] = t.step(s.Of[i])
	}
	decides := map[string]truths{condition.And: canBeFalse, condition.Or: canBeTrue}[s.Does]
	for i := range args {
		if errs[i] == nil && args[i].can() == decides {
			return args[i], nil
		}
	}
	if err := cmp.Or(errs[0], errs[1]); err != nil {
		return said{}, err
	}
	if err := t.shapeNulls(s, args[:]); err != nil {
		return said{}, err
	}
	return t.joined(s.Does, args[0], args[1]), nil
}

// calculated calculates with numbers. What none of is null gives no null but a quotient.
func (t *translator) calculated(sign string, a, b said) (said, error) {
	v, err := t.calculate(sign, a, b)
	v.sure = a.sure && b.sure && sign != "/"
	return v, err
}

// certainly is whether a truth value is true.
func (t *translator) certainly(v said) string {
	switch {
	case v.never(canBeTrue):
		return never
	case v.sure:
		return v.sql
	}
	return t.certain(v.sql)
}

// nullOf is whether there is no value.
func (t *translator) nullOf(v said) string {
	switch {
	case v.sure || v.kind == table.Boolean && v.never(canBeUnknown):
		return never
	case v.kind == table.Boolean && v.can() == canBeUnknown:
		return always
	}
	return t.isNull(v.sql)
}

// both is where two conditions hold that are never null.
func both(a, b string) string {
	switch {
	case a == never || b == never:
		return never
	case a == always:
		return b
	case b == always:
		return a
	}
	return "(" + a + " AND " + b + ")"
}

// shapeNulls gives a NULL among the arguments the kind of what stands beside it.
func (t *translator) shapeNulls(s *condition.Step, args []said) error {
	like := -1
	for i := range args {
		if args[i].kind != table.Missing && !(s.Does == "CASE" && i%2 == 0 && i < len(args)-1) {
			like = i
		}
	}
	for i := range args {
		if args[i].kind != table.Missing {
			continue
		}
		shape := said{kind: table.Boolean}
		switch s.Does {
		case condition.Not, condition.And, condition.Or, "IS TRUE", "IS FALSE", "IS UNKNOWN":
		case "LOWER", "UPPER", "LENGTH", "CHAR_LENGTH", "CHARACTER_LENGTH", "TRIM", "POSITION", "||", "LIKE", "LIKE_REGEX":
			shape.kind = table.Text
		case condition.Minus, "+", "-", "*", "/", "ABS", "FLOOR", "CEIL", "CEILING", "ROUND", "MOD", condition.PlusDays, condition.LessDays:
			shape.kind = table.Number
		case "SUBSTRING":
			if shape.kind = table.Number; i == 0 {
				shape.kind = table.Text
			}
		case "CAST":
			shape.kind = s.Kind
		case "CASE":
			if i%2 == 0 && i < len(args)-1 {
				break
			}
			fallthrough
		default:
			if like < 0 {
				return unsaid("a value that is nothing but NULL")
			}
			shape = args[like]
		}
		args[i] = t.none(shape)
	}
	return nil
}

// oneOf says that a value is one of a list.
func (t *translator) oneOf(args []said, sure bool) (string, error) {
	any := ""
	for i, one := range args[1:] {
		equal, err := t.compare("=", args[0], one)
		if err != nil {
			return "", err
		}
		switch {
		case i == 0:
			any = equal
		case sure:
			any = "(" + any + " OR " + equal + ")"
		default:
			any = t.join(condition.Or, any, equal)
		}
	}
	return any, nil
}

// countedOnce is 1 where a condition holds that is never null, and 0 elsewhere.
func (j *judgement) countedOnce(condition string) string {
	return "(CASE WHEN " + condition + " THEN 1 ELSE 0 END)"
}
