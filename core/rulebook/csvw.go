package rulebook

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// The metadata of the W3C's "CSV on the Web" (Recommendation, 17 December 2015): a table
// with its dialect, its columns with their datatypes, its key.

type csvwTable struct {
	Context     any         `json:"@context,omitempty"`
	URL         string      `json:"url,omitempty"`
	Title       string      `json:"dc:title,omitempty"`
	Dialect     csvwDialect `json:"dialect"`
	TableSchema csvwSchema  `json:"tableSchema"`
}

type csvwDialect struct {
	Encoding    string  `json:"encoding,omitempty"`
	Delimiter   string  `json:"delimiter,omitempty"`
	QuoteChar   *string `json:"quoteChar,omitempty"`
	Header      *bool   `json:"header,omitempty"`
	SkipRows    int     `json:"skipRows,omitempty"`
	HeaderCount *int    `json:"headerRowCount,omitempty"`
}

type csvwSchema struct {
	Columns     []csvwColumn     `json:"columns"`
	PrimaryKey  any              `json:"primaryKey,omitempty"`
	ForeignKeys []csvwForeignKey `json:"foreignKeys,omitempty"`
}

type csvwColumn struct {
	Name        string        `json:"name,omitempty"`
	Titles      any           `json:"titles,omitempty"`
	Description string        `json:"dc:description,omitempty"`
	Datatype    *csvwDatatype `json:"datatype,omitempty"`
	Required    bool          `json:"required,omitempty"`
	Null        any           `json:"null,omitempty"`
	Separator   string        `json:"separator,omitempty"`
}

type csvwDatatype struct {
	Base      string `json:"base"`
	Format    any    `json:"format,omitempty"`
	Minimum   any    `json:"minimum,omitempty"`
	Maximum   any    `json:"maximum,omitempty"`
	MinLength int    `json:"minLength,omitempty"`
	MaxLength int    `json:"maxLength,omitempty"`
}

type csvwForeignKey struct {
	Columns   any `json:"columnReference"`
	Reference struct {
		Resource string `json:"resource,omitempty"`
		Columns  any    `json:"columnReference"`
	} `json:"reference"`
}

// UnmarshalJSON reads a datatype, which may be a name alone.
func (d *csvwDatatype) UnmarshalJSON(raw []byte) error {
	if json.Unmarshal(raw, &d.Base) == nil {
		return nil
	}
	type plain csvwDatatype
	return json.Unmarshal(raw, (*plain)(d))
}

var toCSVW = map[table.Type]string{table.TypeText: "string", table.TypeCode: "string", table.TypeInteger: "integer",
	table.TypeDecimal: "decimal", table.TypeBoolean: "boolean", table.TypeDate: "date", table.TypeDateTime: "datetime"}

// fromCSVW are the datatypes that we can check, with the bounds that some of them imply.
var fromCSVW = map[string]struct {
	t        table.Type
	low, top string
}{
	"string": {t: table.TypeText}, "normalizedString": {t: table.TypeText}, "token": {t: table.TypeText},
	"any": {t: table.TypeText}, "anyURI": {t: table.TypeText}, "integer": {t: table.TypeInteger},
	"long": {t: table.TypeInteger}, "int": {t: table.TypeInteger}, "short": {t: table.TypeInteger},
	"nonNegativeInteger": {t: table.TypeInteger, low: "0"}, "positiveInteger": {t: table.TypeInteger, low: "1"},
	"nonPositiveInteger": {t: table.TypeInteger, top: "0"}, "negativeInteger": {t: table.TypeInteger, top: "-1"},
	"decimal": {t: table.TypeDecimal}, "number": {t: table.TypeDecimal}, "double": {t: table.TypeDecimal},
	"float": {t: table.TypeDecimal}, "boolean": {t: table.TypeBoolean}, "date": {t: table.TypeDate},
	"datetime": {t: table.TypeDateTime}, "dateTime": {t: table.TypeDateTime},
}

// primaryKey is a rule that names a table's key, where ok; foreignKey one that names another table's.
type (
	primaryKey interface {
		PrimaryKey() (columns []string, ok bool)
	}
	foreignKey interface {
		ForeignKey() (columns []string, to Elsewhere)
	}
)

// CSVW writes a rulebook as metadata, and lists what could not be carried over.
func (b *Rulebook) CSVW(url string) (metadata []byte, left []string) {
	quote, header := b.Reading.Quote, b.Reading.HeaderLine > 0
	t := csvwTable{Context: "http://www.w3.org/ns/csvw", URL: url, Title: b.Title,
		Dialect: csvwDialect{Encoding: b.Reading.Encoding, Delimiter: b.Reading.Delimiter, QuoteChar: &quote,
			Header: &header}}
	if b.Reading.HeaderLine > 1 {
		t.Dialect.SkipRows = b.Reading.HeaderLine - 1
	}
	if quote == "none" {
		t.Dialect.QuoteChar = nil
		left = append(left, "that there are no quotes")
	}
	add := func(format string, args ...any) { left = append(left, fmt.Sprintf(format, args...)) }
	for i := range b.Columns {
		t.TableSchema.Columns = append(t.TableSchema.Columns, b.csvwColumn(&b.Columns[i], add))
	}
	var others []string // rules without a counterpart
	for _, d := range b.Rules {
		if d.Column != "" {
			continue
		}
		words := "the " + sectionOf(d.Kind.Section).Subject
		if !sectionOf(d.Kind.Section).Single {
			words += " " + d.ID
		}
		switch r := d.Rule.(type) {
		case primaryKey:
			if key, ok := r.PrimaryKey(); ok && t.TableSchema.PrimaryKey == nil {
				t.TableSchema.PrimaryKey = key
			} else {
				add("%s", words)
			}
		case foreignKey:
			columns, to := r.ForeignKey()
			f := csvwForeignKey{Columns: columns}
			f.Reference.Resource, f.Reference.Columns = to.Dataset+".csv", to.Columns
			t.TableSchema.ForeignKeys = append(t.TableSchema.ForeignKeys, f)
		default:
			others = append(others, words)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b.CodeLists)) {
		add("labels, spellings and duties of the code list %s", name)
	}
	left = append(left, others...)
	add("severities, reasons of keys and rules, measures and the pass mark")
	metadata, _ = json.MarshalIndent(t, "", "  ") // nothing in it can fail
	return metadata, left
}

func (b *Rulebook) csvwColumn(c *Column, add func(string, ...any)) csvwColumn {
	out := csvwColumn{Name: c.Name, Titles: c.Name, Description: c.Reason, Required: c.Required,
		Datatype: &csvwDatatype{Base: toCSVW[c.Type]}}
	if c.Title != "" {
		out.Titles = []string{c.Name, c.Title}
	}
	if len(b.Reading.Missing) > 0 {
		out.Null = append([]string{""}, b.Reading.Missing...)
	}
	d := out.Datatype
	said := find(b.facts, "column "+c.Name)
	for _, f := range said.facts {
		switch f.property {
		case "minimum":
			d.Minimum = f.value
		case "maximum":
			d.Maximum = f.value
		case "minLength":
			d.MinLength, _ = strconv.Atoi(f.value)
		case "maxLength":
			d.MaxLength, _ = strconv.Atoi(f.value)
		case "format":
			if c.Type == table.TypeText {
				d.Format = f.value
			} else {
				add("the %s of %s, since its datatype is no text", f.aspect, c.Name)
			}
		}
	}
	format := b.Format(c)
	patterns := format.Dates
	if c.Type == table.TypeDateTime {
		patterns = format.DateTimes
	}
	switch {
	case c.Type == table.TypeCode:
		if list := b.CodeLists[c.CodeList]; list.From == nil {
			codes := make([]string, len(list.Codes))
			for i, code := range list.Codes {
				codes[i] = quotePattern(code.Code)
			}
			d.Format = strings.Join(codes, "|")
		}
	case c.Type.IsNumber() && (format.DecimalMark == ',' || format.GroupingMark != 0):
		marks := map[string]string{"decimalChar": "."}
		if format.DecimalMark != 0 {
			marks["decimalChar"] = string(format.DecimalMark)
		}
		if format.GroupingMark != 0 {
			marks["groupChar"] = string(format.GroupingMark)
		}
		d.Format = marks
	case (c.Type == table.TypeDate || c.Type == table.TypeDateTime) && len(patterns) > 0:
		d.Format = patterns[0].String()
		if len(patterns) > 1 {
			add("the date patterns of %s beyond the first", c.Name)
		}
	}
	for _, f := range said.facts {
		if f.property == "" {
			add("the %s of %s", f.aspect, c.Name)
		}
	}
	return out
}

func quotePattern(text string) string {
	var b strings.Builder
	for _, r := range text {
		if strings.ContainsRune(`\.+*?()|[]{}^$`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// FromCSVW writes a rulebook for a dataset by its metadata, and lists what could not be carried over.
func FromCSVW(dataset string, metadata []byte) (source string, left []string, err error) {
	var group struct {
		csvwTable
		Tables []csvwTable `json:"tables"`
	}
	if err := json.Unmarshal(metadata, &group); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			return "", nil, fmt.Errorf("this is not JSON: at byte %d: %w", syntax.Offset, err)
		}
		return "", nil, fmt.Errorf("this is not the metadata of a table: %w", err)
	}
	t := group.csvwTable
	if len(group.Tables) > 0 {
		t = group.Tables[0]
		for _, more := range group.Tables[1:] {
			left = append(left, "the table "+more.URL)
		}
	}
	if len(t.TableSchema.Columns) == 0 {
		return "", nil, errors.New("the metadata describe no columns (tableSchema.columns)")
	}
	w := &proposal{Evidence: &Evidence{Dataset: dataset, Reading: t.Dialect.reading()}}
	add := func(format string, args ...any) { left = append(left, fmt.Sprintf(format, args...)) }
	w.line("dataset: %s", dataset)
	if t.Title != "" {
		w.line("title: %s", quoted(t.Title))
	}
	for _, c := range t.TableSchema.Columns {
		for _, mark := range listed(c.Null) {
			if mark != "" && !slices.Contains(w.Reading.Missing, mark) {
				w.Reading.Missing = append(w.Reading.Missing, mark)
			}
		}
	}
	w.reading()
	w.line("columns:")
	for i, c := range t.TableSchema.Columns {
		w.csvwColumn(i, &c, add)
	}
	if key := listed(t.TableSchema.PrimaryKey); len(key) > 0 {
		w.line("keys:\n  - {id: primary_key, columns: [%s]}", join(key))
	}
	for i, f := range t.TableSchema.ForeignKeys {
		if i == 0 {
			w.line("references:")
		}
		to := w.id(strings.TrimSuffix(f.Reference.Resource, ".csv"))
		w.line("  - {id: foreign_key_%d, columns: [%s], to: {dataset: %s, columns: [%s]}}", i+1,
			join(listed(f.Columns)), to, join(listed(f.Reference.Columns)))
	}
	return w.String(), left, nil
}

func (d *csvwDialect) reading() intake.Reading {
	r := intake.Reading{Encoding: strings.ToLower(d.Encoding), Delimiter: d.Delimiter, HeaderLine: 1 + d.SkipRows}
	if d.QuoteChar != nil {
		r.Quote = *d.QuoteChar
	}
	if d.Header != nil && !*d.Header || d.HeaderCount != nil && *d.HeaderCount == 0 {
		r.HeaderLine = -1
	}
	return r.WithDefaults()
}

// listed reads what may be one text or a list of them.
func listed(v any) []string {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		var out []string
		for _, one := range v {
			if text, ok := one.(string); ok {
				out = append(out, text)
			}
		}
		return out
	case map[string]any: // titles by language
		for _, language := range slices.Sorted(maps.Keys(v)) {
			if texts := listed(v[language]); len(texts) > 0 {
				return texts
			}
		}
	}
	return nil
}

func (w *proposal) csvwColumn(i int, c *csvwColumn, add func(string, ...any)) {
	name := c.Name
	titles := listed(c.Titles)
	if len(titles) > 0 {
		name = titles[0] // what stands in the header
	}
	if name == "" {
		name = fmt.Sprintf("_col.%d", i+1)
	}
	fields := []string{"name: " + quoted(name)}
	if len(titles) > 1 {
		fields = append(fields, "title: "+quoted(titles[1]))
	}
	if c.Separator != "" {
		add("that cells of %s hold several values, separated by %q", name, c.Separator)
	}
	d := c.Datatype
	if d == nil {
		d = &csvwDatatype{Base: "string"}
	}
	known, ok := fromCSVW[d.Base]
	if !ok {
		add("the datatype %s of %s", d.Base, name)
		known.t = table.TypeText
	}
	if known.t != table.TypeText {
		fields = append(fields, "type: "+string(known.t))
	}
	for _, f := range csvwForms() {
		switch f.CSVW {
		case "required":
			if c.Required {
				fields = append(fields, f.Name+": true")
			}
		case "minimum":
			fields = append(fields, bounded(f.Name, name, known.t, known.low, d.Minimum, add)...)
		case "maximum":
			fields = append(fields, bounded(f.Name, name, known.t, known.top, d.Maximum, add)...)
		case "minLength":
			fields = append(fields, counted(f.Name, d.MinLength)...)
		case "maxLength":
			fields = append(fields, counted(f.Name, d.MaxLength)...)
		}
	}
	w.csvwFormat(&fields, name, known.t, d.Format, add)
	if c.Description != "" {
		fields = append(fields, "reason: "+quoted(c.Description))
	}
	w.line("  - {%s}", strings.Join(fields, ", "))
}

// csvwForms are the fields of rules of columns that a property of the metadata carries.
func csvwForms() []FieldForm {
	var out []FieldForm
	for _, k := range kindsOf("columns") {
		for _, f := range k.Fields {
			if f.CSVW != "" {
				out = append(out, f)
			}
		}
	}
	return out
}

// bounded writes a bound of a column, which its datatype may imply.
func bounded(field, column string, t table.Type, implied string, given any, add func(string, ...any)) []string {
	text := implied
	if given != nil {
		text = fmt.Sprint(given)
	}
	if text == "" {
		return nil
	}
	if _, good := table.StandardFormat.Parse(t, text); !good || t == table.TypeBoolean {
		add("the bound %s of %s", text, column)
		return nil
	}
	return []string{field + ": " + quoted(text)}
}

func counted(field string, n int) []string {
	if n <= 0 {
		return nil
	}
	return []string{field + ": " + strconv.Itoa(n)}
}

func (w *proposal) csvwFormat(fields *[]string, name string, t table.Type, format any, add func(string, ...any)) {
	switch f := format.(type) {
	case nil:
	case string:
		switch {
		case t == table.TypeText:
			*fields = append(*fields, "pattern: "+quoted(f))
		case t == table.TypeDate || t == table.TypeDateTime:
			if _, err := table.ParseDatePattern(f); err == nil {
				*fields = append(*fields, "dates: "+quoted(f))
				return
			}
			add("the date format %q of %s", f, name)
		default:
			add("the format %q of %s", f, name)
		}
	case map[string]any:
		decimal, group := fmt.Sprint(f["decimalChar"]), fmt.Sprint(f["groupChar"])
		if decimal == "," || decimal == "." {
			*fields = append(*fields, "decimal_mark: "+quoted(decimal))
			if len(group) == 1 && group != decimal {
				*fields = append(*fields, "grouping_mark: "+quoted(group))
			}
			return
		}
		add("the number format of %s", name)
	default:
		add("the format of %s", name)
	}
}
