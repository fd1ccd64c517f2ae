// Package edit changes the text of a rulebook or fix plan and keeps its comments and its order, and lays it
// out by its items for forms.
package edit

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Change is one change of a rulebook's text. Comments, order and whatever it does not
// speak of stay as they are.
type Change struct {
	Section string   `json:"section"`           // as columns, rules or code_lists; empty for the rulebook's own fields
	Item    string   `json:"item,omitempty"`    // the name or id in the section; of code_lists the list
	Code    string   `json:"code,omitempty"`    // of code_lists
	Field   string   `json:"field,omitempty"`   // that is set
	Value   string   `json:"value,omitempty"`   // what it is set to; nothing takes the field away
	Values  []string `json:"values,omitempty"`  // of a field that is a list, or the columns of Dataset
	Dataset string   `json:"dataset,omitempty"` // of a field that tells columns of another dataset
	// add the item with its Fields, or to a list of spellings or codes the Values
	Add    bool `json:"add,omitempty"`
	Remove bool `json:"remove,omitempty"` // take the item away
	// of an item that is added; of codes that are added, their labels by code
	Fields []Field `json:"fields,omitempty"`
}

// Field is a field of an item with its value.
type Field struct {
	Name   string   `json:"name"`
	Value  string   `json:"value,omitempty"`
	Values []string `json:"values,omitempty"`
	// Dataset is set where the field tells columns of another dataset, which are its Values.
	Dataset string `json:"dataset,omitempty"`
	// Pairs is set where the field gives names what they stand for.
	Pairs []Pair `json:"pairs,omitempty"`
	// Line and Column are where it stands in the text, from 1; not of a change.
	Line   int `json:"line,omitempty" minimum:"0" maximum:"2147483647"`
	Column int `json:"column,omitempty" minimum:"0" maximum:"2147483647"`
}

// Pair is a name with what it stands for.
type Pair struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Apply applies changes to the text of a rulebook, one after the other. The text need not be a
// good rulebook, before or after, but YAML.
func Apply(source string, changes []Change) (string, error) {
	root, err := document.Parse([]byte(source))
	for _, c := range changes {
		if err != nil {
			return "", err
		}
		if source, err = edit(source, root, c); err != nil {
			return "", err
		}
		if root, err = document.Parse([]byte(source)); err != nil {
			return "", errByHand // it was written in a way that is not foreseen here
		}
	}
	return source, err
}

// edit makes one change. The places that the YAML parser gives lie outside of the text where
// it holds tabs or other line ends in odd places; such a text is for a person to change.
func edit(source string, root *document.Node, c Change) (changed string, err error) {
	defer func() {
		if recover() != nil {
			changed, err = "", errByHand
		}
	}()
	e := &editor{lines: strings.Split(source, "\n")}
	err = e.apply(root, c)
	return strings.Join(e.lines, "\n"), err
}

type editor struct{ lines []string }

func entry(n *document.Node, name string) *document.Entry {
	for i := range n.Entries {
		if n.Entries[i].Name == name {
			return &n.Entries[i]
		}
	}
	return nil
}

func (e *editor) apply(root *document.Node, c Change) error {
	if root.Kind != document.Mapping {
		return fmt.Errorf("the rulebook is not made of names and values")
	}
	if c.Section == "" || c.Section == rulebook.HeadSection {
		return e.set(root, c.Field, fieldValue(c.given()))
	}
	section := entry(root, c.Section)
	if c.Section == rulebook.ReadingSection || rulebook.SectionOf(c.Section) != nil && rulebook.SectionOf(c.Section).Single {
		return e.single(section, c)
	}
	if c.Section == "code_lists" {
		return e.codeList(root, section, c)
	}
	if c.Add {
		return e.add(section, c.Section, item(c.Fields))
	}
	if section == nil {
		return fmt.Errorf("the rulebook has no %s", c.Section)
	}
	found := itemOf(section.Value, c.Item)
	switch {
	case found == nil:
		return fmt.Errorf("%s has no %q", c.Section, c.Item)
	case c.Remove:
		return e.remove(section, found)
	}
	return e.set(found, c.Field, fieldValue(c.given()))
}

// single changes a section that has the fields itself; it is made with its first field, and goes with its last one.
func (e *editor) single(section *document.Entry, c Change) error {
	text := fieldValue(c.given())
	switch {
	case section == nil && c.Add:
		e.lines = append(trimmedEnd(e.lines), c.Section+": "+item(c.Fields), "")
		return nil
	case section == nil && (text == "" || c.Remove):
		return nil
	case section == nil:
		e.lines = append(trimmedEnd(e.lines), c.Section+":", "  "+c.Field+": "+text, "")
		return nil
	case section.Value.Kind == document.Null && text != "":
		e.lines = slices.Insert(e.lines, section.Line, "  "+c.Field+": "+text)
		return nil
	case c.Remove, text == "" && !e.fieldValue(section.Value) && len(section.Value.Entries) == 1 && section.Value.Entries[0].Name == c.Field:
		e.removeSection(section)
		return nil
	}
	return e.set(section.Value, c.Field, text)
}

// itemOf finds the item of a list that has a name, id or code.
func itemOf(list *document.Node, name string) *document.Node {
	for _, one := range list.Items {
		if one.Kind == document.Scalar && one.Text == name {
			return one
		}
		for _, key := range []string{"name", "id", "code"} {
			if n := entry(one, key); n != nil && n.Value.Text == name {
				return one
			}
		}
	}
	return nil
}

// given returns what a change sets its field to.
func (c *Change) given() Field {
	return Field{Name: c.Field, Value: c.Value, Values: c.Values, Dataset: c.Dataset}
}

// fieldValue writes the value of a field.
func fieldValue(f Field) string {
	switch {
	case f.Dataset != "":
		return "{dataset: " + rulebook.Quoted(f.Dataset) + ", columns: [" + rulebook.List(f.Values) + "]}"
	case len(f.Pairs) > 0:
		parts := make([]string, len(f.Pairs))
		for i, p := range f.Pairs {
			parts[i] = rulebook.Quoted(p.Name) + ": " + rulebook.Quoted(p.Text)
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case f.Values != nil:
		return "[" + rulebook.List(f.Values) + "]"
	case f.Value == "":
		return ""
	}
	if _, ok := table.ParseDecimal(f.Value); ok || f.Value == "true" || f.Value == "false" {
		return f.Value
	}
	return rulebook.Quoted(f.Value)
}

// Written is a field with its value as a rulebook has them, as type: decimal.
func Written(f Field) string { return f.Name + ": " + fieldValue(f) }

// item writes a new item in one line.
func item(fields []Field) string {
	var parts []string
	for _, f := range fields {
		if text := fieldValue(f); text != "" {
			parts = append(parts, f.Name+": "+text)
		}
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// codeList changes a code list: adds spellings to a code, or codes to the list.
func (e *editor) codeList(root *document.Node, section *document.Entry, c Change) error {
	if section == nil || entry(section.Value, c.Item) == nil {
		if !c.Add {
			return fmt.Errorf("there is no code list %q", c.Item)
		}
		text := c.Item + ": [" + strings.Join(codeTexts(c), ", ") + "]"
		if section == nil {
			e.lines = append(trimmedEnd(e.lines), "code_lists:", "  "+text, "")
			return nil
		}
		return e.insertField(section.Value, text)
	}
	list := entry(section.Value, c.Item).Value
	if c.Remove && c.Code == "" {
		if len(section.Value.Entries) == 1 {
			e.removeSection(section)
			return nil
		}
		return e.removeField(section.Value, entry(section.Value, c.Item))
	}
	if list.Kind == document.Mapping {
		codes := entry(list, "codes")
		if codes == nil {
			return e.set(list, "codes", "["+strings.Join(codeTexts(c), ", ")+"]")
		}
		list = codes.Value
	}
	if c.Code == "" {
		return e.append(list, codeTexts(c)...)
	}
	code := itemOf(list, c.Code)
	if code == nil {
		return fmt.Errorf("the code list %s has no code %q", c.Item, c.Code)
	}
	if c.Remove {
		return e.removeFrom(list, code)
	}
	if !c.Add {
		if code.Kind == document.Scalar {
			return e.replace(code, "{code: "+rulebook.Quoted(code.Text)+", "+c.Field+": "+fieldValue(c.given())+"}")
		}
		return e.set(code, c.Field, fieldValue(c.given()))
	}
	if code.Kind == document.Scalar {
		return e.replace(code, "{code: "+rulebook.Quoted(code.Text)+", spellings: ["+rulebook.List(c.Values)+"]}")
	}
	known := []string{}
	if s := entry(code, "spellings"); s != nil {
		for _, one := range s.Value.Items {
			known = append(known, one.Text)
		}
		if s.Value.Kind == document.Scalar {
			known = []string{s.Value.Text}
		}
	}
	for _, text := range c.Values {
		if !slices.Contains(known, text) {
			known = append(known, text)
		}
	}
	return e.set(code, "spellings", "["+rulebook.List(known)+"]")
}

// codeTexts are the codes that a change adds, those with labels as mappings.
func codeTexts(c Change) []string {
	texts := make([]string, len(c.Values))
	for i, code := range c.Values {
		texts[i] = rulebook.Quoted(code)
		for _, f := range c.Fields {
			if f.Name == code {
				texts[i] = "{code: " + rulebook.Quoted(code) + ", label: " + rulebook.Quoted(f.Value) + "}"
				break
			}
		}
	}
	return texts
}

func trimmedEnd(lines []string) []string {
	for len(lines) > 0 && strings.TrimSpace(lines[len(lines)-1]) == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// place is a place in the text, from 0; columns are in bytes.
type place struct{ line, column int }

// start returns where a node starts. A flow mapping or list starts at its bracket.
func (e *editor) start(n *document.Node) place {
	p := place{n.Line - 1, byteColumn(e.lines[n.Line-1], n.Column-1)}
	if n.Kind == document.Mapping {
		// The node's place is that of its first name; a bracket may stand before it.
		before := strings.TrimRight(e.lines[p.line][:p.column], " ")
		if strings.HasSuffix(before, "{") {
			p.column = len(before) - 1
		}
	}
	return p
}

// byteColumn turns a count of characters into one of bytes.
func byteColumn(line string, characters int) int {
	n := 0
	for i := range line {
		if n == characters {
			return i
		}
		n++
	}
	return len(line)
}

// flow reports whether a node is written in brackets.
func (e *editor) fieldValue(n *document.Node) bool {
	p := e.start(n)
	return p.column < len(e.lines[p.line]) && strings.IndexByte("{[", e.lines[p.line][p.column]) >= 0
}

var errByHand = fmt.Errorf("this is written over several lines in a way that only the text can change")

// end returns where a scalar or a node in brackets ends, which is on the line where it starts or, for
// brackets, on a later one.
func (e *editor) end(n *document.Node) (place, error) {
	p := e.start(n)
	line := e.lines[p.line]
	switch {
	case p.column >= len(line):
		return p, nil
	case line[p.column] == '{' || line[p.column] == '[':
		return e.closing(p)
	case line[p.column] == '"' || line[p.column] == '\'':
		return e.afterQuote(p)
	case line[p.column] == '|' || line[p.column] == '>':
		return p, errByHand
	}
	stops := "\x00"
	if e.insideBrackets(p) {
		stops = ",]}"
	}
	at := p.column
	for at < len(line) && strings.IndexByte(stops, line[at]) < 0 && !(line[at] == '#' && at > 0 && line[at-1] == ' ') {
		at++
	}
	if next := p.line + 1; !e.insideBrackets(p) && next < len(e.lines) && indent(e.lines[next]) > indent(line) &&
		!strings.Contains(line[:p.column], "- ") && strings.TrimSpace(e.lines[next]) != "" &&
		!strings.HasPrefix(strings.TrimSpace(e.lines[next]), "#") {
		return p, errByHand // a plain text that goes on
	}
	return place{p.line, len(strings.TrimRight(line[:at], " "))}, nil
}

func indent(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// insideBrackets reports whether a place is within brackets, looking back from it.
func (e *editor) insideBrackets(p place) bool {
	depth := 0
	from := p.line
	for from > 0 && p.line-from < 200 {
		from--
	}
	for l := from; l <= p.line; l++ {
		line := e.lines[l]
		if l == p.line {
			line = line[:p.column]
		}
		depth += balance(line)
	}
	return depth > 0
}

// balance counts brackets that open less those that close, outside quotes and comments.
func balance(line string) int {
	depth, quote := 0, byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && (i == 0 || strings.IndexByte(" [{,:", line[i-1]) >= 0):
			quote = c
		case c == '#' && (i == 0 || line[i-1] == ' '):
			return depth
		case (c == '{' || c == '[') && (i == 0 || strings.IndexByte(" [{,:", line[i-1]) >= 0):
			depth++
		case (c == '}' || c == ']') && depth > 0:
			depth--
		}
	}
	return depth
}

// closing returns the place after the bracket that closes the one at p.
func (e *editor) closing(p place) (place, error) {
	depth, quote := 0, byte(0)
	for l := p.line; l < len(e.lines); l++ {
		line := e.lines[l]
		from := 0
		if l == p.line {
			from = p.column
		}
		for i := from; i < len(line); i++ {
			c := line[i]
			switch {
			case quote == '"' && c == '\\':
				i++
			case quote != 0:
				if c == quote {
					quote = 0
				}
			case (c == '"' || c == '\'') && i > 0 && strings.IndexByte(" [{,:", line[i-1]) >= 0:
				quote = c
			case c == '#' && i > 0 && line[i-1] == ' ':
				i = len(line)
			case c == '{' || c == '[':
				depth++
			case c == '}' || c == ']':
				if depth--; depth == 0 {
					return place{l, i + 1}, nil
				}
			}
		}
	}
	return p, errByHand
}

func (e *editor) afterQuote(p place) (place, error) {
	line, quote := e.lines[p.line], e.lines[p.line][p.column]
	for i := p.column + 1; i < len(line); i++ {
		switch {
		case quote == '"' && line[i] == '\\':
			i++
		case line[i] == quote && quote == '\'' && i+1 < len(line) && line[i+1] == '\'':
			i++
		case line[i] == quote:
			return place{p.line, i + 1}, nil
		}
	}
	return p, errByHand
}

// splice puts text in the place of what stands from one place to another.
func (e *editor) splice(from, to place, text string) {
	joined := e.lines[from.line][:from.column] + text + e.lines[to.line][to.column:]
	e.lines = slices.Replace(e.lines, from.line, to.line+1, strings.Split(joined, "\n")...)
}

func (e *editor) replace(n *document.Node, text string) error {
	end, err := e.end(n)
	if err != nil {
		return err
	}
	e.splice(e.start(n), end, text)
	return nil
}

// lastLine returns the last line of a block that starts at a place: all that is indented at least as
// far, blank lines and comments after it left aside.
func (e *editor) lastLine(line, column int) int {
	last := line
	for l := line + 1; l < len(e.lines); l++ {
		text := strings.TrimSpace(e.lines[l])
		if text == "" {
			continue
		}
		if indent(e.lines[l]) < column {
			break
		}
		if !strings.HasPrefix(text, "#") {
			last = l
		}
	}
	return last
}

// set sets a field of a mapping; the empty text takes it away.
func (e *editor) set(n *document.Node, field, text string) error {
	if n.Kind != document.Mapping {
		return fmt.Errorf("only an item with names and values has the field %s", field)
	}
	known := entry(n, field)
	switch {
	case known == nil && text == "":
		return nil
	case known == nil:
		return e.insertField(n, field+": "+text)
	case text == "":
		return e.removeField(n, known)
	case known.Value.Kind == document.List && !e.fieldValue(known.Value), known.Value.Kind == document.Mapping &&
		!e.fieldValue(known.Value):
		last := e.lastLine(known.Value.Line-1, known.Value.Column-1)
		e.splice(place{known.Line - 1, byteColumn(e.lines[known.Line-1], known.Column-1)},
			place{last, len(e.lines[last])}, field+": "+text)
		return nil
	}
	return e.replace(known.Value, text)
}

func (e *editor) insertField(n *document.Node, text string) error {
	if e.fieldValue(n) {
		end, err := e.closing(e.start(n))
		if err != nil {
			return err
		}
		at := place{end.line, len(strings.TrimRight(e.lines[end.line][:end.column-1], " "))}
		separator := ", "
		if len(n.Entries) == 0 {
			separator = ""
		}
		e.splice(at, place{end.line, end.column - 1}, separator+text)
		return nil
	}
	last := e.lastLine(n.Line-1, n.Column-1)
	e.lines = slices.Insert(e.lines, last+1, strings.Repeat(" ", n.Column-1)+text)
	return nil
}

func (e *editor) removeField(n *document.Node, field *document.Entry) error {
	at := slices.IndexFunc(n.Entries,
		func(one document.Entry) bool { return one.Line == field.Line && one.Column == field.Column })
	from := place{field.Line - 1, byteColumn(e.lines[field.Line-1], field.Column-1)}
	if !e.fieldValue(n) {
		if len(n.Entries) == 1 || at == 0 && strings.HasSuffix(strings.TrimRight(e.lines[from.line][:from.column], " "),
			"-") {
			return errByHand
		}
		last := e.lastLine(from.line, from.column+1)
		e.lines = slices.Delete(e.lines, from.line, last+1)
		return nil
	}
	return e.cut(at, len(n.Entries), func(i int) place {
		return place{n.Entries[i].Line - 1, byteColumn(e.lines[n.Entries[i].Line-1], n.Entries[i].Column-1)}
	}, func(i int) *document.Node { return n.Entries[i].Value })
}

// cut takes one of the things in brackets or braces away, with the comma beside it.
func (e *editor) cut(at, count int, start func(int) place, value func(int) *document.Node) error {
	from := start(at)
	to, err := e.end(value(at))
	switch {
	case err != nil:
	case at+1 < count:
		to = start(at + 1)
	case at > 0:
		from, err = e.end(value(at - 1))
	}
	if err != nil {
		return err
	}
	e.splice(from, to, "")
	return nil
}

func (e *editor) removeSection(section *document.Entry) {
	e.lines = slices.Delete(e.lines, section.Line-1, e.lastLine(section.Line-1, section.Column)+1)
}

// add appends an item to a section, which is made where it is not there.
func (e *editor) add(section *document.Entry, name, text string) error {
	if section == nil || section.Value.Kind == document.Null {
		if section != nil {
			e.lines = slices.Insert(e.lines, section.Line, "  - "+text)
			return nil
		}
		e.lines = append(trimmedEnd(e.lines), name+":", "  - "+text, "")
		return nil
	}
	if section.Value.Kind != document.List {
		return fmt.Errorf("%s is no list", name)
	}
	return e.append(section.Value, text)
}

// append adds items to the end of a list.
func (e *editor) append(list *document.Node, texts ...string) error {
	if len(texts) == 0 {
		return nil
	}
	if e.fieldValue(list) || len(list.Items) == 0 {
		end, err := e.closing(e.start(list))
		if err != nil {
			return err
		}
		separator := ", "
		if len(list.Items) == 0 {
			separator = ""
		}
		e.splice(place{end.line, end.column - 1}, place{end.line, end.column - 1}, separator+strings.Join(texts, ", "))
		return nil
	}
	item := list.Items[len(list.Items)-1]
	line := e.start(item).line
	dash := indent(e.lines[line])
	last := e.lastLine(line, dash+1)
	added := make([]string, len(texts))
	for i, text := range texts {
		added[i] = strings.Repeat(" ", dash) + "- " + text
	}
	e.lines = slices.Insert(e.lines, last+1, added...)
	return nil
}

// remove takes an item out of a list; a section that becomes empty goes with it.
func (e *editor) remove(section *document.Entry, item *document.Node) error {
	list := section.Value
	if e.fieldValue(list) {
		return errByHand
	}
	line := e.start(item).line
	last := e.lastLine(line, indent(e.lines[line])+1)
	if len(list.Items) == 1 {
		line = section.Line - 1
	}
	e.lines = slices.Delete(e.lines, line, last+1)
	return nil
}

// removeFrom takes an item out of a list that keeps others.
func (e *editor) removeFrom(list, item *document.Node) error {
	at := slices.Index(list.Items, item)
	if len(list.Items) == 1 {
		return fmt.Errorf("it is the only one; remove the list")
	}
	if !e.fieldValue(list) {
		line := e.start(item).line
		e.lines = slices.Delete(e.lines, line, e.lastLine(line, indent(e.lines[line])+1)+1)
		return nil
	}
	return e.cut(at, len(list.Items), func(i int) place { return e.start(list.Items[i]) }, func(i int) *document.Node { return list.Items[i] })
}
