package document

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// The YAML parser is given nothing that it could be brought down with: it takes memory and
// time that grow with the square of how deep things stand in one another. So a text is
// walked once before, in time that grows with its length, and refused where it is too
// large, too deep, or not text.
const (
	sizeLimit  = 1 << 20 // bytes of a declaration
	lineLimit  = 200_000 // lines
	widthLimit = 10_000  // bytes of a line
	depthLimit = 40      // lists and groups within one another
	namesLimit = 3_000   // of one group
	emptyLimit = 3_000   // names and entries with nothing after them on their line
)

// bounded says what keeps a text from being parsed; nil where nothing does.
func bounded(source []byte) error {
	if len(source) > sizeLimit {
		return Problems{{1, 1, fmt.Sprintf("the declaration is larger than %d bytes", sizeLimit)}}
	}
	w := walk{text: string(source), line: 1, column: 1}
	if !utf8.ValidString(w.text) {
		return w.invalid()
	}
	for w.at < len(w.text) {
		w.begin()
		if w.problem != nil {
			return Problems{*w.problem}
		}
		if w.line > lineLimit {
			return Problems{{w.line, 1, fmt.Sprintf("the declaration has more than %d lines", lineLimit)}}
		}
	}
	return nil
}

// walk goes over a text line by line and keeps account of what is open.
type walk struct {
	text         string
	at           int
	line, column int // of at, from 1
	levels       []level
	flow         int // of the levels, brackets and braces
	empty        int
	block        int  // the indent of the line that opened a block of plain text
	inBlock      bool // within such a block
	problem      *Problem
}

// level is something open: what stands at an indent, or in brackets.
type level struct {
	indent int
	names  int
}

func (w *walk) fail(message string) {
	if w.problem == nil {
		w.problem = &Problem{w.line, w.column, message}
	}
}

func (w *walk) invalid() error {
	for i, r := range w.text {
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(w.text[i:]); size == 1 {
				before := w.text[:i]
				start := strings.LastIndexByte(before, '\n') + 1
				return Problems{{strings.Count(before, "\n") + 1, utf8.RuneCountInString(before[start:]) + 1,
					"a byte here is no character in UTF-8; save the text as UTF-8"}}
			}
		}
	}
	return nil
}

// next moves on by one byte.
func (w *walk) next() {
	if w.text[w.at] == '\n' {
		w.line++
		w.column = 0
	}
	w.at++
	w.column++
}

func (w *walk) peek(ahead int) byte {
	if w.at+ahead < len(w.text) {
		return w.text[w.at+ahead]
	}
	return '\n'
}

func blank(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

// begin walks one line from its start; what goes on over several lines is walked to its end.
func (w *walk) begin() {
	if width := strings.IndexByte(w.text[w.at:], '\n'); width > widthLimit || width < 0 &&
		len(w.text)-w.at > widthLimit {
		w.fail(fmt.Sprintf("the line is longer than %d bytes; write it on several", widthLimit))
		return
	}
	indent := 0
	for w.peek(0) == ' ' && w.at < len(w.text) {
		w.next()
		indent++
	}
	empty := w.at >= len(w.text) || w.peek(0) == '\n' || w.peek(0) == '\r'
	if w.inBlock && (empty || indent > w.block) {
		w.rest()
		return
	}
	w.inBlock = false
	if !empty && w.flow == 0 {
		for len(w.levels) > 0 && w.levels[len(w.levels)-1].indent > indent {
			w.levels = w.levels[:len(w.levels)-1]
		}
		if len(w.levels) == 0 || w.levels[len(w.levels)-1].indent < indent {
			w.open(indent)
		}
	}
	w.tokens(indent)
}

// open notes that something stands at an indent, within all that is open further left.
func (w *walk) open(indent int) {
	if w.levels = append(w.levels, level{indent: indent}); len(w.levels) > depthLimit {
		w.fail("nested too deeply")
	}
}

// name notes a name of what is open.
func (w *walk) name() {
	if len(w.levels) == 0 {
		return
	}
	if top := &w.levels[len(w.levels)-1]; top.names < namesLimit {
		top.names++
		return
	}
	w.fail(fmt.Sprintf("one group has more than %d names; make it a list", namesLimit))
}

// nothing notes a name or an entry that has nothing after it on its line.
func (w *walk) nothing() {
	if w.empty++; w.empty > emptyLimit {
		w.fail(fmt.Sprintf("more than %d names and entries have nothing after them", emptyLimit))
	}
}

// rest goes to the start of the next line.
func (w *walk) rest() {
	for w.at < len(w.text) && w.text[w.at] != '\n' {
		w.next()
	}
	if w.at < len(w.text) {
		w.next()
	}
}

// tokens walks what stands on a line.
func (w *walk) tokens(indent int) {
	fresh := true   // a value may start here
	closed := false // a quote or a bracket was closed, so that a value has ended
	for w.at < len(w.text) && w.problem == nil {
		c := w.text[w.at]
		if closed && strings.IndexByte(" \t\r\n,]}:#", c) < 0 {
			w.fail("the value ends before this; put all of it in quotes")
			return
		}
		switch {
		case c == '\n':
			w.next()
			return
		case c == 0:
			w.fail("a NUL stands here, which is no character of a text")
		case c == '#' && (w.at == 0 || blank(w.text[w.at-1])):
			w.rest()
			return
		case c == ' ' || c == '\t' || c == '\r':
			w.next()
		case fresh && (c == '"' || c == '\''):
			w.quoted(c)
			fresh, closed = false, true
		case (fresh || w.flow > 0) && (c == '[' || c == '{'):
			w.flow++
			w.open(indent)
			w.next()
			fresh = true
		case w.flow > 0 && (c == ']' || c == '}'):
			w.flow--
			w.levels = w.levels[:len(w.levels)-1]
			w.next()
			fresh, closed = false, true
		case fresh && (c == '`' || c == '@'):
			w.fail("a text that begins with this character has to stand in quotes")
		case fresh && (c == ']' || c == '}'):
			w.fail("this bracket closes none; put the text in quotes")
		case w.flow > 0 && c == ',':
			if fresh {
				w.nothing()
			}
			w.next()
			fresh, closed = true, false
		case fresh && (c == '&' || c == '*' || c == '!'):
			w.fail("anchors, aliases, tags and merge keys are not used here; write the value out")
		case fresh && w.flow == 0 && (c == '|' || c == '>'):
			w.block, w.inBlock = indent, true
			w.rest()
			return
		case fresh && (c == '-' || c == '?') && blank(w.peek(1)):
			w.open(w.column)
			if w.next(); w.peek(0) == '\n' || w.peek(0) == '\r' {
				w.nothing()
			}
		case c == ':' && (blank(w.peek(1)) || w.flow > 0):
			w.name()
			if w.flow == 0 {
				w.open(w.column)
			}
			if w.next(); w.peek(0) == '\n' || w.peek(0) == '\r' {
				w.nothing()
			}
			fresh, closed = true, false
		default:
			w.next()
			fresh = false
		}
	}
}

// quoted goes past a text in quotes, over as many lines as it has.
func (w *walk) quoted(quote byte) {
	line, column := w.line, w.column
	for w.next(); w.at < len(w.text); w.next() {
		switch c := w.text[w.at]; {
		case c == 0:
			w.fail("a NUL stands here, which is no character of a text")
			return
		case quote == '"' && c == '\\' && w.at+1 < len(w.text):
			w.next()
		case c == quote && quote == '\'' && w.peek(1) == '\'':
			w.next()
		case c == quote:
			w.next()
			return
		}
	}
	w.line, w.column = line, column
	w.fail("this quote is not closed")
}
