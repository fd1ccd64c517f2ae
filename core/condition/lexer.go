package condition

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Error is a mistake in a condition, with its place in the source.
type Error struct {
	Column  int // in characters, from 1
	Message string
}

// Error implements error.
func (e *Error) Error() string { return fmt.Sprintf("character %d: %s", e.Column, e.Message) }

// Inside returns the place and the message apart, for who shows the condition within something else.
func (e *Error) Inside() (column int, message string) { return e.Column, e.Message }

type tokenKind uint8

const (
	tokenEnd tokenKind = iota
	tokenWord
	tokenQuoted // "a name"
	tokenNumber
	tokenText
	tokenSign
	tokenBad // what has no meaning; it was told
)

type token struct {
	kind tokenKind
	text string // words in upper case for keywords are compared through is()
	at   int    // character, from 1
}

func (t token) is(keyword string) bool {
	return t.kind == tokenWord && strings.EqualFold(t.text, keyword)
}

func (t token) sign(s string) bool { return t.kind == tokenSign && t.text == s }

func (t token) describe() string {
	if t.kind == tokenEnd {
		return "the end of the condition"
	}
	return fmt.Sprintf("%q", t.text)
}

var signs = []string{"||", "<>", "<=", ">=", "!=", "=", "<", ">", "(", ")", ",", "+", "-", "*", "/"}

// lex takes a condition apart. Mistakes are told all at once; in the place of each stands a tokenBad.
func lex(source string) (tokens []token, mistakes []error) {
	at := 1
	for len(source) > 0 {
		r, size := utf8.DecodeRuneInString(source)
		take := func(kind tokenKind, text string, length int) {
			tokens = append(tokens, token{kind, text, at})
			at += utf8.RuneCountInString(source[:length])
			source = source[length:]
		}
		switch {
		case unicode.IsSpace(r):
			source = source[size:]
			at++
		case r == '\'' || r == '"':
			text, length, ok := quotedText(source, byte(r))
			if !ok {
				mistakes = append(mistakes, &Error{at, fmt.Sprintf("the quote %c is never closed", r)})
				take(tokenBad, source, len(source))
				continue
			}
			kind := tokenText
			if r == '"' {
				kind = tokenQuoted
			}
			take(kind, text, length)
		case r >= '0' && r <= '9' || r == '.':
			length := 0
			for length < len(source) && (source[length] >= '0' && source[length] <= '9' || source[length] == '.') {
				length++
			}
			take(tokenNumber, source[:length], length)
		case r == '_' || unicode.IsLetter(r):
			length := strings.IndexFunc(source, func(r rune) bool {
				return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r)
			})
			if length < 0 {
				length = len(source)
			}
			take(tokenWord, source[:length], length)
		default:
			found := ""
			for _, s := range signs {
				if strings.HasPrefix(source, s) {
					found = s
					break
				}
			}
			if found == "" {
				mistakes = append(mistakes, &Error{at, fmt.Sprintf("%q has no meaning here", string(r))})
				take(tokenBad, source[:size], size)
				continue
			}
			take(tokenSign, found, len(found))
		}
	}
	return append(tokens, token{kind: tokenEnd, at: at}), mistakes
}

// quotedText reads a quoted run; a doubled quote stands for one.
func quotedText(source string, quote byte) (text string, length int, ok bool) {
	var b strings.Builder
	for i := 1; i < len(source); i++ {
		if source[i] != quote {
			b.WriteByte(source[i])
			continue
		}
		if i+1 < len(source) && source[i+1] == quote {
			b.WriteByte(quote)
			i++
			continue
		}
		return b.String(), i + 1, true
	}
	return "", 0, false
}
