// Package json reads JSON (RFC 8259): an object a line, one array of objects, or a single object that is one record or
// holds records under a name. Members of
// objects within objects become columns by their dotted path; arrays within a record
// stand in their cell as they are.
package json

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

const (
	jsonDepth     = 64      // objects and arrays within one another
	jsonPathLimit = 1 << 10 // bytes of a dotted path
)

// reader reads JSON. Columns come in the order in which they are first met. What is no object
// is a row of its own, with its text beyond the columns.
type reader struct {
	open  content.Opening
	array bool
	names []string
	index map[string]int
	// next is the column that the next name probably is of: records mostly name them in one order.
	next   int
	parser jsonParser
	cells  []string // of the record
	// fixed says that no column may be added.
	fixed bool
	// narrow says that a text stands beyond the columns known then.
	narrow bool
}

func init() {
	for _, f := range []struct {
		content.Format
		array bool
	}{
		{content.Format{Name: "json_lines", Title: "JSON Lines", Because: "it starts with an object", Place: 10,
			Recognises: startsAsLines}, false},
		{content.Format{Name: "json_array", Title: "a JSON array of objects",
			Because: "it starts with a bracket and an object", Place: 20, Recognises: startsAsArray}, true},
	} {
		f.Converter = func(c *content.Content, _ string) content.Converter {
			return &reader{open: c.Open, array: f.array, index: map[string]int{}}
		}
		content.Register(f.Format)
	}
}

func start(head []byte) []byte {
	return bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
}

func startsAsLines(head []byte) bool {
	text := start(head)
	return len(text) > 0 && text[0] == '{' && looksLikeObject(text)
}

func startsAsArray(head []byte) bool {
	text := start(head)
	if len(text) == 0 || text[0] != '[' {
		return false
	}
	rest := start(text[1:])
	return len(rest) > 0 && (rest[0] == '{' && looksLikeObject(rest) || rest[0] == ']' &&
		len(bytes.TrimSpace(rest[1:])) == 0)
}

// looksLikeObject reports whether text starts as an object does: { then a name and a colon, or }.
func looksLikeObject(text []byte) bool {
	rest := bytes.TrimLeft(text[1:], " \t\r\n")
	if len(rest) == 0 {
		return false
	}
	if rest[0] == '}' {
		return true
	}
	if rest[0] != '"' {
		return false
	}
	for i := 1; i < len(rest); i++ {
		switch rest[i] {
		case '\\':
			i++
		case '"':
			after := bytes.TrimLeft(rest[i+1:], " \t\r\n")
			return len(after) > 0 && after[0] == ':'
		}
	}
	return false
}

// Columns implements content.Columned.
func (j *reader) Columns(context.Context) ([]string, error) { return j.names, nil }

// column returns the place of a path among the columns.
func (j *reader) column(path string) (int, error) {
	if j.next < len(j.names) && j.names[j.next] == path {
		j.next++
		return j.next - 1, nil
	}
	at, known := j.index[path]
	if !known {
		if j.fixed {
			return 0, errUnknown
		}
		if len(j.names) >= content.ColumnLimit {
			return 0, delimited.ErrTooMany
		}
		path = strings.Clone(path) // which is a part of its record
		at = len(j.names)
		j.index[path] = at
		j.names = append(j.names, path)
	}
	j.next = at + 1
	return at, nil
}

// Convert implements content.Converter. The file is read once, unless a text beyond the
// columns was written before all of them were known.
func (j *reader) Convert(ctx context.Context, to *content.Records) error {
	if !j.array {
		return j.lines(ctx, to)
	}
	return j.write(ctx, to, func(f func([]byte) error) error { return j.each(ctx, f) })
}

// write writes the records that each hands out.
func (j *reader) write(ctx context.Context, to *content.Records, each func(f func(raw []byte) error) error) error {
	known := j.begin()
	err := each(func(raw []byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return j.record(string(raw), to, known)
	})
	if err == nil {
		err = j.again(known)
	}
	return err
}

// begin makes ready for records, and returns how many columns are known before.
func (j *reader) begin() (known int) {
	j.narrow = false
	j.parser.column, j.parser.put = j.column, func(at int, text string) {
		for len(j.cells) <= at {
			j.cells = append(j.cells, "")
		}
		j.cells[at] = text
	}
	return len(j.names)
}

// again says that records have to be written once more, since there are more columns than when some text was put beyond them.
func (j *reader) again(known int) error {
	if j.narrow && len(j.names) > known {
		return content.ErrAgain
	}
	return nil
}

// record writes one record; so many columns were known at the beginning.
func (j *reader) record(raw string, to *content.Records, known int) error {
	if strings.TrimSpace(raw) == "" {
		return to.Blank()
	}
	clear(j.cells)
	j.cells = j.cells[:0]
	j.next = 0
	repeated, err := j.parser.record(raw)
	if errors.Is(err, delimited.ErrTooMany) || errors.Is(err, errUnknown) {
		return err
	}
	if err != nil {
		j.narrow = true
		text := strings.TrimSpace(raw)
		beyond := append(make([]string, max(known, len(j.names)), len(j.names)+1), text)
		return to.Write(beyond, content.Flaw{Kind: table.BrokenRecord, Column: -1, Detail: err.Error() + ": " + text})
	}
	var flaws []content.Flaw
	for _, path := range repeated {
		flaws = append(flaws, content.Flaw{Kind: table.RepeatedName, Column: j.index[path]})
	}
	return to.Write(j.cells, flaws...)
}

// each calls f for every element of the array.
func (j *reader) each(ctx context.Context, f func(raw []byte) error) error {
	in, err := j.open(ctx, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	return eachElement(withoutMark(in), false, f)
}

// readAll reads a text of one record.
func readAll(r io.Reader) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, delimited.RecordLimit+1))
	if err == nil && len(raw) > delimited.RecordLimit {
		err = delimited.ErrTooLong
	}
	return raw, err
}

// eachElement takes an array apart into its elements, by their brackets; within says that something may follow it.
func eachElement(r *bufio.Reader, within bool, f func(raw []byte) error) error {
	if _, err := r.ReadString('['); err != nil {
		return err
	}
	var raw []byte
	number, depth, quoted, escaped := int64(0), 0, false, false
	end := func() error {
		one := bytes.TrimSpace(raw)
		raw = raw[:0]
		if len(one) == 0 {
			return nil
		}
		number++
		return f(one)
	}
	for {
		c, err := r.ReadByte()
		if errors.Is(err, io.EOF) { // the array is cut off; what there is of its last element is a record
			return end()
		}
		if err != nil {
			return err
		}
		switch {
		case escaped:
			escaped = false
		case quoted:
			escaped, quoted = c == '\\', c != '"'
		case c == '"':
			quoted = true
		case c == '{' || c == '[':
			depth++
		case c == ']' && depth == 0:
			if err := end(); err != nil {
				return err
			}
			if within {
				return nil
			}
			rest, err := io.ReadAll(io.LimitReader(r, 200))
			if rest = bytes.TrimSpace(rest); err == nil && len(rest) > 0 {
				number++
				return f(rest) // more than white space after the array
			}
			return err
		case c == '}' || c == ']':
			depth--
		case c == ',' && depth == 0:
			if err := end(); err != nil {
				return err
			}
			continue
		}
		if raw = append(raw, c); len(raw) > delimited.RecordLimit {
			return fmt.Errorf("element %d: %w", number+1, delimited.ErrTooLong)
		}
	}
}

// jsonParser parses records, one after the other; column tells the place of a path, and put takes the texts of its values.
type jsonParser struct {
	raw      string
	at       int
	column   func(path string) (int, error)
	put      func(at int, text string)
	number   uint32   // of the record, which is that of its columns in seen
	seen     []uint32 // in which record a column was met last
	repeated []string
}

// record parses one object and gives each of its values, as text, to put. Repeated are the paths given more than once, of which the
// last value counts.
func (p *jsonParser) record(raw string) (repeated []string, err error) {
	p.raw, p.at, p.repeated = raw, 0, nil
	if p.number++; p.number == 0 { // as after four thousand million records
		clear(p.seen)
		p.number = 1
	}
	p.space()
	if p.at == len(raw) {
		return nil, nil
	}
	if p.raw[p.at] != '{' {
		return nil, p.fail("this is no object")
	}
	if err := p.object("", 1); err != nil {
		return nil, err
	}
	p.space()
	if p.at < len(raw) {
		return nil, p.fail("something follows the object")
	}
	return p.repeated, nil
}

func (p *jsonParser) fail(what string) error {
	return fmt.Errorf("character %d: %s", utf8.RuneCountInString(p.raw[:min(p.at, len(p.raw))])+1, what)
}

func (p *jsonParser) space() {
	for p.at < len(p.raw) && (p.raw[p.at] == ' ' || p.raw[p.at] == '\t' || p.raw[p.at] == '\n' || p.raw[p.at] == '\r') {
		p.at++
	}
}

// take goes past c, and white space before it.
func (p *jsonParser) take(c byte) bool {
	p.space()
	if p.at < len(p.raw) && p.raw[p.at] == c {
		p.at++
		return true
	}
	return false
}

func (p *jsonParser) object(prefix string, depth int) error {
	if depth > jsonDepth {
		return p.fail("objects stand more than 64 deep in one another")
	}
	p.at++ // {
	if p.take('}') {
		return nil
	}
	for {
		p.space()
		name, err := p.text()
		if err != nil {
			return err
		}
		if !p.take(':') {
			return p.fail("a colon is missing")
		}
		path := name
		if prefix != "" {
			path = prefix + "." + name
		}
		if len(path) > jsonPathLimit {
			return p.fail("a name is too long")
		}
		p.space()
		if p.at < len(p.raw) && p.raw[p.at] == '{' {
			err = p.object(path, depth+1)
		} else {
			err = p.member(path, depth)
		}
		if err != nil {
			return err
		}
		if p.take('}') {
			return nil
		}
		if !p.take(',') {
			return p.fail("a comma or a closing brace is missing")
		}
	}
}

func (p *jsonParser) member(path string, depth int) error {
	at, err := p.column(path)
	if err != nil {
		return err
	}
	for len(p.seen) <= at {
		p.seen = append(p.seen, 0)
	}
	if p.seen[at] == p.number {
		p.repeated = append(p.repeated, strings.Clone(path))
	}
	p.seen[at] = p.number
	start := p.at
	switch {
	case p.at == len(p.raw):
		return p.fail("a value is missing")
	case p.raw[p.at] == '"':
		text, err := p.text()
		if err == nil {
			p.put(at, text)
		}
		return err
	case p.raw[p.at] == '[':
		if err := p.array(depth + 1); err != nil {
			return err
		}
		p.put(at, p.raw[start:p.at])
		return nil
	}
	if err := p.scalar(); err != nil {
		return err
	}
	if text := p.raw[start:p.at]; text != "null" {
		p.put(at, text)
	}
	return nil
}

// array goes past an array, whatever is in it.
func (p *jsonParser) array(depth int) error {
	if depth > jsonDepth {
		return p.fail("arrays stand more than 64 deep in one another")
	}
	p.at++ // [
	if p.take(']') {
		return nil
	}
	for {
		p.space()
		if p.at == len(p.raw) {
			return p.fail("the array is not closed")
		}
		var err error
		switch p.raw[p.at] {
		case '"':
			_, err = p.text()
		case '[':
			err = p.array(depth + 1)
		case '{':
			inner := jsonParser{raw: p.raw, at: p.at, number: 1, column: func(string) (int, error) { return 0, nil },
				put: func(int, string) {}}
			err = inner.object("", depth+1)
			p.at = inner.at
		default:
			err = p.scalar()
		}
		if err != nil {
			return err
		}
		if p.take(']') {
			return nil
		}
		if !p.take(',') {
			return p.fail("a comma or a closing bracket is missing")
		}
	}
}

// scalar goes past a number, true, false or null.
func (p *jsonParser) scalar() error {
	start := p.at
	for p.at < len(p.raw) && !endsScalar(p.raw[p.at]) {
		p.at++
	}
	word := p.raw[start:p.at]
	if word == "true" || word == "false" || word == "null" || isJSONNumber(word) {
		return nil
	}
	p.at = start
	return p.fail("this is no value")
}

func endsScalar(c byte) bool {
	return c == ',' || c == '}' || c == ']' || c == ' ' || c == '\t' || c == '\r' || c == '\n'
}

// isJSONNumber holds a word against the grammar of numbers (RFC 8259, section 6).
func isJSONNumber(word string) bool {
	digits := func() bool { // goes past some, of which there is at least one
		n := 0
		for n < len(word) && word[n] >= '0' && word[n] <= '9' {
			n++
		}
		word = word[n:]
		return n > 0
	}
	word = strings.TrimPrefix(word, "-")
	if strings.HasPrefix(word, "0") {
		word = word[1:]
	} else if !digits() {
		return false
	}
	if rest, ok := strings.CutPrefix(word, "."); ok {
		if word = rest; !digits() {
			return false
		}
	}
	if word != "" && (word[0] == 'e' || word[0] == 'E') {
		if word = word[1:]; word != "" && (word[0] == '+' || word[0] == '-') {
			word = word[1:]
		}
		if !digits() {
			return false
		}
	}
	return word == ""
}

// text parses a string.
func (p *jsonParser) text() (string, error) {
	if p.at == len(p.raw) || p.raw[p.at] != '"' {
		return "", p.fail("a name in quotes is missing")
	}
	start := p.at + 1
	for i := start; i < len(p.raw); i++ {
		switch c := p.raw[i]; {
		case c == '"':
			p.at = i + 1
			return p.raw[start:i], nil
		case c == '\\':
			return p.escapedText(start)
		case c < ' ':
			p.at = i
			return "", p.fail("a control character stands in a text")
		}
	}
	return "", p.fail("the text is not closed")
}

func (p *jsonParser) escapedText(start int) (string, error) {
	var b strings.Builder
	for i := start; i < len(p.raw); i++ {
		switch c := p.raw[i]; {
		case c == '"':
			p.at = i + 1
			return b.String(), nil
		case c < ' ':
			p.at = i
			return "", p.fail("a control character stands in a text")
		case c != '\\':
			b.WriteByte(c)
		case i+1 == len(p.raw):
			return "", p.fail("the text is not closed")
		default:
			i++
			if p.raw[i] == 'u' {
				r, size := unicodeEscape(p.raw[i-1:])
				if size == 0 {
					p.at = i
					return "", p.fail("\\u must be followed by four hexadecimal digits")
				}
				b.WriteRune(r)
				i += size - 2
				continue
			}
			at := strings.IndexByte(`"\/bfnrt`, p.raw[i])
			if at < 0 {
				p.at = i
				return "", p.fail("this escape is not known")
			}
			b.WriteByte("\"\\/\b\f\n\r\t"[at])
		}
	}
	return "", p.fail("the text is not closed")
}

// unicodeEscape reads \uXXXX, or a pair of them that make one character; half a pair is U+FFFD.
func unicodeEscape(raw string) (r rune, size int) {
	unit := func(raw string) (rune, bool) {
		if len(raw) < 6 || raw[0] != '\\' || raw[1] != 'u' {
			return 0, false
		}
		n, err := strconv.ParseUint(raw[2:6], 16, 16)
		return rune(n), err == nil
	}
	first, ok := unit(raw)
	if !ok {
		return 0, 0
	}
	if utf16.IsSurrogate(first) {
		if second, ok := unit(raw[6:]); ok {
			if both := utf16.DecodeRune(first, second); both != utf8.RuneError {
				return both, 12
			}
		}
		return utf8.RuneError, 6
	}
	return first, 6
}
