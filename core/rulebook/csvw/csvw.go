// Package csvw carries a rulebook to and from the metadata of the W3C's "CSV on the Web"
// (Recommendation, 17 December 2015): a table with its dialect, its columns with their
// datatypes, its key. What cannot be carried is listed.
package csvw

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

type description struct {
	Context     any     `json:"@context,omitempty"`
	URL         string  `json:"url,omitempty"`
	Title       string  `json:"dc:title,omitempty"`
	ConformsTo  string  `json:"dc:conformsTo,omitempty"`
	Dialect     dialect `json:"dialect"`
	TableSchema schema  `json:"tableSchema"`
}

type dialect struct {
	Encoding    string  `json:"encoding,omitempty"`
	Delimiter   string  `json:"delimiter,omitempty"`
	QuoteChar   *string `json:"quoteChar,omitempty"`
	Header      *bool   `json:"header,omitempty"`
	SkipRows    int     `json:"skipRows,omitempty"`
	HeaderCount *int    `json:"headerRowCount,omitempty"`
}

type schema struct {
	Columns     []columnForm    `json:"columns"`
	PrimaryKey  any             `json:"primaryKey,omitempty"`
	ForeignKeys []referenceForm `json:"foreignKeys,omitempty"`
}

type columnForm struct {
	Name        string    `json:"name,omitempty"`
	Titles      any       `json:"titles,omitempty"`
	Description string    `json:"dc:description,omitempty"`
	Datatype    *datatype `json:"datatype,omitempty"`
	Required    bool      `json:"required,omitempty"`
	Null        any       `json:"null,omitempty"`
	Separator   string    `json:"separator,omitempty"`
}

type datatype struct {
	Base      string `json:"base"`
	Format    any    `json:"format,omitempty"`
	Minimum   any    `json:"minimum,omitempty"`
	Maximum   any    `json:"maximum,omitempty"`
	MinLength int    `json:"minLength,omitempty"`
	MaxLength int    `json:"maxLength,omitempty"`
}

type referenceForm struct {
	Columns   any `json:"columnReference"`
	Reference struct {
		Resource string `json:"resource,omitempty"`
		Columns  any    `json:"columnReference"`
	} `json:"reference"`
}

// UnmarshalJSON reads a datatype, which may be a name alone.
func (d *datatype) UnmarshalJSON(raw []byte) error {
	if json.Unmarshal(raw, &d.Base) == nil {
		return nil
	}
	type plain datatype
	return json.Unmarshal(raw, (*plain)(d))
}

var toDatatype = map[table.Type]string{table.TypeText: "string", table.TypeCode: "string", table.TypeInteger: "integer",
	table.TypeDecimal: "decimal", table.TypeBoolean: "boolean", table.TypeDate: "date", table.TypeDateTime: "datetime"}

// fromDatatype are the datatypes that we can check, with the bounds that some of them imply.
var fromDatatype = map[string]struct {
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
		ForeignKey() (columns []string, to rulebook.Elsewhere)
	}
)

// Of writes a rulebook as metadata, and lists what could not be carried over.
func Of(b *rulebook.Rulebook, url string) (metadata []byte, left []string) {
	quote, header := b.Reading.Quote, b.Reading.HeaderLine > 0
	t := description{Context: "http://www.w3.org/ns/csvw", URL: url, Title: b.Title,
		Dialect: dialect{Encoding: b.Reading.Encoding, Delimiter: b.Reading.Delimiter, QuoteChar: &quote,
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
		t.TableSchema.Columns = append(t.TableSchema.Columns, columnOf(b, &b.Columns[i], add))
	}
	var others []string // rules without a counterpart
	for _, d := range b.Rules {
		if d.Column != "" {
			continue
		}
		words := "the " + rulebook.SectionOf(d.Kind.Section).Subject
		if !rulebook.SectionOf(d.Kind.Section).Single {
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
			f := referenceForm{Columns: columns}
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

func columnOf(b *rulebook.Rulebook, c *rulebook.Column, add func(string, ...any)) columnForm {
	out := columnForm{Name: c.Name, Titles: c.Name, Description: c.Reason, Required: c.Required,
		Datatype: &datatype{Base: toDatatype[c.Type]}}
	if c.Title != "" {
		out.Titles = []string{c.Name, c.Title}
	}
	if len(b.Reading.Missing) > 0 {
		out.Null = append([]string{""}, b.Reading.Missing...)
	}
	d := out.Datatype
	facts := b.Facts("column " + c.Name)
	for _, f := range facts {
		switch f.Property {
		case "minimum":
			d.Minimum = f.Value
		case "maximum":
			d.Maximum = f.Value
		case "minLength":
			d.MinLength, _ = strconv.Atoi(f.Value)
		case "maxLength":
			d.MaxLength, _ = strconv.Atoi(f.Value)
		case "format":
			if c.Type == table.TypeText {
				d.Format = f.Value
			} else {
				add("the %s of %s, since its datatype is no text", f.Aspect, c.Name)
			}
		}
	}
	format := b.Format(c)
	patterns := format.Dates
	if c.Type == table.TypeDateTime {
		patterns = format.DateTimes
	}
	switch {
	case c.Type == table.TypeCode && b.TakesNewCodes(c.Name):
		add("the codes of %s, since new ones are no fault", c.Name)
	case c.Type == table.TypeCode:
		if list := b.CodeLists[c.CodeList]; list.From == nil {
			codes := make([]string, len(list.Codes))
			for i, code := range list.Codes {
				codes[i] = quotePattern(code.Code)
			}
			d.Format = strings.Join(codes, "|")
		}
	case c.Type.IsNumber() && (format.DecimalMark == ',' || format.GroupingMark != 0):
		signs := map[string]string{"decimalChar": "."}
		if format.DecimalMark != 0 {
			signs["decimalChar"] = string(format.DecimalMark)
		}
		if format.GroupingMark != 0 {
			signs["groupChar"] = string(format.GroupingMark)
		}
		d.Format = signs
	case (c.Type == table.TypeDate || c.Type == table.TypeDateTime) && len(patterns) > 0:
		d.Format = patterns[0].String()
		if len(patterns) > 1 {
			add("the date patterns of %s beyond the first", c.Name)
		}
	}
	for _, f := range facts {
		if f.Property == "" {
			add("the %s of %s", f.Aspect, c.Name)
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

// Read writes a rulebook for a dataset by its metadata, and lists what could not be carried over.
func Read(dataset string, metadata []byte) (source string, left []string, err error) {
	var group struct {
		description
		Tables []description `json:"tables"`
	}
	if err := json.Unmarshal(metadata, &group); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			return "", nil, fmt.Errorf("this is not JSON: at byte %d: %w", syntax.Offset, err)
		}
		return "", nil, fmt.Errorf("this is not the metadata of a table: %w", err)
	}
	t := group.description
	if len(group.Tables) > 0 {
		t = group.Tables[0]
		for _, more := range group.Tables[1:] {
			left = append(left, "the table "+more.URL)
		}
	}
	if len(t.TableSchema.Columns) == 0 {
		return "", nil, errors.New("the metadata describe no columns (tableSchema.columns)")
	}
	w, reading := &rulebook.Text{}, t.Dialect.reading()
	add := func(format string, args ...any) { left = append(left, fmt.Sprintf(format, args...)) }
	w.Line("dataset: %s", dataset)
	if t.Title != "" {
		w.Line("title: %s", rulebook.Quoted(t.Title))
	}
	for _, c := range t.TableSchema.Columns {
		for _, mark := range listed(c.Null) {
			if mark != "" && !slices.Contains(reading.Missing, mark) {
				reading.Missing = append(reading.Missing, mark)
			}
		}
	}
	w.Reading(reading)
	w.Line("columns:")
	for i, c := range t.TableSchema.Columns {
		writeColumn(w, i, &c, add)
	}
	if key := listed(t.TableSchema.PrimaryKey); len(key) > 0 {
		w.Line("keys:\n  - {id: primary_key, columns: [%s]}", rulebook.List(key))
	}
	for i, f := range t.TableSchema.ForeignKeys {
		if i == 0 {
			w.Line("references:")
		}
		to := rulebook.IDOf(strings.TrimSuffix(f.Reference.Resource, ".csv"))
		w.Line("  - {id: foreign_key_%d, columns: [%s], to: {dataset: %s, columns: [%s]}}", i+1,
			rulebook.List(listed(f.Columns)), to, rulebook.List(listed(f.Reference.Columns)))
	}
	return w.String(), left, nil
}

func (d *dialect) reading() intake.Reading {
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

func writeColumn(w *rulebook.Text, i int, c *columnForm, add func(string, ...any)) {
	name := c.Name
	titles := listed(c.Titles)
	if len(titles) > 0 {
		name = titles[0] // what stands in the header
	}
	if name == "" {
		name = fmt.Sprintf("_col.%d", i+1)
	}
	fields := []string{"name: " + rulebook.Quoted(name)}
	if len(titles) > 1 {
		fields = append(fields, "title: "+rulebook.Quoted(titles[1]))
	}
	if c.Separator != "" {
		add("that cells of %s hold several values, separated by %q", name, c.Separator)
	}
	d := c.Datatype
	if d == nil {
		d = &datatype{Base: "string"}
	}
	known, ok := fromDatatype[d.Base]
	if !ok {
		add("the datatype %s of %s", d.Base, name)
		known.t = table.TypeText
	}
	if known.t != table.TypeText {
		fields = append(fields, "type: "+string(known.t))
	}
	for _, f := range forms() {
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
	addFormat(&fields, name, known.t, d.Format, add)
	if c.Description != "" {
		fields = append(fields, "reason: "+rulebook.Quoted(c.Description))
	}
	w.Line("  - {%s}", strings.Join(fields, ", "))
}

// forms are the fields of rules of columns that a property of the metadata carries.
func forms() []rulebook.FieldForm {
	var out []rulebook.FieldForm
	for _, k := range rulebook.KindsOf("columns") {
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
	return []string{field + ": " + rulebook.Quoted(text)}
}

func counted(field string, n int) []string {
	if n <= 0 {
		return nil
	}
	return []string{field + ": " + strconv.Itoa(n)}
}

func addFormat(fields *[]string, name string, t table.Type, format any, add func(string, ...any)) {
	switch f := format.(type) {
	case nil:
	case string:
		switch {
		case t == table.TypeText:
			*fields = append(*fields, "pattern: "+rulebook.Quoted(f))
		case t == table.TypeDate || t == table.TypeDateTime:
			if _, err := table.ParseDatePattern(f); err == nil {
				*fields = append(*fields, "dates: "+rulebook.Quoted(f))
				return
			}
			add("the date format %q of %s", f, name)
		default:
			add("the format %q of %s", f, name)
		}
	case map[string]any:
		decimal, group := fmt.Sprint(f["decimalChar"]), fmt.Sprint(f["groupChar"])
		if decimal == "," || decimal == "." {
			*fields = append(*fields, "decimal_mark: "+rulebook.Quoted(decimal))
			if len(group) == 1 && group != decimal {
				*fields = append(*fields, "grouping_mark: "+rulebook.Quoted(group))
			}
			return
		}
		add("the number format of %s", name)
	default:
		add("the format of %s", name)
	}
}
