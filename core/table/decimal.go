package table

import (
	"math"
	"math/big"
	"math/bits"
	"strconv"
	"strings"

	"github.com/cockroachdb/apd/v3"
)

// maxDecimalDigits bounds the digits a decimal may have before and after its
// point together, so that "1e999999999" cannot exhaust memory; sumDigits more are
// read in plain notation, so that sums of the largest ones can be.
const (
	maxDecimalDigits = 1000
	sumDigits        = 50
)

// exact computes without rounding; it is used for sums and products only.
var exact = apd.BaseContext

// Decimal is an exact decimal number. The zero value is 0.
// Numbers of up to 18 digits are held in a machine word, others in an apd.Decimal.
type Decimal struct {
	coefficient int64 // value = coefficient x 10^-scale, unless wide is set
	scale       int32 // digits after the point, 0 or more
	wide        *apd.Decimal
}

var powersOfTen = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return p
}()

// mostUnits are the greatest words that may be multiplied by each power of ten.
var mostUnits = func() (most [19]int64) {
	for i, power := range powersOfTen {
		most[i] = math.MaxInt64 / power
	}
	return most
}()

// DecimalOf returns coefficient x 10^-scale, for a scale of 0 to 18.
func DecimalOf(coefficient int64, scale int) Decimal {
	return Decimal{coefficient: coefficient, scale: int32(scale)}
}

// ParseDecimal reads an optional sign, digits with at most one point, and an
// optional exponent. It reports false for anything else, the empty text included.
func ParseDecimal(s string) (Decimal, bool) {
	if c, scale, ok := ParseWord(s); ok {
		return Decimal{coefficient: c, scale: int32(scale)}, true
	}
	start := 0
	if len(s) > 0 && (s[0] == '-' || s[0] == '+') {
		start = 1
	}
	var coefficient int64
	digits, significant, scale, point := 0, 0, 0, false
	for i := start; i < len(s); i++ {
		switch c := s[i]; {
		case c >= '0' && c <= '9':
			digits++
			if coefficient != 0 || c != '0' {
				significant++
			}
			if significant <= 18 {
				coefficient = coefficient*10 + int64(c-'0')
			}
			if point {
				scale++
			}
		case c == '.' && !point:
			point = true
		case (c == 'e' || c == 'E') && digits > 0:
			if significant <= 18 {
				if d, ok := withExponent(coefficient, scale, s[i+1:]); ok {
					if s[0] == '-' {
						d.coefficient = -d.coefficient
					}
					return d, true
				}
			}
			return parseWide(strings.Clone(s)) // so that a text which fits a word may stand anywhere
		default:
			return Decimal{}, false
		}
	}
	if digits == 0 {
		return Decimal{}, false
	}
	if significant > 18 || scale > 18 {
		return parseWide(strings.Clone(s)) // so that a text which fits a word may stand anywhere
	}
	if s[0] == '-' {
		coefficient = -coefficient
	}
	return Decimal{coefficient: coefficient, scale: int32(scale)}, true
}

// mostWordDigits is how many digits, zeros before them included, ParseWord reads.
const mostWordDigits = 18

// ParseWord is ParseDecimal for a number of few digits, as coefficient x 10^-scale with a scale up to 18. It may report false for
// others. Eight digits are read at once where there are as many.
func ParseWord(s string) (coefficient int64, scale int, ok bool) {
	at := 0
	if len(s) > 0 && (s[0] == '-' || s[0] == '+') {
		at = 1
	}
	var c uint64
	digits, point, run := 0, -1, true // run says that eight digits may follow
	for at < len(s) {
		if run && len(s)-at >= 8 {
			if eight, ok := eightDigits(WordAt(s, at)); ok {
				if digits += 8; digits > mostWordDigits {
					return 0, 0, false
				}
				c, at = c*1e8+eight, at+8
				continue
			}
		}
		run = false
		b := s[at]
		at++
		switch {
		case b >= '0' && b <= '9':
			if digits++; digits > mostWordDigits {
				return 0, 0, false
			}
			c = c*10 + uint64(b-'0')
			continue
		case b == '.' && point < 0:
			point, run = digits, true
			continue
		case b|0x20 == 'e' && digits > 0:
			if point >= 0 {
				scale = digits - point
			}
			d, ok := withExponent(int64(c), scale, s[at:])
			if s[0] == '-' {
				d.coefficient = -d.coefficient
			}
			return d.coefficient, int(d.scale), ok
		}
		return 0, 0, false
	}
	if digits == 0 {
		return 0, 0, false
	}
	if point >= 0 {
		scale = digits - point
	}
	if coefficient = int64(c); s[0] == '-' {
		coefficient = -coefficient
	}
	return coefficient, scale, true
}

// WordAt returns eight bytes of a text, the first one lowest.
func WordAt(s string, at int) uint64 {
	s = s[at : at+8]
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 | uint64(s[4])<<32 | uint64(s[5])<<40 |
		uint64(s[6])<<48 | uint64(s[7])<<56
}

// withExponent returns coefficient x 10^(exponent-scale); ok is false where the exponent is none or the number does not
// fit a machine word.
func withExponent(coefficient int64, scale int, exponent string) (d Decimal, ok bool) {
	power, ok := fewDigits(exponent)
	if !ok {
		return Decimal{}, false
	}
	switch scale -= power; {
	case scale > 18 || scale < -18:
		return Decimal{}, false
	case scale >= 0:
		return Decimal{coefficient: coefficient, scale: int32(scale)}, true
	}
	if coefficient > mostUnits[-scale] {
		return Decimal{}, false
	}
	if coefficient *= powersOfTen[-scale]; coefficient >= 1e18 {
		return Decimal{}, false
	}
	return Decimal{coefficient: coefficient}, true
}

// fewDigits reads a whole number of up to three digits with a sign or none, zeros before them left aside.
func fewDigits(s string) (n int, ok bool) {
	negative := strings.HasPrefix(s, "-")
	if negative || strings.HasPrefix(s, "+") {
		s = s[1:]
	}
	for i := range len(s) {
		digit := s[i] - '0'
		if n = n*10 + int(digit); digit > 9 || n >= maxDecimalDigits {
			return 0, false
		}
	}
	if negative {
		n = -n
	}
	return n, len(s) > 0
}

// DecimalNear returns the shortest decimal that a float64 stands for; x is finite.
func DecimalNear(x float64) Decimal {
	d, _ := ParseDecimal(strconv.FormatFloat(x, 'f', -1, 64))
	return d
}

// PowerOfTen returns 10^n, n from -400 to 400.
func PowerOfTen(n int) Decimal {
	d := new(apd.Decimal)
	d.SetFinite(1, 0)
	if n <= 0 {
		d.Exponent = int32(n)
		return narrow(d)
	}
	d.Coeff.Exp(apd.NewBigInt(10), apd.NewBigInt(int64(n)), nil)
	return narrow(d)
}

func parseWide(s string) (Decimal, bool) {
	if at := strings.IndexAny(s, "eE"); at >= 0 {
		exponent, err := strconv.Atoi(s[at+1:])
		if err != nil || exponent > maxDecimalDigits || exponent < -maxDecimalDigits {
			return Decimal{}, false
		}
	}
	if len(s) > maxDecimalDigits+sumDigits {
		return Decimal{}, false
	}
	d, _, err := apd.NewFromString(s)
	if err != nil || d.Form != apd.Finite {
		return Decimal{}, false
	}
	if d.Exponent > 0 { // 1e3 is 1000: a decimal has no negative scale here
		plain := new(apd.Decimal)
		plain.Coeff.Set(&d.Coeff)
		factor, _, err := apd.NewFromString("1" + strings.Repeat("0", int(d.Exponent)))
		if err != nil {
			return Decimal{}, false
		}
		if _, err := exact.Mul(plain, plain, factor); err != nil {
			return Decimal{}, false
		}
		plain.Negative = d.Negative
		d = plain
	}
	parsed := narrow(d)
	if strings.ContainsAny(s, "eE") && len(parsed.String()) > maxDecimalDigits {
		return Decimal{}, false
	}
	return parsed, true
}

// narrow puts d into the machine word where it fits, so that equal values have one form.
func narrow(d *apd.Decimal) Decimal {
	if d.Coeff.IsInt64() && d.Exponent <= 0 && d.Exponent >= -18 {
		c := d.Coeff.Int64()
		if c < 1e18 {
			if d.Negative {
				c = -c
			}
			return Decimal{coefficient: c, scale: -d.Exponent}
		}
	}
	return Decimal{wide: d}
}

func (a Decimal) apd() *apd.Decimal {
	if a.wide != nil {
		return a.wide
	}
	return apd.New(a.coefficient, -a.scale)
}

// align gives both coefficients the larger scale; ok is false where that overflows.
func align(a, b Decimal) (x, y int64, scale int32, ok bool) {
	if a.wide != nil || b.wide != nil {
		return 0, 0, 0, false
	}
	if a.scale == b.scale {
		return a.coefficient, b.coefficient, a.scale, true
	}
	if a.scale < b.scale {
		x, ok = timesPower(a.coefficient, b.scale-a.scale)
		return x, b.coefficient, b.scale, ok
	}
	y, ok = timesPower(b.coefficient, a.scale-b.scale)
	return a.coefficient, y, a.scale, ok
}

func timesPower(c int64, power int32) (int64, bool) {
	if power > 18 {
		return 0, c == 0
	}
	return multiply(c, powersOfTen[power])
}

func multiply(a, b int64) (int64, bool) {
	negative := (a < 0) != (b < 0)
	hi, lo := bits.Mul64(magnitude(a), magnitude(b))
	if hi != 0 || lo > math.MaxInt64 {
		return 0, false
	}
	if negative {
		return -int64(lo), true
	}
	return int64(lo), true
}

func magnitude(a int64) uint64 {
	if a < 0 {
		return uint64(-a)
	}
	return uint64(a)
}

// Add returns a + b exactly.
func (a Decimal) Add(b Decimal) Decimal {
	if x, y, scale, ok := align(a, b); ok {
		sum := x + y
		if (x >= 0) != (y >= 0) || (sum >= 0) == (x >= 0) {
			return Decimal{coefficient: sum, scale: scale}
		}
	}
	d := new(apd.Decimal)
	_, _ = exact.Add(d, a.apd(), b.apd())
	return narrow(d)
}

// Sub returns a - b exactly.
func (a Decimal) Sub(b Decimal) Decimal { return a.Add(b.Neg()) }

// Neg returns -a.
func (a Decimal) Neg() Decimal {
	if a.wide == nil && a.coefficient != math.MinInt64 {
		return Decimal{coefficient: -a.coefficient, scale: a.scale}
	}
	d := new(apd.Decimal)
	d.Neg(a.apd())
	return narrow(d)
}

// Mul returns a x b exactly.
func (a Decimal) Mul(b Decimal) Decimal {
	if a.wide == nil && b.wide == nil && a.scale+b.scale <= 18 {
		if p, ok := multiply(a.coefficient, b.coefficient); ok {
			return Decimal{coefficient: p, scale: a.scale + b.scale}
		}
	}
	d := new(apd.Decimal)
	_, _ = exact.Mul(d, a.apd(), b.apd())
	return narrow(d)
}

// Times returns a x n exactly.
func (a Decimal) Times(n int64) Decimal { return a.Mul(DecimalOf(n, 0)) }

// Div returns a / b to at least 16 significant digits, rounded half away from
// zero, with the number of digits PostgreSQL's numeric type chooses
// (select_div_scale in its numeric.c). ok is false where b is 0.
func (a Decimal) Div(b Decimal) (quotient Decimal, ok bool) {
	if b.Sign() == 0 {
		return Decimal{}, false
	}
	if quotient, ok = divideWords(a, b); ok {
		return quotient, true
	}
	return divideWide(a, b)
}

// DivTo returns a / b with so many digits after the point, at least 0, rounded half away from zero. ok is false where b is 0.
func (a Decimal) DivTo(b Decimal, scale int) (quotient Decimal, ok bool) {
	if b.Sign() == 0 {
		return Decimal{}, false
	}
	x, y := a.apd(), b.apd()
	over, under := signed(x), signed(y)
	ten := big.NewInt(10)
	if shift := scale + int(x.Exponent) - int(y.Exponent); shift >= 0 {
		over.Mul(over, ten.Exp(ten, big.NewInt(int64(shift)), nil))
	} else {
		under.Mul(under, ten.Exp(ten, big.NewInt(int64(-shift)), nil))
	}
	q, rest := new(big.Int).QuoRem(over, under, new(big.Int))
	if rest.Lsh(rest, 1).CmpAbs(under) >= 0 {
		q.Add(q, big.NewInt(int64(over.Sign()*under.Sign())))
	}
	return DecimalFromBig(q, scale), true
}

// divideWords is Div for numbers that are machine words, where the quotient is one too.
func divideWords(a, b Decimal) (quotient Decimal, ok bool) {
	if a.wide != nil || b.wide != nil {
		return Decimal{}, false
	}
	x, y := magnitude(a.coefficient), magnitude(b.coefficient)
	weightX, firstX := leadingGroupOf(x, int(a.scale))
	weightY, firstY := leadingGroupOf(y, int(b.scale))
	scale := quotientScale(weightX-weightY, firstX <= firstY, int(a.scale), int(b.scale))
	shift := scale - int(a.scale) + int(b.scale)
	if scale > 18 || shift > 18 {
		return Decimal{}, false
	}
	hi, lo := bits.Mul64(x, uint64(powersOfTen[shift]))
	if hi >= y {
		return Decimal{}, false
	}
	q, rest := bits.Div64(hi, lo, y)
	if rest >= y-rest {
		q++
	}
	if q >= uint64(powersOfTen[18]) {
		return Decimal{}, false
	}
	quotient = Decimal{coefficient: int64(q), scale: int32(scale)}
	if (a.coefficient < 0) != (b.coefficient < 0) {
		quotient.coefficient = -quotient.coefficient
	}
	return quotient, true
}

// quotientScale is how many digits after the point a quotient has: its weight is the difference of those of the leading groups.
func quotientScale(weight int, firstIsLess bool, scaleX, scaleY int) int {
	if firstIsLess {
		weight--
	}
	return min(max(16-weight*4, scaleX, scaleY, 0), maxDecimalDigits)
}

// leadingGroupOf is leadingGroup for coefficient x 10^-scale.
func leadingGroupOf(coefficient uint64, scale int) (weight, first int) {
	if coefficient == 0 {
		return 0, 0
	}
	digits := 1
	for digits < len(powersOfTen) && coefficient >= uint64(powersOfTen[digits]) {
		digits++
	}
	power := digits - 1 - scale
	weight = power >> 2 // rounded down
	switch n := power - weight*4 + 1; {
	case n > digits:
		first = int(coefficient) * int(powersOfTen[n-digits])
	default:
		first = int(coefficient / uint64(powersOfTen[digits-n]))
	}
	return weight, first
}

// divideWide is Div for numbers of any size.
func divideWide(a, b Decimal) (quotient Decimal, ok bool) {
	x, y := a.apd(), b.apd()
	weightX, firstX := leadingGroup(x)
	weightY, firstY := leadingGroup(y)
	scale := quotientScale(weightX-weightY, firstX <= firstY, int(-x.Exponent), int(-y.Exponent))
	context := apd.BaseContext.WithPrecision(uint32(max(x.NumDigits()+y.NumDigits(), 1)) + uint32(scale) + 40)
	context.Rounding = apd.RoundHalfUp
	q := new(apd.Decimal)
	if _, err := context.Quo(q, x, y); err != nil {
		return Decimal{}, false
	}
	if _, err := context.Quantize(q, q, int32(-scale)); err != nil {
		return Decimal{}, false
	}
	return narrow(q), true
}

// leadingGroup returns the weight (power of 10000) and the value of the first
// non-zero group of four decimal digits of d; 0, 0 for zero.
func leadingGroup(d *apd.Decimal) (weight, first int) {
	if d.Sign() == 0 {
		return 0, 0
	}
	digits := d.Coeff.String()
	power := len(digits) - 1 + int(d.Exponent) // power of ten of the first digit
	weight = int(math.Floor(float64(power) / 4))
	for i := range power - weight*4 + 1 {
		first *= 10
		if i < len(digits) {
			first += int(digits[i] - '0')
		}
	}
	return weight, first
}

// Cmp returns -1, 0 or 1 as a is below, equal to or above b.
func (a Decimal) Cmp(b Decimal) int {
	if x, y, _, ok := align(a, b); ok {
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	}
	return a.apd().Cmp(b.apd())
}

// Sign returns -1, 0 or 1.
func (a Decimal) Sign() int {
	if a.wide != nil {
		return a.wide.Sign()
	}
	switch {
	case a.coefficient < 0:
		return -1
	case a.coefficient > 0:
		return 1
	}
	return 0
}

// IsWhole reports whether nothing but zeros follows the point.
func (a Decimal) IsWhole() bool {
	if a.wide == nil {
		return a.scale == 0 || a.coefficient%powersOfTen[min(a.scale, 18)] == 0
	}
	d := new(apd.Decimal)
	d.Reduce(a.wide)
	return d.Exponent >= 0
}

// Float returns the nearest float64.
func (a Decimal) Float() float64 {
	if c := a.coefficient; a.wide == nil && c > -1<<53 && c < 1<<53 {
		return float64(c) / float64(powersOfTen[a.scale]) // both are exact, so the quotient is the nearest one
	}
	f, err := a.apd().Float64()
	if err != nil {
		return math.NaN()
	}
	return f
}

// Round returns a with scale digits after the point, half away from zero; a scale below
// 0 rounds to tens, hundreds and so on.
func (a Decimal) Round(scale int) Decimal {
	context := apd.BaseContext.WithPrecision(uint32(int(a.apd().NumDigits()) + max(scale, 0) + 8))
	context.Rounding = apd.RoundHalfUp
	d := new(apd.Decimal)
	if _, err := context.Quantize(d, a.apd(), int32(-scale)); err != nil {
		return a
	}
	if d.Exponent > 0 {
		return DecimalFromBig(new(big.Int).
			Mul(signed(d), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(d.Exponent)), nil)), 0)
	}
	return narrow(d)
}

// Floor returns the greatest whole number that is not above a.
func (a Decimal) Floor() Decimal {
	if a.wide == nil && a.scale <= 18 {
		unit := powersOfTen[a.scale]
		whole := a.coefficient / unit
		if a.coefficient%unit < 0 {
			whole--
		}
		return Decimal{coefficient: whole}
	}
	rest, _ := a.Mod(DecimalOf(1, 0))
	whole := a.Sub(rest).Round(0)
	if rest.Sign() < 0 {
		return whole.Sub(DecimalOf(1, 0))
	}
	return whole
}

// Ceil returns the least whole number that is not below a.
func (a Decimal) Ceil() Decimal { return a.Neg().Floor().Neg() }

// Abs returns a without its sign.
func (a Decimal) Abs() Decimal {
	if a.Sign() < 0 {
		return a.Neg()
	}
	return a
}

// Mod returns what is left of a when b is taken from it as often as it fits, with the
// sign of a. ok is false where b is 0.
func (a Decimal) Mod(b Decimal) (rest Decimal, ok bool) {
	if b.Sign() == 0 {
		return Decimal{}, false
	}
	if x, y, scale, ok := align(a, b); ok {
		return Decimal{coefficient: x % y, scale: scale}, true
	}
	x, y := a.apd(), b.apd()
	exponent := min(x.Exponent, y.Exponent, 0)
	scaled := func(d *apd.Decimal) *big.Int {
		n := signed(d)
		return n.Mul(n, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(d.Exponent-exponent)), nil))
	}
	return DecimalFromBig(new(big.Int).Rem(scaled(x), scaled(y)), int(-exponent)), true
}

func signed(d *apd.Decimal) *big.Int {
	n := d.Coeff.MathBigInt()
	if d.Negative {
		n.Neg(n)
	}
	return n
}

// String writes a in plain notation with a point, keeping its scale: 7.10 stays 7.10.
func (a Decimal) String() string {
	var raw [24]byte
	return string(a.Append(raw[:0]))
}

// Append writes what String does.
func (a Decimal) Append(to []byte) []byte {
	if a.wide != nil {
		return a.wide.Append(to, 'f')
	}
	if a.scale == 0 {
		return strconv.AppendInt(to, a.coefficient, 10)
	}
	if a.coefficient < 0 {
		to = append(to, '-')
	}
	var raw [24]byte
	digits := strconv.AppendUint(raw[:0], magnitude(a.coefficient), 10)
	at := len(digits) - int(a.scale)
	if at <= 0 {
		to = append(to, "0."...)
		for ; at < 0; at++ {
			to = append(to, '0')
		}
		return append(to, digits...)
	}
	to = append(append(to, digits[:at]...), '.')
	return append(to, digits[at:]...)
}

// Shortest writes a without trailing zeros after the point, so that equal numbers have equal text.
func (a Decimal) Shortest() string {
	s := a.String()
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	if s == "-0" {
		return "0"
	}
	return s
}

// Places returns the digits after the point as the number was written: 7.10 has two.
func (a Decimal) Places() int {
	if a.wide != nil {
		return max(int(-a.wide.Exponent), 0)
	}
	return int(a.scale)
}

// Word returns the machine word and the digits after the point of a number that fits one.
func (a Decimal) Word() (coefficient int64, scale int, ok bool) {
	return a.coefficient, int(a.scale), a.wide == nil
}

// ShortestWord returns the same of the number without the zeros that end its places, so that two numbers that are equal
// have one word, however they were written.
func (a Decimal) ShortestWord() (coefficient int64, scale int, ok bool) {
	if a.wide != nil {
		a, _ = ParseDecimal(a.Shortest())
	}
	coefficient, scale, ok = a.Word()
	for ok && scale > 0 && coefficient%10 == 0 {
		coefficient, scale = coefficient/10, scale-1
	}
	return coefficient, scale, ok
}

// Scaled returns the number in units of 10^-scale, for a scale of 0 to 18; ok is false where
// it is no whole number of them, or they do not fit a machine word.
func (a Decimal) Scaled(scale int) (units int64, ok bool) {
	more := scale - int(a.scale)
	if a.wide != nil || more < 0 {
		return 0, false
	}
	c, most := a.coefficient, mostUnits[more]
	return c * powersOfTen[more], c <= most && c >= -most
}

// DecimalFromBig returns coefficient x 10^-scale.
func DecimalFromBig(coefficient *big.Int, scale int) Decimal {
	if coefficient.IsInt64() && scale <= 18 {
		if c := coefficient.Int64(); c > -1e18 && c < 1e18 {
			return DecimalOf(c, scale)
		}
	}
	d := new(apd.Decimal)
	d.Coeff.SetMathBigInt(new(big.Int).Abs(coefficient))
	d.Negative = coefficient.Sign() < 0
	d.Exponent = int32(-scale)
	return narrow(d)
}

// Units returns a in units of 10^-scale, rounded up or down to a whole one, and the least
// or the greatest word where it is beyond.
func (a Decimal) Units(scale int, up bool) int64 {
	d := new(apd.Decimal)
	context := apd.BaseContext.WithPrecision(uint32(a.apd().NumDigits()) + uint32(scale) + 8)
	context.Rounding = apd.RoundFloor
	if up {
		context.Rounding = apd.RoundCeiling
	}
	if _, err := context.Quantize(d, a.apd(), int32(-scale)); err == nil {
		d.Exponent = 0
		if units, err := d.Int64(); err == nil {
			return units
		}
	}
	if a.Sign() < 0 {
		return math.MinInt64
	}
	return math.MaxInt64
}
