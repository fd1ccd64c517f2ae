package workbook

import (
	"archive/zip"
	"bufio"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"proudsieve/core/intake/content"
	"proudsieve/core/table"
)

// bookParts is what cells refer to.
type bookParts struct {
	ctx     context.Context // of the reading
	zip     *zip.Reader
	shared  []string
	numbers []bool  // which of them are numbers that are stored as text
	shows   []shown // per cell style: what its numbers are
	from    time.Time
	sheets  []bookSheet
	files   map[string]string // relation to file
}

type bookSheet struct {
	Name     string `xml:"name,attr"`
	State    string `xml:"state,attr"`
	Relation string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
}

func (s bookSheet) hidden() bool { return s.State == "hidden" || s.State == "veryHidden" }

// part opens a file of the archive, which may not unpack to more than it should.
func (b *bookParts) part(name string) (io.ReadCloser, error) {
	for _, f := range b.zip.File {
		if strings.TrimPrefix(f.Name, "/") != name {
			continue
		}
		in, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%w (%s: %w)", ErrWorkbook, name, err)
		}
		packed := int64(f.CompressedSize64)
		return content.Ending(b.ctx, content.Bounded(io.LimitReader(in, xmlEntryLimit), packed,
			func() { _ = in.Close() })), nil
	}
	return nil, fmt.Errorf("%w (it has no %s)", ErrWorkbook, name)
}

func (b *bookParts) decode(name string, into any) error {
	in, err := b.part(name)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := xml.NewDecoder(bufio.NewReader(io.LimitReader(in, 64<<20))).Decode(into); err != nil {
		return fmt.Errorf("%w (%s: %w)", ErrWorkbook, name, err)
	}
	return nil
}

func (b *bookParts) load() error {
	var book struct {
		Properties struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []bookSheet `xml:"sheets>sheet"`
	}
	if err := b.decode("xl/workbook.xml", &book); err != nil {
		return err
	}
	b.sheets = book.Sheets
	b.from = time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if book.Properties.Date1904 == "1" || book.Properties.Date1904 == "true" {
		b.from = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	var relations struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := b.decode("xl/_rels/workbook.xml.rels", &relations); err != nil {
		return err
	}
	b.files = map[string]string{}
	for _, r := range relations.All {
		target := r.Target
		if !strings.HasPrefix(target, "/") {
			target = path.Join("xl", target)
		}
		b.files[r.ID] = strings.TrimPrefix(target, "/")
	}
	for _, f := range b.zip.File {
		var err error
		switch strings.TrimPrefix(f.Name, "/") {
		case "xl/sharedStrings.xml":
			err = b.loadShared()
		case "xl/styles.xml":
			err = b.loadStyles()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (b *bookParts) sheetFile(wanted string) (string, error) {
	var names []string
	for _, s := range b.sheets {
		if s.Name == wanted || wanted == "" && !s.hidden() {
			if file, ok := b.files[s.Relation]; ok {
				return file, nil
			}
			return "", fmt.Errorf("%w (the sheet %q is not in it)", ErrWorkbook, s.Name)
		}
		names = append(names, s.Name)
	}
	return "", &SheetError{wanted, names}
}

func (b *bookParts) loadShared() error {
	in, err := b.part("xl/sharedStrings.xml")
	if err != nil {
		return err
	}
	defer in.Close()
	s := newScanner(in)
	held := 0
	for {
		is, err := s.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		text := ""
		if err == nil && is == begins && string(s.name) == "si" {
			if text, err = s.richText(); err == nil {
				if held += len(text) + sharedCost; held > sharedLimit {
					return fmt.Errorf("%w: the texts that its cells share take more than %d MiB; save it as CSV",
						content.ErrTooLarge, sharedLimit>>20)
				}
				_, number := table.ParseDecimal(strings.TrimSpace(text))
				b.shared, b.numbers = append(b.shared, text), append(b.numbers, number)
			}
		}
		if err != nil {
			return fmt.Errorf("its texts: %w", damaged(err))
		}
	}
}

func (b *bookParts) loadStyles() error {
	var styles struct {
		Formats []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Cells []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := b.decode("xl/styles.xml", &styles); err != nil {
		return err
	}
	shows := map[int]shown{}
	for _, builtIn := range [][2]int{{14, 22}, {27, 36}, {45, 47}, {50, 58}} {
		for id := builtIn[0]; id <= builtIn[1]; id++ {
			shows[id] = showsDate
		}
	}
	shows[elapsedFormat] = showsDuration
	for _, f := range styles.Formats {
		shows[f.ID] = shownBy(f.Code)
	}
	for _, c := range styles.Cells {
		b.shows = append(b.shows, shows[c.Format])
	}
	return nil
}

// shown is what the numbers of a cell style are shown as.
type shown uint8

const (
	showsNumber shown = iota
	showsDate
	showsDuration // hours, minutes or seconds that go on beyond a day
)

// elapsedFormat is the built-in number format of durations, [h]:mm:ss.
const elapsedFormat = 46

// shownBy tells what a number format shows: dates by letters of theirs, durations by such a letter in brackets.
func shownBy(code string) shown {
	quoted, bracket := false, false
	for i := 0; i < len(code); i++ {
		switch c := code[i]; {
		case c == '\\' && !quoted:
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[':
			bracket = true
		case c == ']':
			bracket = false
		case bracket:
			if strings.IndexByte("hms", c|0x20) >= 0 && (code[i-1] == '[' || code[i-1]|0x20 == c|0x20) &&
				strings.IndexByte("]hHmMsS", code[min(i+1, len(code)-1)]) >= 0 {
				return showsDuration
			}
		case c == ';':
			return showsNumber // only the first section counts
		case strings.IndexByte("dmyhs", c|0x20) >= 0:
			return showsDate
		}
	}
	return showsNumber
}
