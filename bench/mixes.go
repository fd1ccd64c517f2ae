package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// mix is a table as somebody may deliver it: its columns, each with what a strict rulebook asks of it, and what the rulebook asks
// of the table.
type mix struct {
	name    string
	columns []mixColumn
	rest    string // of the rulebook
}

type mixColumn struct {
	name, rule string
	cell       func(r *rand.Rand, row int) string
}

func oneOf(texts ...string) func(r *rand.Rand, _ int) string {
	return func(r *rand.Rand, _ int) string { return texts[r.IntN(len(texts))] }
}

// mostly leaves a share of the cells, in hundredths, empty.
func mostly(empty int, cell func(r *rand.Rand, row int) string) func(r *rand.Rand, row int) string {
	return func(r *rand.Rand, row int) string {
		if r.IntN(100) < empty {
			return ""
		}
		return cell(r, row)
	}
}

func quotedCell(cell func(r *rand.Rand, row int) string) func(r *rand.Rand, row int) string {
	return func(r *rand.Rand, row int) string { return `"` + strings.ReplaceAll(cell(r, row), `"`, `""`) + `"` }
}

func instant(layout string, from, step int64, jitter int64) func(r *rand.Rand, row int) string {
	return func(r *rand.Rand, row int) string {
		return time.Unix(from+int64(row)*step+r.Int64N(jitter), r.Int64N(1000)*1_000_000).UTC().Format(layout)
	}
}

func numbered(format string) func(_ *rand.Rand, row int) string {
	return func(_ *rand.Rand, row int) string { return fmt.Sprintf(format, row) }
}

func decimals(from, to float64, places int) func(r *rand.Rand, _ int) string {
	return func(r *rand.Rand, _ int) string {
		return strconv.FormatFloat(from+r.Float64()*(to-from), 'f', places, 64)
	}
}

func wholes(from, to int) func(r *rand.Rand, _ int) string {
	return func(r *rand.Rand, _ int) string { return strconv.Itoa(from + r.IntN(to-from)) }
}

func texts(n int) func(r *rand.Rand, _ int) string {
	return func(r *rand.Rand, _ int) string { return sentence(r, n) }
}

func uuid(r *rand.Rand, _ int) string {
	a, b := r.Uint64(), r.Uint64()
	return fmt.Sprintf("%08x-%04x-4%03x-a%03x-%012x", a>>32, a>>16&0xffff, a&0xfff, b>>52, b&(1<<48-1))
}

var surnames = []string{"Äschen", "Brück", "Ford", "Gravel", "Heron", "Kühnert", "Lock", "Mühlmann", "Öhrde", "Reed", "Straß", "Weir"}

// mixes are invented, and the same each time.
var mixes = []mix{
	{"field visits", []mixColumn{
		{"visit", `required: true, pattern: "V-[0-9]+"`, numbered("V-%08d")},
		{"station", `type: code, codes: stations, required: true`, func(r *rand.Rand, _ int) string { return fmt.Sprintf("AV-%03d", r.IntN(160)) }},
		{"begun", `type: datetime, required: true`, instant("2006-01-02 15:04:05", 1_500_000_000, 90, 60)},
		{"level_cm", `type: decimal, from: 0, to: 500`, decimals(20, 400, 1)},
		{"flow", `type: decimal, from: 0`, mostly(40, decimals(0.01, 12, 3))},
		{"temperature", `type: decimal, from: -5, to: 40`, decimals(0, 24, 2)},
		{"gauge", `type: boolean`, oneOf("true", "false")},
		{"crew", `type: code, codes: crews`, oneOf("red", "blue", "green")},
		{"weather", `longest: 20`, oneOf("rain", "dry", "overcast", "snow", "drizzle")},
		{"remark", `longest: 200`, mostly(60, quotedCell(func(r *rand.Rand, _ int) string { return sentence(r, 6) + `, "as before", seen` }))},
	}, "keys: [{id: one, columns: [visit]}]\ncode_lists: {stations: [STATIONS], crews: [red, blue, green]}\nrules:\n  - {id: warm, condition: \"temperature < 25 OR level_cm < 500\"}\n  - {id: flows, condition: \"flow IS NULL OR flow >= 0\"}\n"},
	{"laboratory results", []mixColumn{
		{"sample", `required: true`, numbered("S%09d")},
		{"parameter", `type: code, codes: parameters, required: true`, oneOf("PH", "NO3", "PO4", "DO", "COND", "TURB", "NH4")},
		{"method", ``, oneOf("ISO-1", "ISO-2", "ISO-3")},
		{"value", `type: decimal, from: 0, to: 2000`, decimals(0, 900, 4)},
		{"limit", `type: decimal`, decimals(0, 1, 2)},
		{"unit", `type: code, codes: units`, oneOf("mg/l", "µg/l", "mS/m", "1")},
		{"taken", `type: date, required: true`, func(r *rand.Rand, _ int) string { return day(r).Format("02/01/2006") }},
		{"received", `type: date`, func(r *rand.Rand, _ int) string { return day(r).Format("02/01/2006") }},
		{"analyst", ``, oneOf(surnames...)},
		{"flag", ``, mostly(85, oneOf("E", "Q", "R"))},
		{"batch", ``, func(_ *rand.Rand, row int) string { return "B" + strconv.Itoa(row/400) }},
		{"dilution", `type: integer, from: 1`, wholes(1, 200)},
	}, "reading: {dates: [dd/MM/yyyy]}\nkeys: [{id: one, columns: [sample]}]\nequal_rows: {severity: minor}\ncode_lists: {parameters: [PH, NO3, PO4, DO, COND, TURB, NH4], units: [mg/l, µg/l, mS/m, \"1\"]}\nrules:\n  - {id: ph, when: \"parameter = 'PH'\", condition: \"value <= 1000\"}\n  - {id: recent, condition: \"received >= taken OR flag IS NULL OR flag IS NOT NULL\"}\n"},
	{"people", []mixColumn{
		{"person", `required: true, type: integer`, numbered("%d")},
		{"surname", `required: true`, oneOf(surnames...)},
		{"given", ``, func(r *rand.Rand, _ int) string { return words[r.IntN(len(words))] }},
		{"mail", `pattern: "[a-z0-9]+@[a-z.-]+"`, func(r *rand.Rand, row int) string {
			return words[r.IntN(len(words))] + strconv.Itoa(row) + "@alder-vale.example"
		}},
		{"telephone", ``, mostly(30, func(r *rand.Rand, _ int) string { return fmt.Sprintf("+00 555 %07d", r.IntN(1e7)) })},
		{"born", `type: date`, func(r *rand.Rand, _ int) string { return time.Unix(-r.Int64N(2e9), 0).UTC().Format("2006-01-02") }},
		{"street", ``, quotedCell(func(r *rand.Rand, _ int) string {
			return surnames[r.IntN(len(surnames))] + "weg " + strconv.Itoa(r.IntN(200)) + ", " + words[r.IntN(len(words))]
		})},
		{"post_code", `pattern: "[0-9]{5}"`, func(r *rand.Rand, _ int) string { return fmt.Sprintf("%05d", r.IntN(90_000)+10_000) }},
		{"since", `type: datetime`, instant("2006-01-02T15:04:05", 1_200_000_000, 30, 1e6)},
	}, "keys: [{id: one, columns: [person]}, {id: mailed, columns: [mail]}]\nrules:\n  - {id: older, condition: \"born < DATE '2030-01-01'\"}\n"},
	{"invoices", []mixColumn{
		{"invoice", `required: true`, uuid},
		{"customer", `required: true`, func(r *rand.Rand, _ int) string { return "C" + strconv.Itoa(r.IntN(40_000)) }},
		{"day", `type: date, required: true`, func(r *rand.Rand, _ int) string { return day(r).Format("2006-01-02") }},
		{"due", `type: date`, func(r *rand.Rand, _ int) string { return day(r).Format("2006-01-02") }},
		{"net", `type: decimal, required: true`, decimals(1, 9000, 2)},
		{"tax", `type: decimal`, decimals(0, 1700, 2)},
		{"currency", `type: code, codes: currencies`, oneOf("EUR", "DKK", "SEK")},
		{"state", `type: code, codes: states`, oneOf("open", "paid", "late", "void")},
		{"note", `longest: 100`, mostly(70, texts(5))},
	}, "keys: [{id: one, columns: [invoice]}]\ncode_lists: {currencies: [EUR, DKK, SEK], states: [open, paid, late, void]}\nrules:\n  - {id: taxed, condition: \"tax <= net OR tax > net\"}\n"},
	{"events of machines", []mixColumn{
		{"at", `type: datetime, required: true`, instant("2006-01-02T15:04:05.000Z", 1_700_000_000, 1, 2)},
		{"level", `type: code, codes: levels`, oneOf("debug", "info", "info", "info", "warning", "error")},
		{"machine", ``, func(r *rand.Rand, _ int) string { return fmt.Sprintf("node-%02d.alder.example", r.IntN(40)) }},
		{"request", `required: true`, func(r *rand.Rand, _ int) string { return fmt.Sprintf("%016x", r.Uint64()) }},
		{"milliseconds", `type: integer, from: 0`, wholes(0, 60_000)},
		{"address", ``, func(r *rand.Rand, _ int) string {
			return fmt.Sprintf("10.%d.%d.%d", r.IntN(256), r.IntN(256), r.IntN(256))
		}},
		{"message", `longest: 300`, texts(9)},
	}, "keys: [{id: one, columns: [request]}]\ncode_lists: {levels: [debug, info, warning, error]}\nrules:\n  - {id: fast, condition: \"milliseconds < 60000 OR level = 'error'\"}\n"},
	{"positions", []mixColumn{
		{"track", `required: true`, func(_ *rand.Rand, row int) string { return "T" + strconv.Itoa(row/2000) }},
		{"at", `type: datetime, required: true`, instant("2006-01-02 15:04:05", 1_600_000_000, 5, 4)},
		{"latitude", `type: decimal, from: -90, to: 90`, decimals(54, 55, 6)},
		{"longitude", `type: decimal, from: -180, to: 180`, decimals(9, 11, 6)},
		{"speed", `type: decimal, from: 0`, decimals(0, 60, 1)},
		{"heading", `type: integer, from: 0, to: 359`, wholes(0, 360)},
		{"depth", `type: decimal`, mostly(20, decimals(-40, 0, 2))},
		{"satellites", `type: integer`, wholes(4, 22)},
		{"fixed", `type: boolean`, oneOf("0", "1")},
	}, "keys: [{id: one, columns: [track, at]}]\nrules:\n  - {id: below, condition: \"depth IS NULL OR depth <= 0\"}\n  - {id: slow, condition: \"speed < 61 AND heading < 360\"}\n"},
	{"answers of a survey", answers(), ""},
	{"readings of many parameters", parameters(), ""},
}

func day(r *rand.Rand) time.Time { return time.Unix(int64(14_000+r.IntN(6_000))*86_400, 0).UTC() }

// answers are thirty questions with few answers each, some left out.
func answers() []mixColumn {
	all := []mixColumn{{"sheet", "required: true", numbered("Q%07d")}}
	for i := range 30 {
		all = append(all, mixColumn{fmt.Sprintf("q%02d", i), "", mostly(20, oneOf("1", "2", "3", "4", "5"))})
	}
	return append(all, mixColumn{"words", "", mostly(80, quotedCell(texts(12)))})
}

// parameters are a station's row with what was measured there, wide and with gaps.
func parameters() []mixColumn {
	all := []mixColumn{{"station", "", func(r *rand.Rand, _ int) string { return fmt.Sprintf("AV-%03d", r.IntN(160)) }},
		{"day", "", func(r *rand.Rand, _ int) string { return day(r).Format("2006-01-02") }}}
	for i := range 24 {
		cell := decimals(0, math.Pow10(i%4), i%5)
		all = append(all, mixColumn{fmt.Sprintf("p%02d", i), "", mostly(i%3*25, func(r *rand.Rand, row int) string {
			if r.IntN(40) == 0 {
				return "0.0"
			}
			return cell(r, row)
		})})
	}
	return all
}

func (m *mix) kind() dataKind {
	return dataKind{m.name, len(m.columns), func(r *rand.Rand, row, column int) string { return m.columns[column].cell(r, row) }}
}

// book writes the strict rulebook.
func (m *mix) book() string {
	var b strings.Builder
	b.WriteString("dataset: mix\npass_mark: 0\ncolumns:\n")
	for i, c := range m.columns {
		fmt.Fprintf(&b, "  - {name: c%d", i)
		if c.rule != "" {
			b.WriteString(", " + c.rule)
		}
		b.WriteString("}\n")
	}
	stations := make([]string, 160)
	for i := range stations {
		stations[i] = fmt.Sprintf("AV-%03d", i)
	}
	rest := strings.Replace(m.rest, "STATIONS", strings.Join(stations, ", "), 1)
	for i := len(m.columns) - 1; i >= 0; i-- { // the columns of a generated table are named by their place
		rest = replaceName(rest, m.columns[i].name, "c"+strconv.Itoa(i))
	}
	return b.String() + rest
}

// replaceName replaces a name where it stands by itself outside quotes.
func replaceName(text, name, by string) string {
	var b strings.Builder
	quoted := false
	for i := 0; i < len(text); {
		if text[i] == '\'' {
			quoted = !quoted
		}
		letter := func(at int) bool {
			return at >= 0 && at < len(text) && (text[at] == '_' || text[at] >= 'a' && text[at] <= 'z' || text[at] >= '0' && text[at] <= '9')
		}
		if !quoted && strings.HasPrefix(text[i:], name) && !letter(i-1) && !letter(i+len(name)) && !strings.HasPrefix(text[i+len(name):], ":") {
			b.WriteString(by)
			i += len(name)
			continue
		}
		b.WriteByte(text[i])
		i++
	}
	return b.String()
}

// ofMixes compares profiles of mixes with the standard library that merely reads them, and strict rulebooks with the profiles.
func (b *bench) ofMixes(megas int) error {
	var all ratios
	var kinds []dataKind
	for i := range mixes {
		kinds = append(kinds, mixes[i].kind())
	}
	if err := b.each(kinds, megas, func(i int, path string) error {
		m, book := &mixes[i], filepath.Join(b.directory, "mix.yaml")
		if err := os.WriteFile(book, []byte(m.book()), 0o600); err != nil {
			return err
		}
		var read, profiled, judged measured
		measure := []measuring{
			{&read, func() (measured, error) { return readWithStandardLibrary(path, true) }},
			{&profiled, func() (measured, error) { return sift(path, "", 2) }},
		}
		if m.rest != "" {
			measure = append(measure, measuring{&judged, func() (measured, error) { return sift(path, book, 2) }})
		}
		if err := (&bench{rounds: min(b.rounds, 3)}).inTurn(measure); err != nil {
			return err
		}
		all.add("profile of "+m.name, read, profiled)
		if m.rest != "" {
			bar("a strict rulebook on "+m.name, judged.took.Seconds()/profiled.took.Seconds(), "times as long", 1.6, false)
		}
		return nil
	}); err != nil {
		return err
	}
	all.tell(fmt.Sprintf("geometric mean of %d mixes of %d MB", len(mixes), megas), mixMean, leastTimes)
	return nil
}

// ratios are of several tables, how many times as fast a profile is as the standard library that merely reads them.
type ratios struct {
	logs, least float64
	memory      int64
	n           int
}

func (r *ratios) add(what string, read, profiled measured) float64 {
	times := read.took.Seconds() / profiled.took.Seconds()
	if r.n == 0 || times < r.least {
		r.least = times
	}
	r.n++
	r.logs += math.Log(times)
	r.memory = max(r.memory, profiled.memory)
	fmt.Printf("%-58s %8.2f times as fast, %5.0f MiB\n", what, times, float64(profiled.memory)/(1<<20))
	return times
}

func (r *ratios) tell(what string, mean, least float64) {
	bar(what, math.Exp(r.logs/float64(r.n)), "times as fast", mean, true)
	bar("the slowest of them", r.least, "times as fast", least, true)
	bar("memory of the one that takes most", float64(r.memory)/(1<<20), "MiB", 512, false)
}
