package detect

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"proudsieve/core/intake"
	"proudsieve/core/intake/delimited"
)

// delimited finds out how text is encoded and divided.
func (d *Detection) delimited() []delimited.Record {
	head, whole := d.opened.Text, d.opened.Ends
	if d.Reading.Encoding == "" {
		d.encoding(head, !whole)
	}
	text := inASCIITerms(head, d.Reading.Encoding)
	d.lineEnds(text)
	t := &delimited.Text{Layout: delimited.Layout{Quote: '"', LineEnd: '\n'}}
	if bytes.IndexByte(text, '\n') < 0 && bytes.IndexByte(text, '\r') >= 0 {
		t.LineEnd = '\r'
	}
	if !whole { // the last line may be cut
		if at := bytes.LastIndexByte(text, t.LineEnd); at >= 0 {
			text = text[:at+1]
		}
	}
	if d.Reading.Quote == "" {
		d.quote(text)
	}
	if t.Quote = 0; d.Reading.Quote != "none" {
		t.Quote = d.Reading.Quote[0]
	}
	if d.Reading.Delimiter == "" {
		d.delimiter(t, text)
	}
	t.Delimiter = d.Reading.Delimiter[0]
	return t.Records(text, sampledRecords)
}

const sampledRecords = 1000

func (d *Detection) encoding(head []byte, cut bool) {
	set := func(encoding string, c Confidence, because string) {
		d.Reading.Encoding = encoding
		d.add("encoding", c, encoding, because)
	}
	beyond, first, control := 0, 0, 0
	line := 1
	looked := head
	if delimited.ASCII(head) {
		looked = nil
	}
	for _, b := range looked {
		if b == '\n' {
			line++
		}
		if b >= utf8.RuneSelf {
			if beyond++; beyond == 1 {
				first = line
			}
			if b < 0xA0 {
				control++
			}
		}
	}
	switch {
	case bytes.HasPrefix(head, []byte{0xFF, 0xFE}):
		set("utf-16le", Certain, "it starts with the byte order mark of UTF-16, least byte first")
	case bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
		set("utf-16be", Certain, "it starts with the byte order mark of UTF-16, greatest byte first")
	case nulShare(head, 1) > 0.3 && nulShare(head, 0) < 0.05:
		set("utf-16le", Likely, "nearly every second byte is NUL, the odd ones")
	case nulShare(head, 0) > 0.3 && nulShare(head, 1) < 0.05:
		set("utf-16be", Likely, "nearly every second byte is NUL, the even ones")
	case bytes.HasPrefix(head, []byte("\xef\xbb\xbf")):
		set("utf-8", Certain, "it starts with the byte order mark of UTF-8")
	case beyond == 0:
		set("utf-8", Certain, "nothing but ASCII, in which all encodings agree, "+d.extent(cut))
	case validStart(head, cut) && bytes.Contains(head, []byte("\uFFFD")):
		set("utf-8", Likely, fmt.Sprintf("%d bytes beyond ASCII, from line %d on, that are sound UTF-8; but %s U+FFFD, which stands for what an earlier conversion lost: ask for the text as it was",
			beyond, first, map[bool]string{true: "1 character is", false: plural(bytes.Count(head, []byte("\uFFFD")), "character") + " are"}[bytes.Count(head, []byte("\uFFFD")) == 1]))
	case validStart(head, cut):
		set("utf-8", Certain, fmt.Sprintf("%d bytes beyond ASCII, from line %d on, and all of them are sound UTF-8",
			beyond, first))
	case float64(undecodable(head))/float64(beyond) < 0.02:
		set("utf-8", Likely, fmt.Sprintf("%d bytes beyond ASCII, and all but %d of them are sound UTF-8", beyond,
			undecodable(head)))
	case control > 0:
		set("windows-1252", Likely,
			fmt.Sprintf("%d bytes beyond ASCII, from line %d on, that are no UTF-8; %d of them are only characters in windows-1252", beyond, first, control))
	case bytes.IndexByte(head, 0xA4) >= 0:
		set("windows-1252", Ambiguous,
			fmt.Sprintf("bytes beyond ASCII, from line %d on, that are no UTF-8; byte A4 is ¤ here, and € in iso-8859-15", first))
	default:
		set("windows-1252", Likely,
			fmt.Sprintf("%s beyond ASCII, from line %d on, that %s no UTF-8; iso-8859-1 would read %s alike",
				plural(beyond, "byte"), first, map[bool]string{true: "is", false: "are"}[beyond == 1],
				map[bool]string{true: "it", false: "them"}[beyond == 1]))
	}
}

func (d *Detection) extent(cut bool) string {
	if cut {
		return "in the first million bytes"
	}
	return "in the whole file"
}

// nulShare is the share of NUL among the bytes at even or odd places.
func nulShare(head []byte, odd int) float64 {
	if bytes.IndexByte(head, 0) < 0 {
		return 0
	}
	n, all := 0, 0
	for i := odd; i < len(head); i += 2 {
		all++
		if head[i] == 0 {
			n++
		}
	}
	return float64(n) / float64(max(all, 1))
}

func undecodable(head []byte) (n int) {
	for i := 0; i < len(head); {
		r, size := utf8.DecodeRune(head[i:])
		if r == utf8.RuneError && size == 1 {
			n++
		}
		i += size
	}
	return n
}

func validStart(head []byte, cut bool) bool {
	if cut { // the last character may have been cut in two
		for i := 0; i < utf8.UTFMax && len(head) > 0 && !utf8.Valid(head); i++ {
			head = head[:len(head)-1]
		}
	}
	return utf8.Valid(head)
}

// inASCIITerms turns the text into an encoding in which ASCII stands as it is.
func inASCIITerms(head []byte, encoding string) []byte {
	if !strings.HasPrefix(encoding, "utf-16") {
		return head
	}
	text, err := intake.DecodeWide(encoding, head)
	if err != nil && len(text) == 0 {
		return head
	}
	return text
}

func (d *Detection) lineEnds(text []byte) {
	both := bytes.Count(text, []byte("\r\n"))
	feeds, returns := bytes.Count(text, []byte("\n"))-both, bytes.Count(text, []byte("\r"))-both
	kinds := 0
	var counts []string
	for _, k := range []struct {
		n    int
		name string
	}{{both, "CR LF"}, {feeds, "LF"}, {returns, "CR"}} {
		if k.n > 0 {
			kinds++
			counts = append(counts, fmt.Sprintf("%d %s", k.n, k.name))
		}
	}
	switch {
	case kinds == 0:
		d.add("line ends", Certain, "none", "the text is a single line")
	case kinds == 1:
		d.add("line ends", Certain, strings.SplitN(counts[0], " ", 2)[1], "all of them are")
	default:
		d.add("line ends", Likely, "mixed: "+strings.Join(counts, ", "),
			"a line ends with LF, or CR LF; a lone CR stays in its cell")
	}
}

func (d *Detection) quote(text []byte) {
	double, single := quotedCells(text, '"'), quotedCells(text, '\'')
	switch {
	case single > 2 && single > 4*double:
		d.Reading.Quote = "'"
		d.add("quote", Likely, "'", fmt.Sprintf("%d cells start and end with it", single))
	case double > 0:
		d.Reading.Quote = `"`
		d.add("quote", Likely, `"`, fmt.Sprintf("%d cells start and end with it", double))
	default:
		d.Reading.Quote = `"`
		d.add("quote", Ambiguous, `"`, "no cell is quoted, so that it does not matter yet")
	}
}

// quotedCells counts what looks like a cell in quotes: a quote after a delimiter or line
// start, and the next one that is not doubled before a delimiter or line end.
func quotedCells(text []byte, quote byte) (n int) {
	const around = ",;\t|\r\n"
	for i := 0; i < len(text) && n < 100_000; i++ {
		next := bytes.IndexByte(text[i:], quote)
		if next < 0 {
			break
		}
		if i += next; i > 0 && strings.IndexByte(around, text[i-1]) < 0 {
			continue
		}
		end := bytes.IndexByte(text[i+1:], quote)
		if end < 0 {
			break
		}
		for at := i + 1 + end; at+1 < len(text) && text[at+1] == quote; at = i + 1 + end { // a doubled one stands for itself
			next := bytes.IndexByte(text[at+2:], quote)
			if next < 0 {
				return n
			}
			end = at + 2 + next - i - 1
		}
		if i += end + 1; i+1 == len(text) || strings.IndexByte(around, text[i+1]) >= 0 {
			n++
		}
	}
	return n
}

var delimiterNames = map[string]string{",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", " ": "space",
	":": "colon", "~": "tilde", "^": "caret"}

// DelimiterName returns what a delimiter is called.
func DelimiterName(delimiter string) string {
	if name, ok := delimiterNames[delimiter]; ok {
		return name
	}
	return delimiter
}

// delimiter picks the one that divides most of the first lines into the same number of
// cells, more than one.
func (d *Detection) delimiter(s *delimited.Text, text []byte) {
	type candidate struct {
		delimiter    string
		width, lines int
		all, score   int
	}
	var best, second candidate
	for _, delimiter := range []string{",", ";", "\t", "|", ":", "~", "^", " "} {
		if bytes.IndexByte(text, delimiter[0]) < 0 {
			continue
		}
		s.Delimiter = delimiter[0]
		widths, all := map[int]int{}, 0
		for _, r := range s.Records(text, 200) {
			widths[len(r.Cells)]++
			all++
		}
		for width, lines := range widths {
			c := candidate{delimiter, width, lines, all, (width - 1) * lines * lines}
			if strings.Contains(":~^ ", delimiter) && (lines < all || lines < 3) {
				continue // these stand in ordinary text too
			}
			if width < 2 || c.score < best.score || c.score == best.score && c.delimiter != best.delimiter &&
				best.score > 0 {
				if width > 1 && c.delimiter != best.delimiter && c.score > second.score {
					second = c
				}
				continue
			}
			if c.delimiter != best.delimiter {
				second = best
			}
			best = c
		}
	}
	if best.score == 0 {
		d.Reading.Delimiter = ","
		d.add("delimiter", Ambiguous, "comma", "no character divides the lines, which are taken as one column")
		return
	}
	d.Reading.Delimiter = best.delimiter
	confidence := Likely
	because := fmt.Sprintf("it divides %d of the first %d records into %d cells each", best.lines, best.all, best.width)
	if best.lines == best.all && second.score == 0 {
		confidence = Certain
		because += ", and no other character does"
	} else if second.score*10 > best.score*9 {
		confidence = Ambiguous
	}
	if second.score > 0 {
		because += fmt.Sprintf("; %s would divide %d into %d", DelimiterName(second.delimiter), second.lines,
			second.width)
	}
	d.add("delimiter", confidence, DelimiterName(best.delimiter), because)
}
