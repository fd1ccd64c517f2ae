package merge

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// frame is what the columns of a table are called, and how they are read.
type frame struct {
	names    []string
	cells    []*rulebook.Cells
	declared []bool // whether a rulebook says of what type a column is
}

func frameOf(in Input) *frame {
	f := &frame{}
	for _, name := range in.Source.Columns() {
		f.add(name, in.Book.Cells(name), in.Book.Column(name) != nil)
	}
	return f
}

func (f *frame) add(name string, cells *rulebook.Cells, declared bool) {
	f.names, f.cells, f.declared = append(f.names, name), append(f.cells, cells), append(f.declared, declared)
}

func (f *frame) types() map[string]table.Type {
	types := map[string]table.Type{}
	for i, name := range f.names {
		types[name] = f.cells[i].Type
	}
	return types
}

// keyPart is one part of a join's key on one side: a column, or what is worked out in each row.
type keyPart struct {
	says       string
	column     int             // -1 where it is worked out
	cells      *rulebook.Cells // of a column; nil where its texts are compared to the letter
	expression *condition.Expression
	kind       table.Kind // of its values; Missing where nobody declared it
}

// part fits a part of a key to the columns of a side; where names it in a message.
func (f *frame) part(says, where string) (keyPart, error) {
	if at := slices.Index(f.names, says); at >= 0 {
		p := keyPart{says: says, column: at, cells: f.cells[at]}
		if f.declared[at] {
			p.kind = f.cells[at].Type.Kind()
		}
		return p, nil
	}
	if !strings.ContainsAny(says, "( '\"+-*/|") {
		return keyPart{}, fmt.Errorf("%s has no column %q%s", where, says, document.Nearest(says, f.names))
	}
	x, mistakes := condition.CompileExpression(says, f.types())
	if len(mistakes) > 0 {
		return keyPart{}, fmt.Errorf("%s: in %s: %w", where, says, errors.Join(mistakes...))
	}
	return keyPart{says: says, column: -1, expression: x, kind: x.Kind}, nil
}

// meeting fits the parts of a join's key to both sides. They are compared by value; where one side's type is not declared, and
// the other is no text, to the letter. Declared types that differ never meet, and are refused.
func (j Join) meeting(left, right *frame) (l, r []keyPart, err error) {
	for i := range j.Left {
		a, err := left.part(j.Left[i], "the table so far")
		if err != nil {
			return nil, nil, err
		}
		b, err := right.part(j.Right[i], j.With)
		if err != nil {
			return nil, nil, err
		}
		switch {
		case a.kind == b.kind && a.kind != table.Missing:
		case a.kind != table.Missing && b.kind != table.Missing:
			return nil, nil, fmt.Errorf("%s of the table so far is a %s, and %s of %s is a %s, so that no row would meet; %s", a.says, a.kind, b.says, j.With, b.kind, j.alike(a, b))
		case a.kind != table.Missing && a.kind != table.Text || b.kind != table.Missing && b.kind != table.Text:
			a.cells, b.cells = nil, nil
		}
		l, r = append(l, a), append(r, b)
	}
	return l, r, nil
}

// alike says how two parts of different kinds could be made to meet.
func (j Join) alike(a, b keyPart) string {
	cast := map[table.Kind]string{table.Number: "DECIMAL", table.Text: "TEXT", table.Date: "DATE", table.Instant: "TIMESTAMP", table.Boolean: "BOOLEAN"}
	from, to := a, b
	if a.kind == table.Date || b.kind == table.Instant { // a day is what both have
		from, to = b, a
	}
	return fmt.Sprintf("match CAST(%s AS %s) instead, or declare both alike", from.says, cast[to.kind])
}

// keyReader hashes the keys of a batch; what a value is compared by is worked out once for each.
type keyReader struct {
	parts      []readPart
	blankEqual bool
	beside     func(at int) string // what is compared beside the key; nil for nothing
	known      bool                // the joined table has the key of the row that was looked at last
}

type readPart struct {
	codes  []uint32
	tokens []table.Token // by code; that of no text where the part is blank
	text   func(at int) string
	// identity is the text that is compared, of a code.
	identity func(code uint32) string
}

// blank reports whether a part is missing.
func (p *readPart) blank(code uint32) bool { return p.tokens[code] == table.Token{} }

func newKeyReader(b *table.Batch, f *frame, parts []keyPart, blankEqual bool) *keyReader {
	r := &keyReader{blankEqual: blankEqual}
	for _, p := range parts {
		r.parts = append(r.parts, p.read(b, f))
	}
	return r
}

// read works out what a part of a key is in the rows of a batch.
func (p keyPart) read(b *table.Batch, f *frame) readPart {
	if p.expression != nil {
		values, codes := p.expression.Evaluator(condition.NewMemory(1)).Values(rulebook.Batch{Batch: b, Names: f.names, Cells: f.cells})
		one := readPart{codes: codes, tokens: table.TokensRoom(len(values))}
		texts := make([]string, len(values))
		for code, v := range values {
			if one.tokens[code] = (table.Token{}); v.Kind != table.Missing {
				texts[code] = v.Identity()
				one.tokens[code] = table.TokenOf(texts[code])
			}
		}
		one.identity = func(code uint32) string { return texts[code] }
		one.text = func(at int) string { return texts[codes[at]] }
		return one
	}
	column := b.Columns[p.column]
	one := readPart{codes: column.Codes, tokens: table.TokensRoom(len(column.Texts)), text: column.At,
		identity: func(code uint32) string { return p.identity(column.Texts[code]) }}
	for code, text := range column.Texts {
		if p.cells == nil {
			one.tokens[code] = table.TokenOf(text)
		} else {
			one.tokens[code], _ = p.cells.IdentityToken(text)
		}
	}
	return one
}

// hashRows is keyReader.hash for all rows of a batch, a part after the other. The hashes may go to RecycleHashes.
func hashRows(b *table.Batch, f *frame, parts []keyPart, blankEqual bool) (hashes []table.Hash, whole []bool) {
	hashes, whole = table.HashesRoom(b.Len()), make([]bool, b.Len())
	filled := make([]int, b.Len())
	for _, p := range parts {
		one := p.read(b, f)
		table.HashColumn(hashes, one.tokens, one.codes)
		for i, code := range one.codes[:len(filled)] {
			if !one.blank(code) {
				filled[i]++
			}
		}
		table.RecycleTokens(one.tokens)
	}
	for i, n := range filled {
		whole[i] = n == len(parts) || blankEqual && n > 0
	}
	return hashes, whole
}

// identity is what the text of a column is compared by; empty where it is missing.
func (p keyPart) identity(text string) string {
	if p.cells == nil {
		return text
	}
	cell := p.cells.Read(text)
	if cell.Missing {
		return ""
	}
	return cell.Identity(text)
}

// hash is that of a row's key; whole is false where a part is blank and blanks meet nothing, or all parts are.
func (r *keyReader) hash(at int) (h table.Hash, whole bool) {
	filled := false
	for k := range r.parts {
		p := &r.parts[k]
		code := p.codes[at]
		if p.blank(code) && !r.blankEqual {
			return h, false
		}
		filled = filled || !p.blank(code)
		h = table.With(h, p.tokens[code])
	}
	return h, filled || len(r.parts) == 0
}

const keySeparator = "\x1f"

func shownKey(key string) string { return strings.ReplaceAll(key, keySeparator, " / ") }

// text is a row's key, as it stands.
func (r *keyReader) text(at int) string {
	parts := make([]string, len(r.parts))
	for k := range r.parts {
		parts[k] = r.parts[k].text(at)
	}
	if r.beside != nil {
		parts = append(parts, r.beside(at))
	}
	return strings.Join(parts, keySeparator)
}
