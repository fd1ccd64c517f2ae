package workbook

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"unicode/utf8"

	"proudsieve/core/intake/delimited"
)

// scanner takes the XML of a sheet apart (XML 1.0, without entities of its own): elements by their local names, their attributes
// where they are asked for, and text. It is a small part of what a decoder of any XML does, since cells are most of a workbook's
// time; it refuses what is not well-formed as far as it looks: elements that do not close each other, characters that XML has no
// place for, and references that it does not know.
type scanner struct {
	in   *bufio.Reader
	name []byte // the local name of the element that began or ended; until the next token
	// attributes are those of the element that began, as they stand; until the next token.
	attributes []byte
	text       []byte // until the next token
	open       []byte // the names of the elements that are open, one after the other
	ends       []int  // where each of them ends
	alone      bool   // the element that began ends at once
	inTag      bool   // "<" was read
	part       bool   // what is read is a part of a text, after which it goes on
	held       []byte // of what is longer than the buffer
	decoded    []byte
}

type token uint8

const (
	begins token = iota
	closes
	says
)

var (
	errEnds   = errors.New("it ends within an element")
	errTag    = errors.New("a tag that is none")
	errChar   = errors.New("a character that XML has no place for")
	errRefers = errors.New("a reference that is not known")
	errCoding = errors.New("an encoding other than UTF-8")
)

func newScanner(in io.Reader) *scanner { return &scanner{in: bufio.NewReaderSize(in, 256<<10)} }

// until reads up to a byte and with it.
func (s *scanner) until(end byte) ([]byte, error) {
	part, err := s.in.ReadSlice(end)
	if !errors.Is(err, bufio.ErrBufferFull) {
		return part, err
	}
	s.held = append(s.held[:0], part...)
	for errors.Is(err, bufio.ErrBufferFull) {
		if len(s.held) > delimited.RecordLimit {
			return nil, delimited.ErrTooLong
		}
		part, err = s.in.ReadSlice(end)
		s.held = append(s.held, part...)
	}
	return s.held, err
}

// next returns the next token; io.EOF after the last one. What it tells lasts until the next one.
func (s *scanner) next() (token, error) {
	if s.alone {
		s.alone = false
		return closes, s.leave()
	}
	for {
		if !s.inTag {
			text, err := s.until('<')
			if err != nil {
				if errors.Is(err, io.EOF) {
					if s.part && len(text) == 0 {
						return says, io.EOF
					}
					return says, s.atEnd(text)
				}
				return says, err
			}
			s.inTag = true
			if text = text[:len(text)-1]; len(text) > 0 && len(s.ends) > 0 {
				s.text, err = s.characters(text)
				return says, err
			}
		}
		s.inTag = false
		first, err := s.in.ReadByte()
		if err != nil {
			return says, ended(err)
		}
		switch first {
		case '?':
			if err := s.instruction(); err != nil {
				return says, err
			}
		case '!':
			is, err := s.declaration()
			if err != nil || is {
				return says, err
			}
		case '/':
			return closes, s.end()
		default:
			if err := s.in.UnreadByte(); err != nil {
				return says, err
			}
			return begins, s.begin()
		}
	}
}

func ended(err error) error {
	if errors.Is(err, io.EOF) {
		return errEnds
	}
	return err
}

func (s *scanner) atEnd(rest []byte) error {
	if len(s.ends) > 0 || len(bytes.TrimSpace(rest)) > 0 {
		return errEnds
	}
	return io.EOF
}

// begin reads a tag that begins an element.
func (s *scanner) begin() error {
	tag, err := s.tag()
	if err != nil {
		return ended(err)
	}
	tag = tag[:len(tag)-1]
	if s.alone = len(tag) > 0 && tag[len(tag)-1] == '/'; s.alone {
		tag = tag[:len(tag)-1]
	}
	at := 0
	for at < len(tag) && !space(tag[at]) {
		at++
	}
	if at == 0 || bytes.IndexByte(tag, '<') >= 0 {
		return errTag
	}
	s.open = append(s.open, tag[:at]...)
	s.ends = append(s.ends, len(s.open))
	s.name, s.attributes = local(tag[:at]), tag[at:]
	return nil
}

// tag reads a tag to its end, which is no ">" within a value.
func (s *scanner) tag() ([]byte, error) {
	tag, err := s.until('>')
	if err != nil || !quoted(tag) {
		return tag, err
	}
	whole := bytes.Clone(tag)
	for quoted(whole) {
		part, err := s.until('>')
		if err != nil {
			return nil, err
		}
		if whole = append(whole, part...); len(whole) > delimited.RecordLimit {
			return nil, delimited.ErrTooLong
		}
	}
	return whole, nil
}

// quoted reports whether a tag ends within a value.
func quoted(tag []byte) bool {
	var quote byte
	for _, c := range tag {
		switch {
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case c == quote:
			quote = 0
		}
	}
	return quote != 0
}

func space(c byte) bool { return c == ' ' || c == '\t' || c == '\r' || c == '\n' }

func afterSpace(text []byte) []byte {
	for len(text) > 0 && space(text[0]) {
		text = text[1:]
	}
	return text
}

func beforeSpace(text []byte) []byte {
	for len(text) > 0 && space(text[len(text)-1]) {
		text = text[:len(text)-1]
	}
	return text
}

func local(name []byte) []byte {
	if at := bytes.IndexByte(name, ':'); at >= 0 {
		return name[at+1:]
	}
	return name
}

// end reads a tag that ends an element, which must be the last one that began.
func (s *scanner) end() error {
	tag, err := s.until('>')
	if err != nil {
		return ended(err)
	}
	if name := beforeSpace(tag[:len(tag)-1]); !bytes.Equal(name, s.last()) {
		return fmt.Errorf("</%s> where </%s> is wanted", name, s.last())
	}
	return s.leave()
}

// last is the name of the element that began last.
func (s *scanner) last() []byte {
	if len(s.ends) == 0 {
		return nil
	}
	from := 0
	if len(s.ends) > 1 {
		from = s.ends[len(s.ends)-2]
	}
	return s.open[from:s.ends[len(s.ends)-1]]
}

// leave closes the element that began last.
func (s *scanner) leave() error {
	if len(s.ends) == 0 {
		return errTag
	}
	last := s.last()
	s.name = local(last)
	s.open, s.ends = s.open[:len(s.open)-len(last)], s.ends[:len(s.ends)-1]
	return nil
}

// instruction reads over <? … ?>, unless it says that the text is in another encoding.
func (s *scanner) instruction() error {
	what, err := s.past("?>")
	if err != nil {
		return err
	}
	if at := bytes.Index(what, []byte("encoding=")); at >= 0 && bytes.HasPrefix(what, []byte("xml")) {
		if value := bytes.ToLower(what[at+len("encoding="):]); !bytes.HasPrefix(bytes.TrimLeft(value, `"'`), []byte("utf-8")) {
			return errCoding
		}
	}
	return nil
}

// declaration reads over a comment or a document type; is says that it was text as it stands (CDATA).
func (s *scanner) declaration() (is bool, err error) {
	switch start, err := s.in.Peek(2); {
	case err != nil:
		return false, ended(err)
	case string(start) == "--":
		_, _ = s.in.Discard(2)
		_, err := s.past("-->")
		return false, err
	case start[0] == '[':
		text, err := s.past("]]>")
		if err != nil {
			return false, err
		}
		text, found := bytes.CutPrefix(text, []byte("[CDATA["))
		if !found {
			return false, errTag
		}
		if err := legal(text); err != nil {
			return false, err
		}
		s.text = s.lineEnds(text)
		return len(s.ends) > 0, nil
	}
	// A document type may have declarations of its own within brackets; nothing of it is used.
	for depth := 1; depth > 0; {
		c, err := s.in.ReadByte()
		if err != nil {
			return false, ended(err)
		}
		switch c {
		case '<':
			depth++
		case '>':
			depth--
		}
	}
	return false, nil
}

// past reads up to a text and over it; what stands before is returned.
func (s *scanner) past(end string) ([]byte, error) {
	s.held = s.held[:0]
	for {
		part, err := s.in.ReadSlice(end[len(end)-1])
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return nil, ended(err)
		}
		s.held = append(s.held, part...)
		if bytes.HasSuffix(s.held, []byte(end)) {
			return s.held[:len(s.held)-len(end)], nil
		}
		if len(s.held) > delimited.RecordLimit {
			return nil, delimited.ErrTooLong
		}
	}
}

// attribute is the value of an attribute of the element that began, without a prefix; nil where it has none.
func (s *scanner) attribute(name string) ([]byte, error) {
	rest := s.attributes
	for {
		if rest = afterSpace(rest); len(rest) == 0 {
			return nil, nil
		}
		at := 0
		for at < len(rest) && rest[at] != '=' {
			at++
		}
		if at == 0 || at == len(rest) {
			return nil, errTag
		}
		is := string(beforeSpace(rest[:at])) == name
		rest = afterSpace(rest[at+1:])
		if len(rest) == 0 || rest[0] != '"' && rest[0] != '\'' {
			return nil, errTag
		}
		end := bytes.IndexByte(rest[1:], rest[0])
		if end < 0 {
			return nil, errTag
		}
		if is {
			return s.characters(rest[1 : 1+end])
		}
		rest = rest[end+2:]
	}
}

// characters is a text with its references and line ends as they are meant.
func (s *scanner) characters(text []byte) ([]byte, error) {
	if err := legal(text); err != nil {
		return nil, err
	}
	text = s.lineEnds(text)
	if bytes.IndexByte(text, '>') >= 0 && bytes.Contains(text, []byte("]]>")) {
		return nil, errTag
	}
	at := bytes.IndexByte(text, '&')
	if at < 0 {
		return text, nil
	}
	out := append([]byte(nil), text[:at]...)
	for rest := text[at:]; ; {
		end := bytes.IndexByte(rest, ';')
		if end < 0 {
			return nil, errRefers
		}
		r, ok := referred(string(rest[1:end]))
		if !ok {
			return nil, errRefers
		}
		out = utf8.AppendRune(out, r)
		rest = rest[end+1:]
		if at = bytes.IndexByte(rest, '&'); at < 0 {
			return append(out, rest...), nil
		}
		out = append(out, rest[:at]...)
		rest = rest[at:]
	}
}

var entities = map[string]rune{"amp": '&', "lt": '<', "gt": '>', "quot": '"', "apos": '\''}

// referred is the character that a reference stands for.
func referred(name string) (rune, bool) {
	if r, known := entities[name]; known {
		return r, true
	}
	if len(name) < 2 || name[0] != '#' {
		return 0, false
	}
	base, digits := 10, name[1:]
	if digits[0] == 'x' {
		base, digits = 16, digits[1:]
	}
	code, err := strconv.ParseUint(digits, base, 32)
	if err != nil || code > utf8.MaxRune {
		return 0, false
	}
	return rune(code), placed(rune(code))
}

// placed reports whether XML has a place for a character (XML 1.0, 2.2).
func placed(r rune) bool {
	return r == '\t' || r == '\n' || r == '\r' || r >= ' ' && r <= 0xd7ff || r >= 0xe000 && r <= 0xfffd || r >= 0x10000 && r <= utf8.MaxRune
}

// legal refuses bytes that are no text of XML.
func legal(text []byte) error {
	wide := false
	for _, c := range text {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' {
			return errChar
		}
		wide = wide || c >= utf8.RuneSelf
	}
	if !wide {
		return nil
	}
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRune(text[i:])
		if r == utf8.RuneError && size == 1 || !placed(r) {
			return errChar
		}
		i += size
	}
	return nil
}

// lineEnds writes every line end as one line feed (XML 1.0, 2.11).
func (s *scanner) lineEnds(text []byte) []byte {
	if bytes.IndexByte(text, '\r') < 0 {
		return text
	}
	s.decoded = s.decoded[:0]
	for i, c := range text {
		switch {
		case c != '\r':
			s.decoded = append(s.decoded, c)
		case i+1 == len(text) || text[i+1] != '\n':
			s.decoded = append(s.decoded, '\n')
		}
	}
	return s.decoded
}

// skip reads over the rest of the element that began last.
func (s *scanner) skip() error {
	for depth := 1; depth > 0; {
		t, err := s.next()
		if err != nil {
			return ended(err)
		}
		switch t {
		case begins:
			depth++
		case closes:
			depth--
		}
	}
	return nil
}

// within is the text of the element that began last, without that of elements in it.
func (s *scanner) within() (string, error) {
	text := ""
	for depth := 1; ; {
		t, err := s.next()
		if err != nil {
			return "", ended(err)
		}
		switch t {
		case begins:
			depth++
		case closes:
			if depth--; depth == 0 {
				return text, nil
			}
		case says:
			if depth == 1 {
				if text += string(s.text); len(text) > delimited.RecordLimit {
					return "", delimited.ErrTooLong
				}
			}
		}
	}
}

// richText joins the runs of a text up to the end of the element that began last; how it is read aloud is left out.
func (s *scanner) richText() (string, error) {
	var out []byte
	inText, aloud := false, 0
	for depth := 1; ; {
		t, err := s.next()
		if err != nil {
			return "", ended(err)
		}
		switch t {
		case begins:
			depth++
			inText = string(s.name) == "t"
			if string(s.name) == "rPh" {
				aloud++
			}
		case says:
			if inText && aloud == 0 {
				out = append(out, s.text...)
			}
			if len(out) > delimited.RecordLimit {
				return "", delimited.ErrTooLong
			}
		case closes:
			inText = false
			if string(s.name) == "rPh" {
				aloud--
			}
			if depth--; depth == 0 {
				return unescaped(string(out)), nil
			}
		}
	}
}
