package fix_test

import (
	"cmp"
	"fmt"
	"math/big"
	"math/rand/v2"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// This file plays random plans over every kind of step, on messy tables, against a second way of doing them that shares
// nothing with the engine: row by row, on texts, with numbers as fractions and dates by the standard library.

const messyBook = `dataset: messy
reading: {delimiter: ";", decimal_mark: ",", dates: dd/MM/yyyy, missing: [n/a]}
columns:
  - {name: id}
  - {name: site, type: code, codes: sites}
  - {name: value, type: decimal}
  - {name: other, type: decimal}
  - {name: day, type: date}
  - {name: wet, type: boolean, true_words: [Y], false_words: [N]}
  - {name: note}
code_lists:
  sites: [{code: AB, spellings: [Upper Weir]}, CD, {code: EF, spellings: [mill]}]
measures: [value, other]
pass_mark: 0
`

// messy is a table with everything in it that stewards meet.
func messy(r *rand.Rand, rows int) string {
	pick := func(texts ...string) string { return texts[r.IntN(len(texts))] }
	number := func() string {
		switch r.IntN(12) {
		case 0:
			return pick("", "n/a", " ")
		case 1:
			return pick("few", "12,5 kr", "7.1.2", "<0,5", "(5,5)")
		case 2:
			return pick("007", "-0,5", "7,10", "7,1", "0", "100000000000000000000,25", "3,14159265")
		}
		return fmt.Sprintf("%d,%02d", r.IntN(200)-50, r.IntN(100))
	}
	var b strings.Builder
	b.WriteString("id;site;value;other;day;wet;note\n")
	last := ""
	for range rows {
		if last != "" && r.IntN(12) == 0 {
			b.WriteString(last) // an equal row
			continue
		}
		day := fmt.Sprintf("%02d/%02d/2024", 1+r.IntN(28), 1+r.IntN(4))
		if r.IntN(10) == 0 {
			day = pick("", "n/a", "2024-05-31", "31/02/2024", "soon")
		}
		last = strings.Join([]string{pick("", " ") + fmt.Sprintf("S%03d", r.IntN(rows/2)) + pick("", "", " ", "  x"),
			pick("AB", "CD", "EF", "ab", " cd", "mill", "Upper  weir", "XX", "", "n/a"), number(), number(), day, pick("Y", "N", "y", "", "perhaps"),
			pick("", "dry", "wet/cold", "a/b/c", "é", "e\u0301", "o'brien WEIR", "n/a", "00712", "712", "\u00a0spaced\u00a0\u00a0out")}, ";") + "\n"
		b.WriteString(last)
	}
	return b.String()
}

// simple is a table as the second way sees it.
type simple struct {
	names []string
	kinds map[string]string // code, number, day, truth, text
	plain map[string]bool   // columns in standard form
	rows  [][]string
	// what the last step did, cells and rows
	cells, gone int64
	estimated   bool // a step estimated
}

func (s *simple) at(name string) int { return slices.Index(s.names, name) }

var (
	plainNumber = regexp.MustCompile(`^[+-]?\d+(\.\d+)?$`)
	sites       = map[string]string{"ab": "AB", "cd": "CD", "ef": "EF", "upper weir": "AB", "mill": "EF"}
)

// cell is what a text means: whether it is missing, and else what it is the same thing as, and whether it is a value.
type cell struct {
	missing, value bool
	is             string // equal for equal things
	number         *big.Rat
	day            time.Time
	truth          bool
}

func tidy(text string) string { return strings.Join(strings.Fields(text), " ") }

func (s *simple) read(name, text string) cell {
	plain := s.plain[name]
	if t := tidy(text); t == "" || !plain && t == "n/a" {
		return cell{missing: true}
	}
	switch s.kinds[name] {
	case "number":
		t := text
		if !plain {
			if strings.Contains(t, ".") {
				return cell{is: text}
			}
			t = strings.Replace(t, ",", ".", 1)
		}
		if plainNumber.MatchString(t) {
			n, _ := new(big.Rat).SetString(t)
			return cell{value: true, is: "#" + n.RatString(), number: n}
		}
	case "day":
		layout := "02/01/2006"
		if plain {
			layout = "2006-01-02"
		}
		if d, err := time.Parse(layout, text); err == nil {
			return cell{value: true, is: "@" + d.Format(time.DateOnly), day: d}
		}
	case "truth":
		yes, no := "Y", "N"
		if plain {
			yes, no = "true", "false"
		}
		if strings.EqualFold(text, yes) || strings.EqualFold(text, no) || plain && slices.Contains([]string{"yes", "no", "1", "0"}, strings.ToLower(text)) {
			truth := strings.EqualFold(text, yes) || strings.EqualFold(text, "yes") || text == "1"
			return cell{value: true, is: fmt.Sprint("?", truth), truth: truth}
		}
	case "code":
		if code, ok := sites[strings.ToLower(tidy(text))]; ok {
			return cell{value: true, is: code}
		}
		return cell{value: true, is: text}
	default:
		return cell{value: true, is: text}
	}
	return cell{is: text}
}

func (s *simple) cell(row int, name string) cell { return s.read(name, s.rows[row][s.at(name)]) }

// decimalText writes a fraction that ends, without zeros at its end.
func decimalText(n *big.Rat) string {
	t := n.FloatString(40)
	return strings.TrimSuffix(strings.TrimRight(t, "0"), ".")
}

func (s *simple) writeNumber(name string, n *big.Rat) string {
	t := decimalText(n)
	if t == "-0" {
		t = "0"
	}
	if !s.plain[name] {
		t = strings.Replace(t, ".", ",", 1)
	}
	return t
}

func (s *simple) set(row int, name, text string) {
	if c := s.at(name); s.rows[row][c] != text {
		s.rows[row][c] = text
		s.cells++
	}
}

func (s *simple) keep(stays func(row int) bool) {
	var rows [][]string
	for i := range s.rows {
		if stays(i) {
			rows = append(rows, s.rows[i])
		}
	}
	s.gone += int64(len(s.rows) - len(rows))
	s.rows = rows
}

// where is a condition with what it means.
type where struct {
	source string
	holds  func(s *simple, row int) bool
}

var wheres = []where{
	{"value > 20", func(s *simple, row int) bool {
		c := s.cell(row, "value")
		return c.number != nil && c.number.Cmp(big.NewRat(20, 1)) > 0
	}},
	{"site = 'AB' OR value IS NULL", func(s *simple, row int) bool {
		return s.cell(row, "site").is == "AB" || s.cell(row, "value").number == nil
	}},
	{"value IS MISTYPED", func(s *simple, row int) bool {
		c := s.cell(row, "value")
		return !c.missing && !c.value
	}},
	{"other IS MISSING AND NOT site IN ('CD', 'XX')", func(s *simple, row int) bool {
		c := s.cell(row, "site")
		return s.cell(row, "other").missing && !c.missing && c.is != "CD" && c.is != "XX"
	}},
	{"day < DATE '2024-02-15'", func(s *simple, row int) bool {
		c := s.cell(row, "day")
		return c.value && c.day.Before(time.Date(2024, 2, 15, 0, 0, 0, 0, time.UTC))
	}},
}

// step is one that was drawn: its text, and what it does.
type step struct {
	text string
	do   func(s *simple)
}

// keepMarks are the kinds of steps that can follow on one that estimates.
var keepMarks = []string{"set_aside", "remove_equal_rows", "rename_columns", "move_columns", "drop_columns", "standard_form"}

// drawn are the kinds of steps, each of which draws one for a table.
var drawn = map[string]func(r *rand.Rand, s *simple) *step{
	"trim": func(r *rand.Rand, s *simple) *step {
		how := r.IntN(3)
		return s.texts(r, "trim", ", spaces: "+[]string{"all", "around", "inside"}[how], "id", "site", "note", "value")(func(text string) string {
			bare := strings.TrimFunc(text, unicode.IsSpace)
			switch how {
			case 1:
				return bare
			case 2:
				return strings.Replace(text, bare, tidy(bare), 1)
			}
			return tidy(text)
		})
	},
	"change_case": func(r *rand.Rand, s *simple) *step {
		how := r.IntN(4)
		word := regexp.MustCompile(`[\p{L}\p{N}\p{M}][\p{L}\p{N}\p{M}'’]*`)
		return s.texts(r, "change_case", ", to: "+[]string{"upper", "lower", "first", "each_word"}[how], "id", "site", "note")(func(text string) string {
			first := func(text string) string {
				r, size := utf8.DecodeRuneInString(text)
				if size == 0 {
					return text
				}
				return string(unicode.ToUpper(r)) + strings.ToLower(text[size:])
			}
			return []func(string) string{strings.ToUpper, strings.ToLower, first,
				func(text string) string { return word.ReplaceAllStringFunc(text, first) }}[how](text)
		})
	},
	"replace": func(r *rand.Rand, s *simple) *step {
		how := r.IntN(3)
		return s.texts(r, "replace", []string{", find: dry, with: d, match: whole_cell", ", find: '/', with: '-', match: part",
			`, find: '(\w)/(\w)', with: '$2+$1', match: pattern`}[how], "note", "id")(func(text string) string {
			switch how {
			case 0:
				if text == "dry" {
					return "d"
				}
				return text
			case 1:
				return strings.Join(strings.Split(text, "/"), "-")
			}
			return regexp.MustCompile(`([0-9A-Za-z_])/([0-9A-Za-z_])`).ReplaceAllString(text, "${2}+${1}")
		})
	},
	"pad_zeros": func(r *rand.Rand, s *simple) *step {
		return s.texts(r, "pad_zeros", ", length: 5", "note")(func(text string) string {
			if regexp.MustCompile(`^\d+$`).MatchString(text) {
				return fmt.Sprintf("%05s", text)
			}
			return text
		})
	},
	"strip_zeros": func(r *rand.Rand, s *simple) *step {
		return s.texts(r, "strip_zeros", "", "note")(func(text string) string {
			return regexp.MustCompile(`^0+(\d+)$`).ReplaceAllString(text, "$1")
		})
	},
	"unicode_form": func(r *rand.Rand, s *simple) *step {
		return s.texts(r, "unicode_form", ", form: NFC", "note")(norm.NFC.String)
	},
	"map_codes": func(r *rand.Rand, s *simple) *step {
		if !s.has("site") {
			return nil
		}
		return &step{"do: map_codes, columns: [site], codes: {xx: CD}", func(s *simple) {
			for i := range s.rows {
				text := s.rows[i][s.at("site")]
				if strings.ToLower(tidy(text)) == "xx" {
					s.set(i, "site", "CD")
				} else if code, ok := sites[strings.ToLower(tidy(text))]; ok {
					s.set(i, "site", code)
				}
			}
		}}
	},
	"set_missing": func(r *rand.Rand, s *simple) *step {
		return s.texts(r, "set_missing", ", values: [few, dry, 'S001']", "value", "note", "id")(func(text string) string {
			if slices.Contains([]string{"few", "dry", "S001"}, tidy(text)) {
				return ""
			}
			return text
		})
	},
	"set_aside": func(r *rand.Rand, s *simple) *step {
		w := s.where(r)
		if w == nil {
			return nil
		}
		return &step{"do: set_aside, where: \"" + w.source + "\"", func(s *simple) { s.keep(func(row int) bool { return !w.holds(s, row) }) }}
	},
	"set_cell": func(r *rand.Rand, s *simple) *step {
		if !s.has("id", "value") || len(s.rows) == 0 {
			return nil
		}
		id := s.rows[r.IntN(len(s.rows))][s.at("id")]
		n := 0
		for i := range s.rows {
			if c := s.cell(i, "id"); c.is == s.read("id", id).is && c.missing == s.read("id", id).missing {
				n++
			}
		}
		return &step{fmt.Sprintf("do: set_cell, key: {id: %q}, column: value, to: '77', rows: %d", id, n), func(s *simple) {
			key := s.read("id", id)
			for i := range s.rows {
				if c := s.cell(i, "id"); c.missing == key.missing && c.is == key.is {
					s.set(i, "value", "77")
				}
			}
		}}
	},
	"set_values": func(r *rand.Rand, s *simple) *step {
		if !s.has("value", "other") {
			return nil
		}
		w := s.where(r)
		text := "do: set_values, columns: [value], expression: value * 2 - other"
		if w != nil {
			text += ", where: \"" + w.source + "\""
		}
		return &step{text, func(s *simple) {
			meant := s.meant(w)
			for i := range s.rows {
				if meant[i] {
					s.set(i, "value", s.difference(i, "value"))
				}
			}
		}}
	},
	"derive": func(r *rand.Rand, s *simple) *step {
		name := s.fresh("made_")
		if !s.has("value", "other") {
			return nil
		}
		return &step{"do: derive, into: " + name + ", expression: value * 2 - other", func(s *simple) {
			s.add(name, "number")
			for i := range s.rows {
				s.set(i, name, s.difference(i, name))
			}
		}}
	},
	"round": func(r *rand.Rand, s *simple) *step {
		name := s.column(r, "value", "other")
		if name == "" {
			return nil
		}
		return &step{"do: round, columns: [" + name + "], decimals: 1", func(s *simple) {
			for i := range s.rows {
				text := s.rows[i][s.at(name)]
				c := s.read(name, text)
				if c.number == nil {
					continue
				}
				_, fraction, _ := strings.Cut(strings.Replace(text, ",", ".", 1), ".")
				ten := new(big.Rat).Mul(c.number, big.NewRat(10, 1))
				half := big.NewRat(1, 2)
				if ten.Sign() < 0 {
					half = big.NewRat(-1, 2)
				}
				ten.Add(ten, half)
				whole := new(big.Int).Quo(ten.Num(), ten.Denom())
				rounded := new(big.Rat).SetFrac(whole, big.NewInt(10))
				if rounded.Cmp(c.number) == 0 && len(fraction) <= 1 {
					continue
				}
				now := rounded.FloatString(1)
				if !s.plain[name] {
					now = strings.Replace(now, ".", ",", 1)
				}
				s.set(i, name, now)
			}
		}}
	},
	"convert": func(r *rand.Rand, s *simple) *step {
		name := s.column(r, "value", "other")
		if name == "" {
			return nil
		}
		how := r.IntN(2)
		return &step{"do: convert, columns: [" + name + "], " + []string{"from: currency, unit: kr", "from: brackets"}[how], func(s *simple) {
			for i := range s.rows {
				text := tidy(s.rows[i][s.at(name)])
				bare, found := strings.CutSuffix(text, "kr")
				if how == 1 {
					bare, found = strings.CutPrefix(text, "(")
					bare = strings.TrimSuffix(bare, ")")
				}
				c := s.read(name, tidy(bare))
				if !found || c.number == nil {
					continue
				}
				if how == 1 {
					bare = "-" + bare
				}
				s.set(i, name, tidy(bare))
			}
		}}
	},
	"fill": func(r *rand.Rand, s *simple) *step {
		if !s.has("value", "other", "day", "site") {
			return nil
		}
		switch r.IntN(4) {
		case 0:
			return &step{"do: fill, columns: [value], with: '1'", func(s *simple) {
				for i := range s.rows {
					if s.cell(i, "value").missing {
						s.set(i, "value", "1")
					}
				}
			}}
		case 1:
			if s.plain["value"] != s.plain["other"] {
				return nil
			}
			return &step{"do: fill, columns: [value], from_column: other", func(s *simple) {
				for i := range s.rows {
					from := s.cell(i, "other")
					if !s.cell(i, "value").missing || from.missing {
						continue
					}
					text := s.rows[i][s.at("other")]
					if from.number != nil { // as numbers are written: 007 is 7, and 7,10 stays 7,10
						text = regexp.MustCompile(`^(-?)0+(\d)`).ReplaceAllString(text, "$1$2")
					}
					s.set(i, "value", text)
				}
			}}
		case 2:
			return &step{"do: fill, columns: [value], expression: other + 1", func(s *simple) {
				for i := range s.rows {
					if n := s.cell(i, "other").number; n != nil && s.cell(i, "value").missing {
						s.set(i, "value", s.writeNumber("value", new(big.Rat).Add(n, big.NewRat(1, 1))))
					}
				}
			}}
		}
		return &step{"do: fill, columns: [value], from: row_before, group: [site], order: [day], limit: 2", func(s *simple) {
			order := make([]int, len(s.rows))
			for i := range order {
				order[i] = i
			}
			slices.SortStableFunc(order, func(a, b int) int { return s.cell(a, "day").day.Compare(s.cell(b, "day").day) })
			type last struct {
				text string
				n    int
			}
			lasts := map[string]*last{}
			for _, i := range order {
				if !s.cell(i, "day").value {
					continue
				}
				key := s.cell(i, "site").is
				switch c := s.cell(i, "value"); {
				case !c.missing:
					lasts[key] = &last{text: s.rows[i][s.at("value")]}
				case lasts[key] != nil && lasts[key].n < 2:
					lasts[key].n++
					s.set(i, "value", lasts[key].text)
				}
			}
		}}
	},
	"estimate": func(r *rand.Rand, s *simple) *step {
		if !s.has("value", "day", "site") {
			return nil
		}
		method := []string{"group_mean", "group_median", "in_time"}[r.IntN(3)]
		text := "do: estimate, column: value, group: [site], method: " + method
		if method == "in_time" {
			text += ", order: [day]"
		}
		return &step{text, func(s *simple) { s.estimate(method) }}
	},
	"remove_equal_rows": func(r *rand.Rand, s *simple) *step {
		w, text := s.where(r), "do: remove_equal_rows"
		if w != nil && r.IntN(2) == 0 {
			text += ", where: \"" + w.source + "\""
		} else {
			w = nil
		}
		return &step{text, func(s *simple) {
			seen, meant := map[string]bool{}, s.meant(w)
			s.keep(func(row int) bool {
				if !meant[row] {
					return true
				}
				key := strings.Join(s.rows[row], "\x00")
				was := seen[key]
				seen[key] = true
				return !was
			})
		}}
	},
	"keep_one": func(r *rand.Rand, s *simple) *step {
		if !s.has("id", "value", "day", "note") {
			return nil
		}
		if r.IntN(2) == 0 {
			return &step{"do: keep_one, columns: [id], survivor: largest_value, by: value, ties: earliest_row", func(s *simple) {
				best := map[string]int{}
				for i := range s.rows {
					c := s.cell(i, "id")
					if c.missing {
						continue
					}
					b, known := best[c.is]
					n, was := s.cell(i, "value").number, (*big.Rat)(nil)
					if known {
						was = s.cell(b, "value").number
					}
					if !known || n != nil && (was == nil || n.Cmp(was) > 0) {
						best[c.is] = i
					}
				}
				s.keep(func(row int) bool {
					c := s.cell(row, "id")
					return c.missing || best[c.is] == row
				})
			}}
		}
		var cells []string
		for _, name := range s.names {
			if name != "id" {
				cells = append(cells, name+": longest")
			}
		}
		return &step{"do: keep_one, columns: [id], cells: {" + strings.Join(cells, ", ") + "}, undecided: leave", func(s *simple) {
			groups := map[string][]int{}
			for i := range s.rows {
				if c := s.cell(i, "id"); !c.missing {
					groups[c.is] = append(groups[c.is], i)
				}
			}
			gone := map[int]bool{}
			for _, rows := range groups {
				if len(rows) < 2 {
					continue
				}
				now, settled := slices.Clone(s.rows[rows[0]]), true
				for c, name := range s.names {
					if name == "id" {
						continue
					}
					best, longest, tied := "", -1, false
					is := ""
					for _, i := range rows {
						one := s.cell(i, name)
						if one.missing {
							continue
						}
						switch n := utf8.RuneCountInString(s.rows[i][c]); {
						case n > longest:
							if one.is != is {
								tied = false
							}
							best, longest, is = s.rows[i][c], n, one.is
						case n == longest && one.is != is:
							tied = true
						}
					}
					if settled = settled && !tied; longest >= 0 && s.cell(rows[0], name).is != is || longest >= 0 && s.cell(rows[0], name).missing {
						// Of the texts of one value that is not the first row's, the first that was met stands for it.
						for _, i := range rows {
							if one := s.cell(i, name); !one.missing && one.is == is {
								best = s.rows[i][c]
								break
							}
						}
						now[c] = best
					}
				}
				if !settled {
					continue
				}
				for c, name := range s.names {
					s.set(rows[0], name, now[c])
				}
				for _, i := range rows[1:] {
					gone[i] = true
				}
			}
			s.keep(func(row int) bool { return !gone[row] })
		}}
	},
	"split_into_columns": func(_ *rand.Rand, s *simple) *step {
		one, two := s.fresh("one_"), s.fresh("two_")
		if !s.has("note") {
			return nil
		}
		return &step{"do: split_into_columns, column: note, at: /, into: [" + one + ", " + two + "], surplus: keep_in_last", func(s *simple) {
			s.add(one, "text")
			s.add(two, "text")
			for i := range s.rows {
				if s.cell(i, "note").missing {
					continue
				}
				first, rest, _ := strings.Cut(s.rows[i][s.at("note")], "/")
				s.set(i, one, tidy(first))
				s.set(i, two, tidy(rest))
			}
		}}
	},
	"put_together": func(_ *rand.Rand, s *simple) *step {
		name := s.fresh("both_")
		if !s.has("site", "note") {
			return nil
		}
		return &step{"do: put_together, columns: [site, note], with: ' - ', into: " + name, func(s *simple) {
			s.add(name, "text")
			for i := range s.rows {
				var parts []string
				for _, of := range []string{"site", "note"} {
					if !s.cell(i, of).missing {
						parts = append(parts, s.rows[i][s.at(of)])
					}
				}
				s.set(i, name, strings.Join(parts, " - "))
			}
		}}
	},
	"rename_columns": func(r *rand.Rand, s *simple) *step {
		name := s.names[r.IntN(len(s.names))]
		return &step{"do: rename_columns, names: {" + name + ": " + name + "_too}", func(s *simple) {
			s.names[s.at(name)] = name + "_too"
			s.kinds[name+"_too"], s.plain[name+"_too"] = s.kinds[name], s.plain[name]
		}}
	},
	"drop_columns": func(r *rand.Rand, s *simple) *step {
		name := s.names[r.IntN(len(s.names))]
		if len(s.names) < 4 {
			return nil
		}
		return &step{"do: drop_columns, columns: [" + name + "]", func(s *simple) {
			c := s.at(name)
			s.names = slices.Delete(slices.Clone(s.names), c, c+1)
			for i := range s.rows {
				s.rows[i] = slices.Delete(slices.Clone(s.rows[i]), c, c+1)
			}
		}}
	},
	"move_columns": func(r *rand.Rand, s *simple) *step {
		name := s.names[r.IntN(len(s.names))]
		return &step{"do: move_columns, columns: [" + name + "]", func(s *simple) {
			c := s.at(name)
			s.names = append(slices.Delete(slices.Clone(s.names), c, c+1), name)
			for i, row := range s.rows {
				s.rows[i] = append(slices.Delete(slices.Clone(row), c, c+1), row[c])
			}
		}}
	},
	"standard_form": func(r *rand.Rand, s *simple) *step {
		// Texts that would become values are refused.
		becomes := func(name string) bool {
			if kind := s.kinds[name]; s.plain[name] || kind == "text" || kind == "code" {
				return false
			}
			return slices.ContainsFunc(s.rows, func(row []string) bool {
				text := row[s.at(name)]
				c := s.read(name, text)
				return !c.missing && !c.value && (&simple{kinds: s.kinds, plain: map[string]bool{name: true}}).read(name, text).value
			})
		}
		fits := slices.DeleteFunc(slices.Clone(s.names), becomes)
		if len(fits) == 0 {
			return nil
		}
		names, text := s.names, "do: standard_form"
		if len(fits) < len(s.names) {
			names = fits[r.IntN(len(fits)):][:1]
			text += ", columns: [" + names[0] + "]"
		}
		return &step{text, func(s *simple) {
			for _, name := range names {
				for i := range s.rows {
					text := s.rows[i][s.at(name)]
					now := text
					switch c := s.read(name, text); {
					case c.missing:
						now = ""
					case c.number != nil:
						now = regexp.MustCompile(`^([+-]?)0+(\d)`).ReplaceAllString(strings.Replace(text, ",", ".", 1), "$1$2")
						now = strings.TrimPrefix(now, "+")
						if now = regexp.MustCompile(`^-(0(\.0+)?)$`).ReplaceAllString(now, "$1"); c.number.Sign() == 0 {
							now = strings.TrimPrefix(now, "-")
						}
					case c.value && s.kinds[name] == "day":
						now = c.day.Format(time.DateOnly)
					case c.value && s.kinds[name] == "truth":
						now = fmt.Sprint(c.truth)
					}
					s.set(i, name, now)
				}
			}
			for _, name := range names {
				s.plain[name] = true
			}
		}}
	},
	"sort_rows": func(_ *rand.Rand, s *simple) *step {
		if !s.has("site", "value") {
			return nil
		}
		return &step{"do: sort_rows, order: [site, value], descending: [value]", func(s *simple) {
			rank := func(c cell) int {
				return map[bool]int{true: 2, false: map[bool]int{true: 0, false: 1}[c.value]}[c.missing]
			}
			type keyed struct {
				site, value cell
				text        string
				row         []string
			}
			rows := make([]keyed, len(s.rows))
			for i := range s.rows {
				rows[i] = keyed{s.cell(i, "site"), s.cell(i, "value"), s.rows[i][s.at("value")], s.rows[i]}
			}
			slices.SortStableFunc(rows, func(a, b keyed) int {
				numbers := 0
				if a.value.number != nil && b.value.number != nil {
					numbers = b.value.number.Cmp(a.value.number)
				} else if !a.value.missing && !a.value.value && !b.value.missing && !b.value.value {
					numbers = strings.Compare(b.text, a.text)
				}
				return cmp.Or(cmp.Compare(rank(a.site), rank(b.site)), strings.Compare(a.site.is, b.site.is), cmp.Compare(rank(a.value), rank(b.value)), numbers)
			})
			for i := range rows {
				s.rows[i] = rows[i].row
			}
		}}
	},
	"columns_to_rows": func(_ *rand.Rand, s *simple) *step {
		if !s.has("value", "other") || s.has("which") || s.has("amount") || s.plain["value"] != s.plain["other"] || len(s.rows) > 4_000 {
			return nil
		}
		return &step{"do: columns_to_rows, columns: [value, other], names_to: which, values_to: amount, gaps: leave_out", func(s *simple) {
			var names []string
			for _, name := range s.names {
				if name != "value" && name != "other" {
					names = append(names, name)
				}
			}
			var rows [][]string
			for i := range s.rows {
				for _, name := range []string{"value", "other"} {
					if s.cell(i, name).missing {
						continue
					}
					var row []string
					for _, stays := range names {
						row = append(row, s.rows[i][s.at(stays)])
					}
					rows = append(rows, append(row, name, s.rows[i][s.at(name)]))
				}
			}
			s.kinds["which"], s.kinds["amount"], s.plain["which"], s.plain["amount"] = "text", "number", true, s.plain["value"]
			s.names, s.rows = append(names, "which", "amount"), rows
		}}
	},
	"change_grain": func(_ *rand.Rand, s *simple) *step {
		if !s.has("site", "value", "other") || s.has("n") {
			return nil
		}
		return &step{"do: change_grain, group: [site], gather: {value: sum, other: largest}, rows_into: n", func(s *simple) {
			type group struct {
				site        string
				code        cell
				sum         *big.Rat
				most        *big.Rat
				mostText    string
				n, numbered int
			}
			var groups []*group
			by := map[string]*group{}
			for i := range s.rows {
				c := s.cell(i, "site")
				key := fmt.Sprint(c.missing, c.is)
				g := by[key]
				if g == nil {
					g = &group{site: s.rows[i][s.at("site")], code: c, sum: new(big.Rat)}
					by[key], groups = g, append(groups, g)
				}
				g.n++
				if n := s.cell(i, "value").number; n != nil {
					g.sum.Add(g.sum, n)
					g.numbered++
				}
				if n := s.cell(i, "other").number; n != nil && (g.most == nil || n.Cmp(g.most) > 0) {
					g.most, g.mostText = n, s.rows[i][s.at("other")]
				}
			}
			slices.SortStableFunc(groups, func(a, b *group) int {
				return cmp.Or(cmp.Compare(map[bool]int{true: 1}[a.code.missing], map[bool]int{true: 1}[b.code.missing]), strings.Compare(a.code.is, b.code.is))
			})
			var rows [][]string
			for _, g := range groups {
				sum := ""
				if g.numbered > 0 {
					sum = s.sumText("value", g.site, g.code)
				}
				rows = append(rows, []string{g.site, sum, g.mostText, fmt.Sprint(g.n)})
			}
			s.kinds["n"], s.plain["n"] = "number", true
			s.names, s.rows = []string{"site", "value", "other", "n"}, rows
		}}
	},
	"rows_to_columns": func(_ *rand.Rand, s *simple) *step {
		if !s.has("id", "site", "value") {
			return nil
		}
		// One row of each id and site, and no column beside them, or it would be refused.
		var others []string
		for _, name := range s.names {
			if !slices.Contains([]string{"id", "site", "value"}, name) {
				others = append(others, name)
			}
		}
		text := "do: set_aside, where: \"site IS NULL OR id IS NULL OR site NOT IN ('AB', 'CD')\", reason: r}\n" +
			"  - {do: keep_one, columns: [id, site], survivor: earliest_row, reason: r}\n"
		if len(others) > 0 {
			text += "  - {do: drop_columns, columns: [" + strings.Join(others, ", ") + "], reason: r}\n"
		}
		return &step{text + "  - {do: rows_to_columns, key: [id], names_from: site, values_from: value, names: [AB, CD]", func(s *simple) {
			var order []string
			rows := map[string][]string{}
			seen := map[string]bool{}
			for i := range s.rows {
				id, site := s.cell(i, "id"), s.cell(i, "site")
				at := slices.Index([]string{"AB", "CD"}, site.is)
				if id.missing || site.missing || at < 0 || seen[id.is+site.is] {
					continue
				}
				seen[id.is+site.is] = true
				if rows[id.is] == nil {
					rows[id.is] = []string{s.rows[i][s.at("id")], "", ""}
					order = append(order, id.is)
				}
				rows[id.is][1+at] = s.rows[i][s.at("value")]
			}
			s.names, s.rows = []string{"id", "AB", "CD"}, nil
			for _, name := range []string{"AB", "CD"} {
				s.kinds[name], s.plain[name] = "number", s.plain["value"]
			}
			for _, id := range order {
				s.rows = append(s.rows, rows[id])
			}
			s.cells = -1 // several steps at once
		}}
	},
	"split_into_rows": func(_ *rand.Rand, s *simple) *step {
		if !s.has("note") || len(s.rows) > 4_000 {
			return nil
		}
		var fates []string
		for _, m := range []string{"value", "other"} {
			if s.has(m) {
				fates = append(fates, m+": kept_once")
			}
		}
		text := "do: split_into_rows, column: note, at: /"
		if len(fates) > 0 {
			text += ", measures: {" + strings.Join(fates, ", ") + "}"
		}
		return &step{text, func(s *simple) {
			var rows [][]string
			for i, row := range s.rows {
				parts := strings.Split(row[s.at("note")], "/")
				if len(parts) == 1 || s.cell(i, "note").missing {
					rows = append(rows, row)
					continue
				}
				for k, part := range parts {
					one := slices.Clone(row)
					one[s.at("note")] = tidy(part)
					for _, m := range []string{"value", "other"} {
						if c := s.at(m); c >= 0 && k > 0 {
							one[c] = ""
						}
					}
					rows = append(rows, one)
				}
			}
			s.rows = rows
		}}
	},
}

// sumText adds numbers up with as many decimals as the one that has most.
func (s *simple) sumText(name, _ string, code cell) string {
	sum, places := new(big.Rat), 0
	for i := range s.rows {
		c := s.cell(i, "site")
		if c.missing != code.missing || c.is != code.is {
			continue
		}
		if n := s.cell(i, name).number; n != nil {
			sum.Add(sum, n)
			_, fraction, _ := strings.Cut(strings.Replace(s.rows[i][s.at(name)], ",", ".", 1), ".")
			places = max(places, len(fraction))
		}
	}
	text := sum.FloatString(places)
	if !s.plain[name] {
		text = strings.Replace(text, ".", ",", 1)
	}
	return text
}

func (s *simple) difference(row int, into string) string {
	a, b := s.cell(row, "value").number, s.cell(row, "other").number
	if a == nil || b == nil {
		return ""
	}
	n := new(big.Rat).Mul(a, big.NewRat(2, 1))
	return s.writeNumber(into, n.Sub(n, b))
}

// estimate fills the gaps of value from the rows of the same site.
func (s *simple) estimate(method string) {
	s.estimated = true
	places := 0
	groups := map[string][]int{}
	for i := range s.rows {
		if c := s.cell(i, "value"); c.number != nil {
			groups[s.group(i)] = append(groups[s.group(i)], i)
			_, fraction, _ := strings.Cut(strings.Replace(s.rows[i][s.at("value")], ",", ".", 1), ".")
			places = max(places, len(fraction))
		}
	}
	mean := func(of []*big.Rat) *big.Rat {
		sum := new(big.Rat)
		for _, n := range of {
			sum.Add(sum, n)
		}
		return sum.Quo(sum, big.NewRat(int64(len(of)), 1))
	}
	fill := map[int]*big.Rat{}
	for i := range s.rows {
		if !s.cell(i, "value").missing {
			continue
		}
		var all []*big.Rat
		byDay := map[time.Time][]*big.Rat{}
		for _, k := range groups[s.group(i)] {
			all = append(all, s.cell(k, "value").number)
			if day := s.cell(k, "day"); day.value {
				byDay[day.day] = append(byDay[day.day], s.cell(k, "value").number)
			}
		}
		switch {
		case len(all) == 0:
		case method == "group_mean":
			fill[i] = mean(all)
		case method == "group_median":
			slices.SortFunc(all, func(a, b *big.Rat) int { return a.Cmp(b) })
			fill[i] = mean(all[(len(all)-1)/2 : len(all)/2+1])
		case s.cell(i, "day").value:
			day := s.cell(i, "day").day
			var before, after time.Time
			for d := range byDay {
				if !d.After(day) && (before.IsZero() || d.After(before)) {
					before = d
				}
				if !d.Before(day) && (after.IsZero() || d.Before(after)) {
					after = d
				}
			}
			switch {
			case before.IsZero() || after.IsZero():
			case before.Equal(after):
				fill[i] = mean(byDay[before])
			default:
				from, to := mean(byDay[before]), mean(byDay[after])
				share := big.NewRat(int64(day.Sub(before)/time.Hour), int64(after.Sub(before)/time.Hour))
				fill[i] = share.Add(from, share.Mul(share, to.Sub(to, from)))
			}
		}
	}
	for i, n := range fill {
		text := n.FloatString(places)
		if !s.plain["value"] {
			text = strings.Replace(text, ".", ",", 1)
		}
		s.set(i, "value", text)
	}
}

// group is what makes a site the same as another one.
func (s *simple) group(row int) string {
	c := s.cell(row, "site")
	return fmt.Sprint(c.missing, c.value, c.is)
}

// fresh returns a name that no column has.
func (s *simple) fresh(name string) string {
	for n := len(s.names); ; n++ {
		if one := fmt.Sprint(name, n); !s.has(one) {
			return one
		}
	}
}

func (s *simple) add(name, kind string) {
	s.names = append(s.names, name)
	s.kinds[name], s.plain[name] = kind, true
	for i := range s.rows {
		s.rows[i] = append(slices.Clone(s.rows[i]), "")
	}
}

func (s *simple) has(names ...string) bool {
	return !slices.ContainsFunc(names, func(name string) bool { return s.at(name) < 0 })
}

func (s *simple) column(r *rand.Rand, names ...string) string {
	names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return s.at(name) < 0 })
	if len(names) == 0 {
		return ""
	}
	return names[r.IntN(len(names))]
}

func (s *simple) where(r *rand.Rand) *where {
	if !s.has("value", "site", "other", "day") {
		return nil
	}
	return &wheres[r.IntN(len(wheres))]
}

// meant are the rows that a condition holds for, before anything is changed.
func (s *simple) meant(w *where) []bool {
	out := make([]bool, len(s.rows))
	for i := range out {
		out[i] = w == nil || w.holds(s, i)
	}
	return out
}

// texts draws a step that gives the texts of one column others.
func (s *simple) texts(r *rand.Rand, kind, fields string, names ...string) func(func(string) string) *step {
	name := s.column(r, names...)
	w := s.where(r)
	if r.IntN(2) == 0 {
		w = nil
	}
	return func(change func(string) string) *step {
		if name == "" {
			return nil
		}
		text := "do: " + kind + ", columns: [" + name + "]" + fields
		if w != nil {
			text += ", where: \"" + w.source + "\""
		}
		return &step{text, func(s *simple) {
			meant := s.meant(w)
			for i := range s.rows {
				if meant[i] {
					s.set(i, name, change(s.rows[i][s.at(name)]))
				}
			}
		}}
	}
}

func TestRandomPlansDoWhatASecondWayDoes(t *testing.T) {
	plans, rows := 300, 2_000 // of every fifth, and a tenth of them of the others: plans are what there must be many of
	if testing.Short() {
		plans, rows = 40, 400
	}
	met, resumed := map[string]int{}, 0
	kinds := slices.Sorted(func(yield func(string) bool) {
		for kind := range drawn {
			if !yield(kind) {
				return
			}
		}
	})
	b := testkit.Book(t, messyBook)
	for seed := range plans {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		size := rows
		if seed%5 != 0 {
			size /= 10
		}
		content := messy(r, size)
		read := testkit.All(t, testkit.File(t, content, b.Reading), 1)
		s := &simple{names: strings.Split("id;site;value;other;day;wet;note", ";"), rows: read.Cells, plain: map[string]bool{},
			kinds: map[string]string{"id": "text", "site": "code", "value": "number", "other": "number", "day": "day", "wet": "truth", "note": "text"}}
		var text strings.Builder
		var cells, gone []int64
		for n := 2 + r.IntN(6); n > 0; {
			kind := kinds[r.IntN(len(kinds))]
			one := drawn[kind](r, s)
			if one == nil || s.estimated && !slices.Contains(keepMarks, kind) {
				n--
				continue
			}
			n--
			met[kind]++
			fmt.Fprintf(&text, "  - {%s, reason: r}\n", one.text)
			s.cells, s.gone = 0, 0
			for i := range s.rows { // rows may share their cells with those of before
				s.rows[i] = slices.Clone(s.rows[i])
			}
			one.do(s)
			for range strings.Count(one.text, "do: ") {
				cells, gone = append(cells, s.cells), append(gone, s.gone)
			}
		}
		if text.Len() == 0 {
			continue
		}
		plan, err := fix.Parse([]byte("fix_plan: p\ndataset: messy\nsteps:\n"+text.String()), b)
		if err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, text.String(), err)
		}
		got, err := fixtest.Play(t, content, b, plan, 1+seed%3)
		if err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, text.String(), err)
		}
		if got.Refused != nil {
			t.Errorf("seed %d:\n%s\n%v", seed, text.String(), got.Refused)
			continue
		}
		if want := s.csv(); got.Table != want {
			t.Errorf("seed %d:\n%s%s", seed, text.String(), differs(got.Table, want))
		}
		for i, one := range got.Ledger.Steps {
			if cells[i] >= 0 && one.Cells != cells[i] || cells[i] >= 0 && one.Rows != gone[i] {
				t.Errorf("seed %d, step %d of\n%s%d cells and %d rows, want %d and %d", seed, i+1, text.String(), one.Cells, one.Rows, cells[i], gone[i])
			}
		}
		if shorter := strings.Join(strings.SplitAfter(text.String(), "\n")[:len(plan.Steps)-1], ""); seed%3 == 0 && goesOn(t, content, b, shorter, plan, got) {
			resumed++
		}
		if t.Failed() {
			return
		}
	}
	if resumed < plans/12 {
		t.Errorf("%d plans went on from where a shorter one had come", resumed)
	}
	for _, kind := range kinds {
		if met[kind] < plans/40 {
			t.Errorf("%s was met %d times only", kind, met[kind])
		}
	}
}

// goesOn plays a plan without its last step, and then the plan from where that came: it makes the same as from the beginning.
// It is false where there was nothing to go on from.
func goesOn(t *testing.T, content string, b *rulebook.Rulebook, shorter string, plan *fix.Plan, want *fixtest.Played) bool {
	t.Helper()
	if shorter == "" {
		return false
	}
	var stages fix.Stages
	defer stages.Close()
	usual := fix.HoldLog(500) // most of a log is in files, which the runs share
	defer fix.HoldLog(usual)
	in := fix.Input{Source: testkit.File(t, content, b.Reading), Book: b, Stages: &stages, Key: "the table"}
	if _, err := fix.Run(t.Context(), in, fixtest.Plan(t, b, shorter), 2, fix.Outputs{}); err != nil {
		t.Fatal(err)
	}
	known := stages.Len() > 0
	for range 2 { // from the shorter plan, then from itself
		got, err := fixtest.PlayInput(t, in, plan, 2)
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("a plan that goes on from a shorter one makes something else:\n%s\n%+v\nwant %+v", differs(got.Table, want.Table), got.Ledger, want.Ledger)
		}
	}
	return known
}

func (s *simple) csv() string {
	var b strings.Builder
	line := func(cells []string) {
		for i, cell := range cells {
			if i > 0 {
				b.WriteByte(',')
			}
			first, _ := utf8.DecodeRuneInString(cell)
			if cell != "" && (strings.ContainsAny(cell, ",\"\n\r") || unicode.IsSpace(first)) {
				cell = `"` + strings.ReplaceAll(cell, `"`, `""`) + `"`
			}
			b.WriteString(cell)
		}
		b.WriteByte('\n')
	}
	line(s.names)
	for _, row := range s.rows {
		line(row)
	}
	return b.String()
}

// differs shows the first lines that differ.
func differs(got, want string) string {
	a, b := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return fmt.Sprintf("line %d:\n%s\nwant\n%s", i+1, a[i], b[i])
		}
	}
	return fmt.Sprintf("%d lines, want %d", len(a), len(b))
}
