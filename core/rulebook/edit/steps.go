package edit

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
)

// List is the kind of a document that has fields of its own and one list of what it does.
type List struct {
	whole   string // what the document is called
	section string // the field that is the list
	one     string // what one of it is called
	named   string // the field of one by which people know it
}

// Plans and Merges are the documents that are such lists.
var (
	Plans  = List{"the fix plan", "steps", "step", "do"}
	Merges = List{"the merge", "join", "join", "with"}
)

// PlanOutline is the text of a fix plan by its steps, or of a merge by its joins, for forms. It is of the text, which may be
// wrong.
type PlanOutline struct {
	Head  []Field       `json:"head"`
	Steps []ItemOutline `json:"steps"` // named by what they do, and joins by what they join with
}

// Outline lays the text of a document out by its steps.
func (l List) Outline(source string) (*PlanOutline, error) {
	root, err := document.Parse([]byte(source))
	if err != nil {
		return nil, err
	}
	out := &PlanOutline{Head: []Field{}, Steps: []ItemOutline{}}
	for i := range root.Entries {
		if e := &root.Entries[i]; e.Name != l.section {
			out.Head = append(out.Head, fieldOf(e))
		}
	}
	if list := entry(root, l.section); list != nil {
		for _, item := range list.Value.Items {
			step := itemOutline(item)
			if named := entry(item, l.named); named != nil {
				step.Name = named.Value.Text
			}
			out.Steps = append(out.Steps, step)
		}
	}
	return out, nil
}

// StepChange is one change of the text of a fix plan or merge, whose steps are its joins. Comments and whatever it does not speak of stay as they are; a comment
// above a step goes where the step goes.
type StepChange struct {
	// Step is the step that is meant, from 1; 0 for the document's own fields. Of one that is added it is its place then, 0 for
	// the end.
	Step  int     `json:"step" minimum:"0" maximum:"500"`
	Field *Field  `json:"field,omitempty"` // that is set; without a value it is taken away
	Add   []Field `json:"add,omitempty"`   // the fields of a step that is added, what it does among them
	// Entry is an entry more of the field that it names, which is a list of such entries.
	Entry  *StepEntry `json:"entry,omitempty"`
	Remove bool       `json:"remove,omitempty"`
	MoveTo int        `json:"move_to,omitempty" minimum:"0" maximum:"500"` // the place that it has then
}

// StepEntry is an entry of a field that is a list of mappings, as the choices of keep_one.
type StepEntry struct {
	Of     string  `json:"of"`
	Fields []Field `json:"fields"`
}

// Apply applies changes to the text of a document, one after the other. The text need not be a good one, before or after, but
// YAML.
func (l List) Apply(source string, changes []StepChange) (string, error) {
	for _, c := range changes {
		root, err := document.Parse([]byte(source))
		if err != nil {
			return "", err
		}
		if source, err = l.edit(source, root, c); err != nil {
			return "", err
		}
		if _, err = document.Parse([]byte(source)); err != nil {
			return "", errByHand
		}
	}
	return source, nil
}

// edit makes one change; a text whose places cannot be told is for a person to change, as in edit.
func (l List) edit(source string, root *document.Node, c StepChange) (changed string, err error) {
	defer func() {
		if recover() != nil {
			changed, err = "", errByHand
		}
	}()
	e := &editor{lines: strings.Split(source, "\n")}
	err = e.applyStep(l, root, c)
	return strings.Join(e.lines, "\n"), err
}

func (e *editor) applyStep(l List, root *document.Node, c StepChange) error {
	if root.Kind != document.Mapping {
		return fmt.Errorf("%s is not made of names and values", l.whole)
	}
	if c.Step == 0 && c.Add == nil {
		if c.Field == nil {
			return nil
		}
		return e.set(root, c.Field.Name, fieldValue(*c.Field))
	}
	list := entry(root, l.section)
	if c.Add != nil {
		return e.addStep(l, list, c)
	}
	if list == nil || c.Step > len(list.Value.Items) {
		return fmt.Errorf("%s has no %s %d", l.whole, l.one, c.Step)
	}
	flow := item
	switch item := list.Value.Items[c.Step-1]; {
	case c.Field != nil:
		return e.set(item, c.Field.Name, fieldValue(*c.Field))
	case c.Entry != nil:
		known := entry(item, c.Entry.Of)
		if known == nil {
			return e.insertField(item, c.Entry.Of+": ["+flow(c.Entry.Fields)+"]")
		}
		return e.append(known.Value, flow(c.Entry.Fields))
	case c.Remove && len(list.Value.Items) == 1:
		from, to, err := e.blocks(list.Value)
		if err != nil {
			return err
		}
		e.lines = slices.Delete(e.lines, from[0], to)
		e.lines[list.Line-1] = strings.TrimRight(e.lines[list.Line-1], " ") + " []"
		return nil
	}
	from, end, err := e.blocks(list.Value)
	if err != nil {
		return err
	}
	from = append(from, end)
	block := slices.Clone(e.lines[from[c.Step-1]:from[c.Step]])
	if c.Remove {
		e.lines = slices.Delete(e.lines, from[c.Step-1], from[c.Step])
		return nil
	}
	to := min(c.MoveTo, len(list.Value.Items))
	switch {
	case to < 1 || to == c.Step:
		return nil
	case to < c.Step:
		e.lines = slices.Delete(e.lines, from[c.Step-1], from[c.Step])
		e.lines = slices.Insert(e.lines, from[to-1], block...)
	default:
		e.lines = slices.Insert(e.lines, from[to], block...)
		e.lines = slices.Delete(e.lines, from[c.Step-1], from[c.Step])
	}
	return nil
}

func (e *editor) addStep(l List, list *document.Entry, c StepChange) error {
	if list == nil || list.Value.Kind == document.Null {
		return e.add(list, l.section, item(c.Add))
	}
	if len(list.Value.Items) == 0 && e.fieldValue(list.Value) { // steps: []
		end, err := e.closing(e.start(list.Value))
		if err != nil {
			return err
		}
		e.splice(e.start(list.Value), end, "")
		at := list.Line - 1
		e.lines[at] = strings.TrimRight(e.lines[at], " ")
		e.lines = slices.Insert(e.lines, at+1, blockItem("  ", c.Add)...)
		return nil
	}
	from, end, err := e.blocks(list.Value)
	if err != nil {
		return err
	}
	at := end
	if c.Step > 0 && c.Step <= len(from) {
		at = from[c.Step-1]
	}
	dash := strings.Repeat(" ", indent(e.lines[e.start(list.Value.Items[0]).line]))
	e.lines = slices.Insert(e.lines, at, blockItem(dash, c.Add)...)
	return nil
}

// blockItem writes an item with a field in each line.
func blockItem(dash string, fields []Field) []string {
	var out []string
	for _, f := range fields {
		text := fieldValue(f)
		if text == "" {
			continue
		}
		lead := dash + "  "
		if len(out) == 0 {
			lead = dash + "- "
		}
		out = append(out, lead+f.Name+": "+text)
	}
	return out
}

// blocks returns the line on which each item begins, the comments right above it among them, and where the last one ends.
func (e *editor) blocks(list *document.Node) (from []int, end int, err error) {
	if e.fieldValue(list) {
		return nil, 0, errByHand
	}
	for _, one := range list.Items {
		line := e.start(one).line
		if !strings.HasPrefix(strings.TrimLeft(e.lines[line], " "), "- ") {
			return nil, 0, errByHand
		}
		end = e.lastLine(line, indent(e.lines[line])+1) + 1
		for line > 0 && strings.HasPrefix(strings.TrimSpace(e.lines[line-1]), "#") && (len(from) == 0 || line-1 > from[len(from)-1]) {
			line--
		}
		from = append(from, line)
	}
	return from, end, nil
}
