package workbook

import (
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

type sheetCell struct {
	column       int // from 0
	text         string
	numberAsText bool
	// unvalued says that it holds a formula whose value was not stored.
	unvalued bool
}

func texts(to []string, cells []sheetCell) []string {
	for _, c := range cells {
		for len(to) <= c.column {
			to = append(to, "")
		}
		to[c.column] = c.text
	}
	return to
}

// rows walks the rows of a sheet, or of a part of one, which come after a row; after notPlaced each must say its number itself.
func (b *bookParts) rows(s *scanner, row int, f func(row int, cells []sheetCell) error, merged func(first, last, row int)) error {
	column := 0
	var cells []sheetCell
	for {
		if plain, ok := s.plainCell(); ok {
			cell, err := b.plain(&plain, column)
			if err != nil {
				return fmt.Errorf("row %d: %w", max(row, 1), damaged(err))
			}
			column, cells = cell.column+1, append(cells, cell)
			continue
		}
		t, err := s.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil && t == begins {
			switch string(s.name) {
			case "row":
				var next int
				if next, err = b.rowNumber(s, row); err == nil {
					row, column, cells = next, 0, cells[:0]
				}
			case "c":
				var cell sheetCell
				if cell, err = b.cell(s, column); err == nil {
					column = cell.column + 1
					cells = append(cells, cell)
				}
			case "mergeCell":
				var ref []byte
				if ref, err = s.attribute("ref"); err == nil {
					first, last, top := mergedColumns(string(ref))
					merged(first, last, top)
				}
			}
		}
		if err != nil {
			return fmt.Errorf("row %d: %w", max(row, 1), damaged(err))
		}
		if t == closes && string(s.name) == "row" {
			if err := f(row, cells); err != nil {
				return err
			}
		}
	}
}

// damaged says that a workbook is, unless the error says more than that.
func damaged(err error) error {
	if errors.Is(err, ErrWorkbook) || errors.Is(err, delimited.ErrTooLong) {
		return err
	}
	return fmt.Errorf("%w (%w)", ErrWorkbook, err)
}

// notPlaced is what stands for the row before one in the midst of a sheet.
const notPlaced = -1

var errNotPlaced = errors.New("a row does not say which one it is")

// rowNumber is the number of the row that began, after another one.
func (b *bookParts) rowNumber(s *scanner, before int) (int, error) {
	r, err := s.attribute("r")
	if err == nil && len(r) == 0 && before == notPlaced {
		err = errNotPlaced
	}
	if err != nil || len(r) == 0 {
		return before + 1, err
	}
	next, err := strconv.Atoi(string(r))
	if err != nil || next <= before || next > sheetRows {
		return 0, fmt.Errorf("%w (row %q follows row %d)", ErrWorkbook, r, before)
	}
	return next, nil
}

// cell reads one cell, which began, at a column or after it.
func (b *bookParts) cell(s *scanner, column int) (out sheetCell, err error) {
	ref, err := s.attribute("r")
	if err != nil {
		return out, err
	}
	if out.column, err = columnOf(ref, column); err != nil {
		return out, err
	}
	kind, err := s.attribute("t")
	if err != nil {
		return out, err
	}
	is := cellKind(kind)
	style, err := s.attribute("s")
	if err != nil {
		return out, err
	}
	styled := string(style)
	raw, stored := "", false
	for depth := 1; ; {
		t, err := s.next()
		if err != nil {
			return out, ended(err)
		}
		switch {
		case t == closes:
			if depth--; depth == 0 {
				out.unvalued = out.unvalued && !stored
				return b.value(out, is, raw, styled)
			}
		case t == begins && string(s.name) == "v":
			if raw, err = s.within(); err != nil {
				return out, err
			}
			stored = true
		case t == begins && string(s.name) == "is":
			if raw, err = s.richText(); err != nil {
				return out, err
			}
		case t == begins && string(s.name) == "f":
			out.unvalued = true
			if err := s.skip(); err != nil {
				return out, err
			}
		case t == begins:
			depth++
		}
	}
}

// columnOf is the column of a cell of some name, or none, which stands at a column or after it.
func columnOf(ref []byte, column int) (int, error) {
	if len(ref) == 0 {
		return column, nil
	}
	at, _, ok := cellPlace(string(ref))
	if !ok || at < column || at >= sheetColumns {
		return column, fmt.Errorf("%w (a cell %q)", ErrWorkbook, ref)
	}
	return at, nil
}

// cellKind is the kind of a cell as a text that is not made anew for each.
func cellKind(kind []byte) string {
	for _, known := range [...]string{"", "s", "str", "n", "b", "e", "d", "inlineStr"} {
		if string(kind) == known {
			return known
		}
	}
	return string(kind)
}

// escapes are how a workbook writes the characters that XML has no place for, or changes (ISO/IEC 29500-1, 22.9.2.19).
var escapes = regexp.MustCompile(`_x[0-9A-Fa-f]{4}_`)

// unescaped is a text with such characters as they are: _x000D_ is the end of a line, and _x005F_ an underscore.
func unescaped(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	return escapes.ReplaceAllStringFunc(text, func(escape string) string {
		code, _ := strconv.ParseUint(escape[2:6], 16, 16)
		if r := rune(code); utf8.ValidRune(r) {
			return string(r)
		}
		return escape // half of a pair, which means nothing alone
	})
}

func (b *bookParts) value(out sheetCell, kind, raw, style string) (sheetCell, error) {
	switch kind {
	case "s":
		at, err := strconv.Atoi(raw)
		if err != nil || at < 0 || at >= len(b.shared) {
			return out, fmt.Errorf("%w (it has no shared text %q)", ErrWorkbook, raw)
		}
		out.text, out.numberAsText = b.shared[at], b.numbers[at]
		return out, nil
	case "b":
		out.text = map[string]string{"1": "true", "0": "false"}[raw]
		return out, nil
	case "inlineStr":
		out.text = raw
	case "str":
		out.text = unescaped(raw)
	case "e":
		out.text = raw
		return out, nil
	case "d":
		out.text = strings.TrimSuffix(raw, "T00:00:00")
		return out, nil
	default:
		if at, err := strconv.Atoi(style); err == nil && at >= 0 && at < len(b.shows) && raw != "" {
			switch b.shows[at] {
			case showsDate:
				out.text = b.date(raw)
				return out, nil
			case showsDuration:
				out.text = duration(raw)
				return out, nil
			}
		}
		out.text = plainNumber(raw)
		return out, nil
	}
	_, out.numberAsText = table.ParseDecimal(strings.TrimSpace(out.text))
	return out, nil
}

// date writes days since the start of the book's calendar; a number that is no date stays as it is.
func (b *bookParts) date(raw string) string {
	days, err := strconv.ParseFloat(raw, 64)
	if err != nil || days < 0 || days > 2958466 { // 9999-12-31
		return raw
	}
	seconds := math.Round(days * 86400)
	when := b.from.Add(time.Duration(seconds) * time.Second)
	if days < 1 && b.from.Year() == 1899 {
		return when.Format("15:04:05")
	}
	if b.from.Year() == 1899 && days < 60 {
		when = when.AddDate(0, 0, 1) // the calendar has a 29 February 1900, which was none
	}
	if when.Hour() == 0 && when.Minute() == 0 && when.Second() == 0 {
		return table.DateValue(when.Unix() / 86400).Standard()
	}
	return when.Format("2006-01-02 15:04:05")
}

// duration writes a part of days, or several, as hours, minutes and seconds: 1.25 is 30:00:00.
func duration(raw string) string {
	days, err := strconv.ParseFloat(raw, 64)
	if err != nil || math.Abs(days) > 2958466 {
		return raw
	}
	sign, seconds := "", int64(math.Round(math.Abs(days)*86400))
	if days < 0 {
		sign = "-"
	}
	return fmt.Sprintf("%s%d:%02d:%02d", sign, seconds/3600, seconds/60%60, seconds%60)
}

// plainNumber writes a stored number without an exponent and without the noise of binary
// fractions: 0.1+0.2 is stored as 0.30000000000000004 and was never meant as that.
func plainNumber(raw string) string {
	if len(raw) < 16 && !strings.ContainsAny(raw, "eE") {
		return raw
	}
	x, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return raw
	}
	short, err := strconv.ParseFloat(strconv.FormatFloat(x, 'g', 15, 64), 64)
	if err != nil {
		return raw
	}
	return strconv.FormatFloat(short, 'f', -1, 64)
}

// cellPlace reads a cell's name, as "AB12": its column from 0 and its row from 1.
func cellPlace(ref string) (column, row int, ok bool) {
	i := 0
	for ; i < len(ref) && ref[i] >= 'A' && ref[i] <= 'Z' && i < 4; i++ {
		column = column*26 + int(ref[i]-'A') + 1
	}
	row, err := strconv.Atoi(ref[i:])
	return column - 1, row, i > 0 && err == nil
}

func mergedColumns(ref string) (first, last, row int) {
	from, to, _ := strings.Cut(ref, ":")
	first, row, ok := cellPlace(from)
	last, _, also := cellPlace(to)
	if !ok || !also || last-first > sheetColumns {
		return 0, 0, 0
	}
	return first, last, row
}
