package table

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

const microsPerDay = int64(24 * time.Hour / time.Microsecond)

// DatePattern is a compiled Unicode date pattern (UTS 35): y, M, d, H, m, s, S, X,
// text in quotes, and any other character standing for itself.
// A letter once accepts one or two digits (d: 7 or 07), twice exactly two, yyyy
// exactly four; yy is read as 1970 to 2069. MMM is the first three letters of a month's English name, however
// they are written; XXX an offset from UTC as Z or +02:00, X one as Z, +02, +0200 or +02:00: what such a pattern
// reads is the instant in UTC.
type DatePattern struct {
	source string
	fields []patternField
	// fixed is how many bytes every text has that fits, where all are as long and nothing but digits differs; 0 for others.
	fixed  int
	offset bool         // after so many bytes stands an offset from UTC
	places placedFields // where the digits stand, where fixed is not 0
	// from is the day before the first of a pattern of day numbers, since 1970-01-01; 0 for other patterns
	from int64
}

// The patterns of day numbers, as spreadsheets count them: from the last day of 1899, with a 29 February 1900 that was
// none, and from the first of 1904.
const (
	DayNumber     = "day_number"
	DayNumber1904 = "day_number_1904"
)

var dayNumbers = map[string]int64{DayNumber: -25569, DayNumber1904: -24107}

type patternField struct {
	letter byte // 0 for a literal
	count  int
	text   string // of a literal
}

// ParseDatePattern compiles a pattern, or says which letter it does not know.
func ParseDatePattern(source string) (DatePattern, error) {
	p := DatePattern{source: source}
	if from, ok := dayNumbers[source]; ok {
		p.from = from
		return p, nil
	}
	seen := map[byte]bool{}
	for i := 0; i < len(source); {
		c := source[i]
		switch {
		case c == '\'':
			end := i + 1
			for end < len(source) && source[end] != '\'' {
				end++
			}
			if end == len(source) {
				return p, fmt.Errorf("date pattern %q: the quote at character %d is never closed", source, i+1)
			}
			text := source[i+1 : end]
			if text == "" {
				text = "'"
			}
			p.fields = append(p.fields, patternField{text: text})
			i = end + 1
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
			count := 1
			for i+count < len(source) && source[i+count] == c {
				count++
			}
			if !validField(c, count) {
				return p,
					fmt.Errorf("date pattern %q: %q is not known here; use yyyy, yy, MMM, MM, M, dd, d, HH, H, mm, ss, S to SSSSSS, X, XXX, and put other letters in quotes; day_number and day_number_1904 are days as spreadsheets count them", source, source[i:i+count])
			}
			if seen[c] {
				return p, fmt.Errorf("date pattern %q: %q stands twice", source, string(c))
			}
			seen[c] = true
			p.fields = append(p.fields, patternField{letter: c, count: count})
			i += count
		default:
			p.fields = append(p.fields, patternField{text: string(c)})
			i++
		}
	}
	p.fixed, p.offset = p.fixedLength()
	if p.fixed > 0 {
		p.places = p.placed()
	}
	if !seen['y'] || !seen['M'] || !seen['d'] {
		return p, fmt.Errorf("date pattern %q: a date needs a year (yyyy), a month (MM) and a day (dd)", source)
	}
	return p, nil
}

func validField(letter byte, count int) bool {
	switch letter {
	case 'y':
		return count == 2 || count == 4
	case 'M':
		return count <= 3
	case 'd', 'H':
		return count <= 2
	case 'X':
		return count == 1 || count == 3
	case 'm', 's':
		return count == 2
	case 'S':
		return count <= 6
	}
	return false
}

// MustDatePatterns compiles patterns known to be good.
func MustDatePatterns(sources ...string) []DatePattern {
	patterns := make([]DatePattern, len(sources))
	for i, s := range sources {
		p, err := ParseDatePattern(s)
		if err != nil {
			panic(err)
		}
		patterns[i] = p
	}
	return patterns
}

// fixedLength returns how many bytes every text has that fits, but for an offset from UTC that may stand at its end; 0 where they
// differ.
func (p DatePattern) fixedLength() (n int, offset bool) {
	for i, f := range p.fields {
		switch {
		case f.letter == 0 && !strings.Contains(f.text, "\x00"):
			n += len(f.text)
		case f.letter == 'X' && i == len(p.fields)-1:
			offset = true
		case f.letter == 'X' || f.letter == 'M' && f.count == 3 || f.letter != 'S' && f.count < 2:
			return 0, false
		default:
			n += f.count
		}
	}
	return n, offset
}

// placedFields says where the digits of each field start in a text of fixed length; -1 for fields that there are not.
type placedFields struct {
	year, month, day, hour, minute, second, fraction int
	yearDigits, fractionDigits                       int
	// words are what the text has to be, eight bytes at once; the last ones may overlap those before them.
	words []placedWord
}

// placedWord says what eight bytes have to be: digits, bytes of their own, or anything.
type placedWord struct {
	at             int
	digits         uint64 // all bits of those
	literal, bytes uint64 // all bits of those, and what they are
}

func (p DatePattern) placed() placedFields {
	f := placedFields{year: -1, month: -1, day: -1, hour: -1, minute: -1, second: -1, fraction: -1}
	kinds := "" // of the bytes: a digit, or itself
	for _, field := range p.fields {
		at := len(kinds)
		switch field.letter {
		case 'y':
			f.year, f.yearDigits = at, field.count
		case 'M':
			f.month = at
		case 'd':
			f.day = at
		case 'H':
			f.hour = at
		case 'm':
			f.minute = at
		case 's':
			f.second = at
		case 'S':
			f.fraction, f.fractionDigits = at, field.count
		}
		switch field.letter {
		case 0:
			kinds += field.text
		case 'X':
		default:
			kinds += strings.Repeat("\x00", field.count)
		}
	}
	for at := 0; at < len(kinds); at += 8 {
		w := placedWord{at: max(min(at, len(kinds)-8), 0)}
		for i := range min(len(kinds), 8) {
			if b := kinds[w.at+i]; b == 0 {
				w.digits |= 0xFF << (8 * i)
			} else {
				w.literal |= 0xFF << (8 * i)
				w.bytes |= uint64(b) << (8 * i)
			}
		}
		f.words = append(f.words, w)
	}
	return f
}

// fits reports whether eight bytes are what they have to be.
func (p *placedWord) fits(w uint64) bool {
	const sixes, upper = 0x0606060606060606, 0xF0F0F0F0F0F0F0F0
	digits := w & p.digits
	off := (w&p.literal ^ p.bytes) | (digits^zeros&p.digits)&upper | ((digits+sixes&p.digits)^zeros)&upper&p.digits
	return off == 0
}

// twoAt reads two digits, 0 where there is no such field.
func twoAt(text string, at int) int {
	if at < 0 {
		return 0
	}
	return int(text[at])*10 + int(text[at+1]) - 11*'0'
}

// parse reads a text that has the fixed length.
func (f *placedFields) parse(text string) (micros int64, ok bool) {
	if len(text) < 8 {
		var short [8]byte
		copy(short[:], text)
		if !f.words[0].fits(binary.LittleEndian.Uint64(short[:])) {
			return 0, false
		}
	} else {
		for i := range f.words {
			if w := &f.words[i]; !w.fits(WordAt(text, w.at)) {
				return 0, false
			}
		}
	}
	year := twoAt(text, f.year)
	if f.yearDigits == 4 {
		year = 100*year + twoAt(text, f.year+2)
	} else {
		year = fullYear(year)
	}
	fraction := 0
	for i := range f.fractionDigits {
		fraction = fraction*10 + int(text[f.fraction+i]-'0')
	}
	for i := f.fractionDigits; f.fraction >= 0 && i < 6; i++ {
		fraction *= 10
	}
	return instantOf(year, twoAt(text, f.month), twoAt(text, f.day), twoAt(text, f.hour), twoAt(text, f.minute), twoAt(text, f.second),
		fraction, 0)
}

// fullYear is the year that two digits stand for, from 1970 to 2069.
func fullYear(digits int) int {
	if digits < 70 {
		return 2000 + digits
	}
	return 1900 + digits
}

// instantOf returns the microseconds since 1970-01-01 of a time with an offset from UTC in minutes, false where no
// calendar or clock has it.
func instantOf(year, month, day, hour, minute, second, fraction, offset int) (micros int64, ok bool) {
	if year < 1 || month < 1 || month > 12 || day < 1 || hour > 23 || minute > 59 || second > 59 ||
		day > 28 && day > daysIn(year, month) {
		return 0, false
	}
	seconds := daysSince(year, month, day)*86_400 + int64(hour*3600+minute*60+second-offset*60)
	return seconds*1_000_000 + int64(fraction), true
}

// Plain reports whether every text that fits is made of ASCII characters and has no stray spaces.
func (p DatePattern) Plain() bool {
	for _, f := range p.fields {
		if f.letter == 0 && (len(f.text) != 1 || f.text[0] < ' ' || f.text[0] > '~') {
			return false
		}
	}
	n := len(p.fields)
	if n == 0 || p.fields[0].letter == 0 || p.fields[n-1].letter == 0 {
		return false
	}
	for i := 1; i < n; i++ {
		if p.fields[i-1].text == " " && p.fields[i].text == " " {
			return false
		}
	}
	return true
}

// Timed reports whether the pattern has a time of day.
func (p DatePattern) Timed() bool {
	return slices.ContainsFunc(p.fields, func(f patternField) bool { return f.letter == 'H' })
}

// bytes returns those, other than digits, that texts which fit may have.
func (p *DatePattern) bytes() (made string) {
	for _, f := range p.fields {
		switch {
		case f.letter == 0:
			made += f.text
		case f.letter == 'M' && f.count == 3:
			made += months + strings.ToUpper(months)
		case f.letter == 'X':
			made += "Z+-:"
		}
	}
	return made
}

// String returns the pattern as it was written.
func (p DatePattern) String() string { return p.source }

// Parse returns the microseconds since 1970-01-01 that text stands for. It
// reports false where text does not fit, or names a day that is in no calendar.
func (p *DatePattern) Parse(text string) (micros int64, ok bool) {
	if p.from != 0 {
		return p.dayNumber(text)
	}
	if p.fixed > 0 {
		return p.parseFixed(text)
	}
	var year, month, day, hour, minute, second, fraction, offset int
	at := 0
	for _, f := range p.fields {
		if f.letter == 0 {
			if len(text)-at < len(f.text) || text[at:at+len(f.text)] != f.text {
				return 0, false
			}
			at += len(f.text)
			continue
		}
		switch {
		case f.letter == 'M' && f.count == 3:
			if month = monthOf(text[at:]); month == 0 {
				return 0, false
			}
			at += 3
			continue
		case f.letter == 'X':
			size := 0
			if offset, size = offsetOf(text[at:], f.count == 3); size == 0 {
				return 0, false
			}
			at += size
			continue
		}
		most, least := f.count, f.count
		if f.count == 1 && f.letter != 'S' {
			most, least = 2, 1
		}
		number, digits := 0, 0
		for digits < most && at < len(text) && text[at] >= '0' && text[at] <= '9' {
			number = number*10 + int(text[at]-'0')
			at++
			digits++
		}
		if digits < least {
			return 0, false
		}
		switch f.letter {
		case 'y':
			if year = number; f.count == 2 {
				year = fullYear(number)
			}
		case 'M':
			month = number
		case 'd':
			day = number
		case 'H':
			hour = number
		case 'm':
			minute = number
		case 's':
			second = number
		case 'S':
			fraction = number
			for i := f.count; i < 6; i++ {
				fraction *= 10
			}
		}
	}
	if at != len(text) {
		return 0, false
	}
	return instantOf(year, month, day, hour, minute, second, fraction, offset)
}

// parseFixed is Parse for a pattern of fixed length.
func (p *DatePattern) parseFixed(text string) (micros int64, ok bool) {
	if len(text) == p.fixed && !p.offset {
		return p.places.parse(text)
	}
	if len(text) <= p.fixed || !p.offset {
		return 0, false
	}
	minutes, size := offsetOf(text[p.fixed:], p.fields[len(p.fields)-1].count == 3)
	if size == 0 || p.fixed+size != len(text) {
		return 0, false
	}
	micros, ok = p.places.parse(text[:p.fixed])
	return micros - int64(minutes)*60_000_000, ok
}

// daysIn returns the days of a month of the Gregorian calendar.
func daysIn(year, month int) int {
	switch {
	case month == 2 && year%4 == 0 && (year%100 != 0 || year%400 == 0):
		return 29
	case month == 2:
		return 28
	case month == 4 || month == 6 || month == 9 || month == 11:
		return 30
	}
	return 31
}

// daysSince returns the days from 1970-01-01 to a day of the Gregorian calendar: a year that begins in March has its
// leap day at its end (Richards, Mapping Time, 1998, chapter 25).
func daysSince(year, month, day int) int64 {
	if month <= 2 {
		year--
		month += 12
	}
	era := year / 400
	of := year - era*400
	yearDay := (153*(month-3)+2)/5 + day - 1
	return int64(era)*146_097 + int64(of*365+of/4-of/100+yearDay) - 719_468
}

// dayNumber reads a number of days, whose fraction is a time of day.
func (p *DatePattern) dayNumber(text string) (micros int64, ok bool) {
	d, ok := ParseDecimal(text)
	if !ok || d.Sign() <= 0 || d.Cmp(DecimalOf(2_958_466, 0)) >= 0 { // 10000-01-01
		return 0, false
	}
	whole := d.Floor()
	seconds := int64(math.Round(d.Sub(whole).Float() * 86_400))
	return (p.from+whole.Units(0, false))*microsPerDay + seconds*1_000_000, true
}

const months = "janfebmaraprmayjunjulaugsepoctnovdec"

// monthOf returns the month that a text begins with by the first three letters of its name; 0 for none.
func monthOf(text string) int {
	if len(text) < 3 {
		return 0
	}
	at := strings.Index(months, strings.ToLower(text[:3]))
	if at < 0 || at%3 != 0 {
		return 0
	}
	return at/3 + 1
}

// offsetOf reads an offset from UTC, in minutes, and how many bytes it has; 0 for none.
func offsetOf(text string, colon bool) (minutes, size int) {
	if strings.HasPrefix(text, "Z") {
		return 0, 1
	}
	if len(text) < 3 || text[0] != '+' && text[0] != '-' {
		return 0, 0
	}
	two := func(at int) int {
		if len(text) < at+2 || text[at] < '0' || text[at] > '9' || text[at+1] < '0' || text[at+1] > '9' {
			return -1
		}
		return int(text[at]-'0')*10 + int(text[at+1]-'0')
	}
	hours, rest := two(1), 0
	size = 3
	switch {
	case len(text) > 3 && text[3] == ':':
		rest, size = two(4), 6
	case colon:
		return 0, 0
	case len(text) > 3:
		rest, size = two(3), 5
	}
	if hours < 0 || hours > 18 || rest < 0 || rest > 59 {
		return 0, 0
	}
	if minutes = hours*60 + rest; text[0] == '-' {
		minutes = -minutes
	}
	return minutes, size
}

// Format writes an instant, in microseconds since 1970-01-01, by the pattern; what the pattern does not name is left out.
func (p *DatePattern) Format(micros int64) string {
	when := time.UnixMicro(micros).UTC()
	if p.from != 0 {
		days := DecimalOf(micros-p.from*microsPerDay, 6)
		quotient, _ := days.Div(DecimalOf(86_400, 0))
		return quotient.Shortest()
	}
	var b strings.Builder
	for _, f := range p.fields {
		switch f.letter {
		case 0:
			b.WriteString(f.text)
		case 'y':
			fmt.Fprintf(&b, "%0*d", f.count, when.Year()%[...]int{2: 100, 4: 10_000}[f.count])
		case 'M':
			if f.count == 3 {
				b.WriteString(when.Month().String()[:3])
			} else {
				fmt.Fprintf(&b, "%0*d", f.count, when.Month())
			}
		case 'd':
			fmt.Fprintf(&b, "%0*d", f.count, when.Day())
		case 'H':
			fmt.Fprintf(&b, "%0*d", f.count, when.Hour())
		case 'm':
			fmt.Fprintf(&b, "%02d", when.Minute())
		case 's':
			fmt.Fprintf(&b, "%02d", when.Second())
		case 'S':
			b.WriteString(fmt.Sprintf("%06d", when.Nanosecond()/1000)[:f.count])
		case 'X':
			b.WriteByte('Z')
		}
	}
	return b.String()
}

// formatDate writes a day, since 1970-01-01, as yyyy-MM-dd.
func formatDate(days int64) string {
	var raw [10]byte
	return string(AppendDate(raw[:0], days))
}

// AppendDate writes a day, since 1970-01-01, as yyyy-MM-dd.
func AppendDate(to []byte, days int64) []byte {
	if out := appendDay(to, days); out != nil {
		return out
	}
	return time.Unix(days*86_400, 0).UTC().AppendFormat(to, "2006-01-02")
}

// AppendInstant writes a moment, in microseconds since 1970-01-01, as yyyy-MM-dd HH:mm:ss, with six digits after a point where it is no
// whole second.
func AppendInstant(to []byte, micros int64) []byte {
	day, of := micros/microsPerDay, micros%microsPerDay
	if of < 0 {
		day, of = day-1, of+microsPerDay
	}
	seconds, fraction := int(of/1_000_000), int(of%1_000_000)
	to = append(AppendDate(to, day), ' ')
	to = append(appendTwo(to, seconds/3600), ':')
	to = append(appendTwo(to, seconds/60%60), ':')
	to = appendTwo(to, seconds%60)
	if fraction == 0 {
		return to
	}
	to = append(to, '.')
	return appendTwo(appendTwo(appendTwo(to, fraction/10_000), fraction/100%100), fraction%100)
}

// formatInstant writes what AppendInstant does.
func formatInstant(micros int64) string {
	var raw [len("2006-01-02 15:04:05.000000")]byte
	return string(AppendInstant(raw[:0], micros))
}

// calendarDay takes a day of the years 1 to 9999 apart; it reports false of others. The year begins in March, as in daysSince.
func calendarDay(days int64) (year, month, day int, ok bool) {
	if days < -719_162 || days > 2_932_896 {
		return 0, 0, 0, false
	}
	since := int(days + 719_468) // 0000-03-01
	era := since / 146_097
	of := since - era*146_097
	yearOf := (of - of/1460 + of/36_524 - of/146_096) / 365
	dayOf := of - (365*yearOf + yearOf/4 - yearOf/100)
	from := (5*dayOf + 2) / 153 // months since March
	day, month, year = dayOf-(153*from+2)/5+1, from+3, yearOf+era*400
	if month > 12 {
		month, year = month-12, year+1
	}
	return year, month, day, true
}

// appendDay writes a day of the years 1 to 9999; nil for others.
func appendDay(to []byte, days int64) []byte {
	year, month, day, ok := calendarDay(days)
	if !ok {
		return nil
	}
	to = appendTwo(appendTwo(to, year/100), year%100)
	to = appendTwo(append(to, '-'), month)
	return appendTwo(append(to, '-'), day)
}

// TokenOfDay returns the token of a day of the years 1 to 9999, as AppendDate writes it; it reports false of others.
func TokenOfDay(days int64) (t Token, ok bool) {
	year, month, day, ok := calendarDay(days)
	if !ok {
		return t, false
	}
	two := func(n int) uint64 { return uint64('0'+n/10) | uint64('0'+n%10)<<8 }
	return Token{two(year/100) | two(year%100)<<16 | '-'<<32 | two(month)<<40 | '-'<<56, two(day) | uint64(len("yyyy-MM-dd"))<<56}, true
}

func appendTwo(to []byte, n int) []byte { return append(to, byte('0'+n/10), byte('0'+n%10)) }
