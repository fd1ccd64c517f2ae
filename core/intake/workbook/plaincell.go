package workbook

import "bytes"

// plainCell is a cell as most are written: an element of few attributes with a value or a text in it, nothing of which has to be
// made out of references.
type plainCell struct {
	ref, kind, style []byte
	text             []byte
	inline           bool // the text stands in the cell itself, and not as its value
}

// plainCell reads the cell that begins where the scanner stands, if it is a plain one and all of it is at hand; else nothing is read.
// What it tells lasts until the next token.
func (s *scanner) plainCell() (out plainCell, ok bool) {
	if s.inTag || s.alone || len(s.ends) == 0 {
		return out, false
	}
	all, err := s.in.Peek(s.in.Buffered())
	if err != nil {
		return out, false
	}
	rest, is := bytes.CutPrefix(all, []byte("<c"))
	if !is {
		return out, false
	}
	for len(rest) > 4 && rest[0] == ' ' && rest[2] == '=' && rest[3] == '"' {
		value := rest[4:]
		end := 0
		for end < len(value) && letterOrDigit(value[end]) {
			end++
		}
		if end == len(value) || value[end] != '"' {
			return out, false
		}
		var to *[]byte
		switch rest[1] {
		case 'r':
			to = &out.ref
		case 's':
			to = &out.style
		case 't':
			to = &out.kind
		default:
			return out, false
		}
		if *to != nil {
			return out, false
		}
		*to, rest = value[:end:end], value[end+1:]
	}
	closing := []byte("</v></c>")
	if after, is := bytes.CutPrefix(rest, []byte("><v>")); is {
		rest = after
	} else if after, is := bytes.CutPrefix(rest, []byte("><is><t>")); is {
		rest, out.inline, closing = after, true, []byte("</t></is></c>")
	} else {
		return out, false
	}
	end := bytes.IndexByte(rest, '<')
	if end < 0 || !plainText(rest[:end]) || !bytes.HasPrefix(rest[end:], closing) {
		return out, false
	}
	out.text = rest[:end]
	_, err = s.in.Discard(len(all) - len(rest) + end + len(closing))
	return out, err == nil
}

func letterOrDigit(b byte) bool {
	return b >= '0' && b <= '9' || b >= 'A' && b <= 'Z' || b >= 'a' && b <= 'z'
}

// plainText reports whether a text is of printable ASCII characters that stand for themselves.
func plainText(text []byte) bool {
	for _, b := range text {
		if b < ' ' || b > '~' || b == '&' || b == '>' {
			return false
		}
	}
	return true
}

// plain makes a cell of a plain one, at a column or after it.
func (b *bookParts) plain(cell *plainCell, column int) (sheetCell, error) {
	column, err := columnOf(cell.ref, column)
	if err != nil {
		return sheetCell{}, err
	}
	raw := string(cell.text)
	if cell.inline {
		raw = unescaped(raw)
	}
	return b.value(sheetCell{column: column}, cellKind(cell.kind), raw, string(cell.style))
}
