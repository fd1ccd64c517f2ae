package table

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func TestParseByType(t *testing.T) {
	plain := &Format{}
	comma := &Format{DecimalMark: ',', GroupingMark: '.', Dates: MustDatePatterns("dd/MM/yyyy", "d.M.yy"),
		DateTimes: MustDatePatterns("dd/MM/yyyy HH:mm")}
	words := &Format{TrueWords: []string{"ja"}, FalseWords: []string{"nein"}}
	for _, c := range []struct {
		name   string
		format *Format
		typ    Type
		text   string
		want   string // in standard form; "" where it is not of the type
	}{
		{"a whole number", plain, TypeInteger, "42", "42"},
		{"a whole number with zeros after the point", plain, TypeInteger, "42.0", "42.0"},
		{"a fraction is no integer", plain, TypeInteger, "42.5", ""},
		{"a decimal", plain, TypeDecimal, "7.10", "7.10"},
		{"a decimal comma where a point is declared", plain, TypeDecimal, "7,10", ""},
		{"a space before", plain, TypeDecimal, " 7.1", ""},
		{"below detection", plain, TypeDecimal, "<0.05", ""},
		{"a decimal comma", comma, TypeDecimal, "7,10", "7.10"},
		{"grouped thousands", comma, TypeDecimal, "1.234.567,8", "1234567.8"},
		{"grouped without fraction", comma, TypeDecimal, "12.345", "12345"},
		{"a point where a comma is declared, in no group", comma, TypeDecimal, "7.1", ""},
		{"a group of four", comma, TypeDecimal, "1.2345", ""},
		{"a group after the mark", comma, TypeDecimal, "1,234.5", ""},
		{"an empty group", comma, TypeDecimal, "1..234", ""},
		{"a group mark first", comma, TypeDecimal, ".234", ""},
		{"a negative grouped number", comma, TypeDecimal, "-1.000", "-1000"},
		{"true", plain, TypeBoolean, "TRUE", "true"},
		{"one", plain, TypeBoolean, "1", "true"},
		{"no", plain, TypeBoolean, "No", "false"},
		{"neither", plain, TypeBoolean, "maybe", ""},
		{"a declared word", words, TypeBoolean, "Ja", "true"},
		{"a word that is no longer one", words, TypeBoolean, "true", ""},
		{"an ISO date", plain, TypeDate, "2024-02-29", "2024-02-29"},
		{"a leap day in no leap year", plain, TypeDate, "2023-02-29", ""},
		{"a thirteenth month", plain, TypeDate, "2024-13-01", ""},
		{"a date and more", plain, TypeDate, "2024-02-29 ", ""},
		{"day first", comma, TypeDate, "29/02/2024", "2024-02-29"},
		{"the second pattern", comma, TypeDate, "9.3.24", "2024-03-09"},
		{"month first", comma, TypeDate, "02/29/2024", ""},
		{"a datetime", plain, TypeDateTime, "2024-05-01 10:30", "2024-05-01 10:30:00"},
		{"with a T", plain, TypeDateTime, "2024-05-01T10:30:15", "2024-05-01 10:30:15"},
		{"with milliseconds", plain, TypeDateTime, "2024-05-01 10:30:15.250", "2024-05-01 10:30:15.250000"},
		{"hour 24", plain, TypeDateTime, "2024-05-01 24:00", ""},
		{"a declared datetime", comma, TypeDateTime, "01/05/2024 07:05", "2024-05-01 07:05:00"},
		{"any text", plain, TypeText, " as it is ", " as it is "},
		{"any code", plain, TypeCode, "PH", "PH"},
	} {
		v, ok := c.format.Parse(c.typ, c.text)
		if !ok {
			v = Value{}
		}
		if got := v.Standard(); got != c.want {
			t.Errorf("%s: %q as %s is %q, want %q", c.name, c.text, c.typ, got, c.want)
		}
	}
}

func TestEqualValuesHaveOneIdentity(t *testing.T) {
	f := &Format{Dates: MustDatePatterns("yyyy-MM-dd", "dd/MM/yyyy")}
	for _, c := range []struct {
		typ  Type
		a, b string
		same bool
	}{
		{TypeDecimal, "1.0", "1", true}, {TypeDecimal, "1.50", "1.5", true}, {TypeDecimal, "0.1", "0.10", true},
		{TypeDecimal, "1.01", "1.1", false},
		{TypeDate, "2024-03-01", "01/03/2024", true}, {TypeBoolean, "yes", "1", true}, {TypeText, "1.0", "1", false},
		{TypeCode, "a", "A", false},
	} {
		a, okA := f.Parse(c.typ, c.a)
		b, okB := f.Parse(c.typ, c.b)
		if !okA || !okB || (a.Identity() == b.Identity()) != c.same {
			t.Errorf("%s %q and %q: identities %q and %q, want the same: %v", c.typ, c.a, c.b, a.Identity(),
				b.Identity(), c.same)
		}
		if (Compare(a, b) == 0) != c.same {
			t.Errorf("%s %q and %q compare as %d", c.typ, c.a, c.b, Compare(a, b))
		}
	}
}

func TestADateStandsForItsMidnight(t *testing.T) {
	day := DateValue(19_000)
	for hours, want := range map[int64]int{-1: 1, 0: 0, 1: -1} {
		at := InstantValue(19_000*microsPerDay + hours*int64(time.Hour/time.Microsecond))
		if got := Compare(day, at); got != want {
			t.Errorf("a day compared with %d hours from its midnight is %d, want %d", hours, got, want)
		}
		if got := Compare(at, day); got != -want {
			t.Errorf("the other way round it is %d, want %d", got, -want)
		}
	}
}

func TestEveryDayOfFourHundredYearsIsReadBack(t *testing.T) {
	pattern := MustDatePatterns("dd.MM.yyyy")[0]
	for day := time.Date(1800, 1, 1, 0, 0, 0, 0, time.UTC); day.Year() < 2200; day = day.AddDate(0, 0, 1) {
		micros, ok := pattern.Parse(day.Format("02.01.2006"))
		if !ok || micros != day.UnixMicro() {
			t.Fatalf("%s is read as %d, want %d", day, micros, day.UnixMicro())
		}
		if got := formatDate(micros / microsPerDay); got != day.Format(time.DateOnly) {
			t.Fatalf("%s is written %s", day, got)
		}
	}
}

func TestDatePatternsThatAreRefused(t *testing.T) {
	for _, source := range []string{"", "yyyy", "yyyy-MM", "YYYY-MM-DD", "yyyy-MM-dd hh:mm", "yyyyy-MM-dd",
		"yyyy-MM-dd 'open", "yyyy-yyyy-MM-dd", "dd/MMMM/yyyy", "yyyy-MM-dd XX"} {
		if _, err := ParseDatePattern(source); err == nil {
			t.Errorf("%q is accepted as a date pattern", source)
		}
	}
	p, err := ParseDatePattern("d 'o''clock' M ''yy")
	if err == nil {
		if _, ok := p.Parse("1 o'clock 2 '24"); !ok && p.String() == "" {
			t.Error("a pattern with quotes has no text")
		}
	}
}

func TestTwoDigitYears(t *testing.T) {
	p := MustDatePatterns("dd.MM.yy")[0]
	for text, want := range map[string]int{"01.01.69": 2069, "01.01.70": 1970, "01.01.99": 1999, "01.01.00": 2000} {
		micros, ok := p.Parse(text)
		if got := time.UnixMicro(micros).UTC().Year(); !ok || got != want {
			t.Errorf("%s is of the year %d, want %d", text, got, want)
		}
	}
}

func TestTrimAndLevel(t *testing.T) {
	for _, c := range []struct{ text, trimmed, levelled string }{
		{"", "", ""}, {"  ", "", ""}, {"PH", "PH", "ph"}, {" PH ", "PH", "ph"},
		{"Mill  Race", "Mill Race", "mill race"},
		{"\u00a0Mill\u00a0Race\t", "Mill Race", "mill race"}, {"a\u200bb", "a b", "a b"},
		{"\ufeffcode", "code", "code"}, {"ÄÖ  Ü", "ÄÖ Ü", "äö ü"},
	} {
		if got := Trim(c.text); got != c.trimmed {
			t.Errorf("%q trimmed is %q, want %q", c.text, got, c.trimmed)
		}
		if got := Level(c.text); got != c.levelled {
			t.Errorf("%q levelled is %q, want %q", c.text, got, c.levelled)
		}
	}
}

func TestTheDayOfDatesAndInstants(t *testing.T) {
	for _, c := range []struct {
		v    Value
		want int64
	}{
		{DateValue(-3), -3}, {InstantValue(0), 0}, {InstantValue(microsPerDay - 1), 0}, {InstantValue(microsPerDay), 1},
		{InstantValue(-1), -1}, {InstantValue(-microsPerDay), -1}, {InstantValue(-microsPerDay - 1), -2},
	} {
		if got := c.v.Day(); got != c.want {
			t.Errorf("the day of %s is %d, want %d", c.v.Standard(), got, c.want)
		}
	}
}

// Days as spreadsheets count them: 45351 is 29 February 2024 in the one calendar, and 43889 in the other.
func TestNumbersOfDaysAreDates(t *testing.T) {
	for _, c := range []struct{ pattern, text, want string }{
		{DayNumber, "45351", "2024-02-29 00:00:00"}, {DayNumber, "45351.5", "2024-02-29 12:00:00"},
		{DayNumber, "61", "1900-03-01 00:00:00"}, {DayNumber1904, "43889", "2024-02-29 00:00:00"},
		{DayNumber, "0", ""}, {DayNumber, "-5", ""}, {DayNumber, "x", ""}, {DayNumber, "2958466", ""},
	} {
		micros, ok := MustDatePatterns(c.pattern)[0].Parse(c.text)
		if got := InstantValue(micros).Standard(); ok != (c.want != "") || ok && got != c.want {
			t.Errorf("%s by %s: %s, %v; want %q", c.text, c.pattern, got, ok, c.want)
		}
	}
}

// Moments are written as the standard library writes them.
func TestDaysAndMomentsAreWrittenAsTheStandardLibraryWritesThem(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 6))
	for range 200_000 {
		micros := r.Int64N(400_000_000_000_000_000) - 100_000_000_000_000_000 // some of them before the year 1, or after 9999
		switch r.IntN(4) {
		case 0:
			micros -= micros % 1_000_000
		case 1:
			micros -= micros % microsPerDay
		}
		when, layout := time.UnixMicro(micros).UTC(), "2006-01-02 15:04:05"
		if micros%1_000_000 != 0 {
			layout += ".000000"
		}
		if got := formatInstant(micros); got != when.Format(layout) {
			t.Fatalf("%d is written %s, want %s", micros, got, when.Format(layout))
		}
		if day := micros / microsPerDay; formatDate(day) != time.Unix(day*86_400, 0).UTC().Format(time.DateOnly) {
			t.Fatalf("day %d is written %s", day, formatDate(day))
		}
	}
}

// Patterns of fixed places are held against the standard library, with bytes changed anywhere.
func TestTimesAreReadAsTheStandardLibraryReadsThem(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 5))
	for _, c := range []struct{ pattern, layout string }{
		{"yyyy-MM-dd", "2006-01-02"}, {"yyyy-MM-dd HH:mm:ss", "2006-01-02 15:04:05"}, {"dd/MM/yyyy HH:mm", "02/01/2006 15:04"},
		{"yyyyMMdd", "20060102"}, {"yyyy-MM-dd'T'HH:mm:ss.SSS", "2006-01-02T15:04:05.000"}, {"yyyyMMddHHmmss", "20060102150405"},
		{"yyyy-MM-dd'T'HH:mm:ssXXX", "2006-01-02T15:04:05Z07:00"}, {"yyyyMMdd'T'HHmm'Uhr'", "20060102T1504Uhr"},
	} {
		pattern := MustDatePatterns(c.pattern)[0]
		read := 0
		for range 20_000 {
			when := time.Unix(r.Int64N(4e9)-1e9, 0).In(time.FixedZone("", (r.IntN(29)-14)*3600))
			text := []byte(when.Format(c.layout))
			if r.IntN(2) == 0 {
				text[r.IntN(len(text))] = "0123456789-:/. TZ\x00\xff"[r.IntN(19)]
			}
			want, err := time.Parse(c.layout, string(text))
			got, ok := pattern.Parse(string(text))
			if ok != (err == nil) && !lenient(string(text), c.layout) {
				t.Fatalf("%q by %s: %v, the library says %v", text, c.pattern, ok, err)
			}
			if ok && err == nil {
				if read++; got != want.UnixMicro() {
					t.Fatalf("%q by %s is %d, want %d", text, c.pattern, got, want.UnixMicro())
				}
			}
		}
		if read < 5000 {
			t.Errorf("%s: only %d were read", c.pattern, read)
		}
	}
}

// lenient reports whether the library and we differ by what is meant: it takes offsets beyond 18 hours, a comma for a point, hours
// of one digit after a space, and the year 0.
func lenient(text, layout string) bool {
	return strings.HasSuffix(layout, "07:00") && len(text) > 19 || strings.Contains(text, ",") || strings.Contains(text, "  ") || strings.Contains(text, ".-") || strings.Contains(text, "0000")
}

// What we write is read again, and so is what others write of the same: to the thousandth or millionth of a second, in UTC.
func TestMomentsAreReadAsTheyAreWritten(t *testing.T) {
	for _, micros := range []int64{0, 1, -1, 999_999, 250_000, 1_714_543_200_000_000, 1_714_543_200_123_456, -62_135_596_800_000_000} {
		written := InstantValue(micros).Standard()
		for _, text := range []string{written, strings.Replace(written, " ", "T", 1), written + "Z", strings.Replace(written, " ", "T", 1) + "Z"} {
			if v, ok := StandardFormat.Parse(TypeDateTime, text); !ok || v.When != micros {
				t.Errorf("%s is read as %s, %v", text, v.Standard(), ok)
			}
		}
	}
	for _, text := range []string{"2026-05-01 06:00:00.250Z", "2026-05-01T06:00:00.250Z", "2026-05-01 06:00:00.250000Z"} {
		if v, ok := StandardFormat.Parse(TypeDateTime, text); !ok || v.Standard() != "2026-05-01 06:00:00.250000" {
			t.Errorf("%s is read as %s, %v", text, v.Standard(), ok)
		}
	}
}
