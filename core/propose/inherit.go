package propose

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook/edit"
)

// Inherited is a dataset whose tables became part of a merged one, with its rulebook.
type Inherited struct {
	Dataset string
	Source  string            // the text of its rulebook
	Columns map[string]string // what the merged table calls its columns, by the names that they have in the dataset
	// Stacked says that the merged table's rows are those of this dataset's tables, and of others that are stacked: what holds of
	// all of them holds there.
	Stacked bool
	// Everywhere says that each row of the merged table has these columns, so that what is required stays so.
	Everywhere bool
	// Unique says that no key of it may be in several rows, since the merge leaves one of each.
	Unique bool
}

// asDelivered are the fields of a column that say how it was delivered; a table of ours is in standard form.
var asDelivered = []string{"name", "was", "dates", "decimal_mark", "grouping_mark", "written_with", "brackets_negative", "true_words", "false_words"}

// Inherit has the proposal declare the columns of a merged table as the rulebooks of the datasets do that they are from, with their
// code lists, and the keys and rules that still apply. What they do not declare stays as it is proposed.
func (p *Proposal) Inherit(from []Inherited) (*Proposal, error) {
	out := *p
	out.Lines, out.lists = slices.Clone(p.Lines), slices.Clone(p.lists)
	named := map[string]string{} // the codes of the lists, by the names that they have here
	for _, list := range out.lists {
		named[list.name] = list.codes
	}
	declared := map[string]bool{}
	var rules [][]Line // of each dataset that is stacked
	common := commonFields(from)
	for _, in := range from {
		outline, err := edit.OutlineOf(in.Source)
		if err != nil {
			return nil, err
		}
		lists := map[string]string{}
		for _, list := range outline.Codes {
			if list.Dataset == "" {
				lists[list.Name] = codesText(list)
			}
		}
		var own []Line
		for _, section := range outline.Sections {
			for _, item := range section.Items {
				switch section.Name {
				case sectionColumns:
					if now, ok := in.Columns[item.Name]; ok && !declared[now] {
						declared[now] = true
						out.column(now, &in, item, lists, named, common[now])
					}
				case sectionKeys:
					out.key(&in, item)
				case sectionRules:
					if in.Stacked && applies(&in, item) {
						own = append(own, lineOf(sectionRules, &in, item))
					}
				}
			}
		}
		if in.Stacked {
			rules = append(rules, own)
		}
	}
	for _, line := range inAll(rules) {
		at := slices.IndexFunc(out.Lines, func(l Line) bool { return l.Section == line.Section && l.Item == line.Item })
		if at < 0 {
			out.Lines = append(out.Lines, line)
		}
	}
	return &out, nil
}

// commonFields are, for each column of the merged table that several stacked datasets declare, what all of them say.
func commonFields(from []Inherited) map[string][]string {
	out := map[string][]string{}
	for i := range from {
		in := &from[i]
		outline, err := edit.OutlineOf(in.Source)
		if err != nil || !in.Stacked {
			continue
		}
		lists := map[string]string{}
		for _, list := range outline.Codes {
			lists[list.Name] = codesText(list)
		}
		for _, section := range outline.Sections {
			for _, item := range section.Items {
				now, ok := in.Columns[item.Name]
				if section.Name != sectionColumns || !ok {
					continue
				}
				var said []string
				for _, f := range item.Fields {
					text := edit.Written(f)
					if f.Name == partCodes {
						text += lists[f.Value]
					}
					said = append(said, text)
				}
				if before, known := out[now]; known {
					said = slices.DeleteFunc(said, func(text string) bool { return !slices.Contains(before, text) })
				}
				out[now] = said
			}
		}
	}
	return out
}

// column declares a column of the merged table as the rulebook that it is from; common are the fields that all stacked datasets
// declare alike.
func (p *Proposal) column(now string, in *Inherited, item edit.ItemOutline, lists, named map[string]string, common []string) {
	at := slices.IndexFunc(p.Lines, func(l Line) bool { return l.Section == sectionColumns && l.Item == now })
	if at < 0 {
		return
	}
	list := ""
	for _, f := range item.Fields {
		if f.Name == partCodes {
			list = f.Value
		}
	}
	codes, written := lists[list]
	if in.Stacked && list != "" {
		written = written && slices.Contains(common, edit.Written(edit.Field{Name: partCodes, Value: list})+codes)
	}
	var fields []string
	for _, f := range item.Fields {
		alike := !in.Stacked || f.Name == partCodes || slices.Contains(common, edit.Written(f))
		switch {
		case slices.Contains(asDelivered, f.Name), !alike, f.Name == "required" && !in.Everywhere:
		case list != "" && !written && (f.Name == partCodes || f.Name == "type"): // its codes are those of a dataset, or of other lists elsewhere
		case f.Name == partCodes:
			name := list
			if other, known := named[name]; known && other != codes {
				name = in.Dataset + "_" + list
			}
			if _, known := named[name]; !known {
				p.lists = append(p.lists, codeList{now, name, codes})
			}
			named[name] = codes
			fields = append(fields, edit.Written(edit.Field{Name: f.Name, Value: name}))
		default:
			fields = append(fields, edit.Written(f))
		}
	}
	line := Line{sectionColumns, now, []Part{{Name: "name", Fields: []string{edit.Written(edit.Field{Name: "name", Value: now})}, Fixed: true}}}
	p.lists = slices.DeleteFunc(p.lists, func(l codeList) bool { return l.column == now && (list == "" || l.codes != codes) })
	if len(fields) > 0 {
		line.Parts = append(line.Parts, Part{Name: "declared", Fields: fields, Evidence: "as the rulebook of " + in.Dataset + " declares it"})
	}
	p.Lines[at] = line
}

// key takes up a key that still tells the rows apart.
func (p *Proposal) key(in *Inherited, item edit.ItemOutline) {
	if !in.Unique {
		return
	}
	line := lineOf(sectionKeys, in, item)
	for i, f := range item.Fields {
		if f.Name != "columns" {
			continue
		}
		values := f.Values
		if values == nil {
			values = []string{f.Value}
		}
		now := make([]string, len(values))
		for k, c := range values {
			name, ok := in.Columns[c]
			if !ok {
				return
			}
			now[k] = name
		}
		f.Values, f.Value = now, ""
		line.Parts[0].Fields[i] = edit.Written(f)
	}
	p.Lines = slices.DeleteFunc(p.Lines, func(l Line) bool { return l.Section == sectionKeys })
	p.Lines = append(p.Lines, line)
}

// lineOf is an item of a rulebook as it stands there.
func lineOf(section string, in *Inherited, item edit.ItemOutline) Line {
	fields := make([]string, len(item.Fields))
	for i, f := range item.Fields {
		fields[i] = edit.Written(f)
	}
	return Line{section, item.Name, []Part{{Fields: fields, Evidence: "as in the rulebook of " + in.Dataset}}}
}

// applies reports whether a rule speaks of columns alone that the merged table has under the same names.
func applies(in *Inherited, item edit.ItemOutline) bool {
	for _, f := range item.Fields {
		if f.Name != "condition" && f.Name != "where" {
			continue
		}
		c, mistakes := condition.Parse(f.Value)
		if len(mistakes) > 0 {
			return false
		}
		for _, name := range c.Names() {
			if in.Columns[name] != name {
				return false
			}
		}
	}
	return true
}

// inAll are the lines that are the same in all rulebooks.
func inAll(all [][]Line) (out []Line) {
	if len(all) == 0 {
		return nil
	}
	same := func(a, b Line) bool { return slices.Equal(a.Parts[0].Fields, b.Parts[0].Fields) }
	for _, line := range all[0] {
		everywhere := true
		for _, other := range all[1:] {
			everywhere = everywhere && slices.ContainsFunc(other, func(l Line) bool { return same(l, line) })
		}
		if everywhere {
			out = append(out, line)
		}
	}
	return out
}

// codesText writes the codes of a list.
func codesText(list edit.ListOutline) string {
	parts := make([]string, len(list.Entries))
	for i, e := range list.Entries {
		fields := []edit.Field{{Name: "code", Value: e.Code}}
		if e.Label != "" {
			fields = append(fields, edit.Field{Name: "label", Value: e.Label})
		}
		if len(e.Spellings) > 0 {
			fields = append(fields, edit.Field{Name: "spellings", Values: e.Spellings})
		}
		if e.Ended {
			fields = append(fields, edit.Field{Name: "ended", Value: "true"})
		}
		written := make([]string, len(fields))
		for k, f := range fields {
			written[k] = edit.Written(f)
		}
		parts[i] = fmt.Sprintf("{%s}", strings.Join(written, ", "))
	}
	return strings.Join(parts, ", ")
}
