package json

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"proudsieve/core/intake/content"
)

// whole is the name of the part that is the object itself, as one record.
const whole = "the object"

// arrayDepth is how many objects stand around an array of records at most.
const arrayDepth = 4

func init() {
	content.Register(content.Format{Name: "json_object", Title: "a JSON object",
		Because: "it is one object, over several lines or with records under a name", Place: 5,
		Recognises: startsAsOneObject,
		Converter: func(c *content.Content, part string) content.Converter {
			return &object{reader: reader{open: c.Open, index: map[string]int{}}, part: part}
		}})
}

// object reads a file that is a single object: one record, or what holds records under a name, as web services
// answer. Its parts are the arrays of objects in it, by their dotted paths.
type object struct {
	reader
	part string
}

// startsAsOneObject reports whether a text starts with an object that goes on beyond its line, or with one that is
// alone and holds an array of objects.
func startsAsOneObject(head []byte) bool {
	if !startsAsLines(head) {
		return false
	}
	text := start(head)
	line, rest, several := bytes.Cut(text, []byte("\n"))
	if !json.Valid(line) {
		return several || bytes.Contains(bytes.ReplaceAll(line, []byte(" "), nil), []byte(`":[{`))
	}
	return len(bytes.TrimSpace(rest)) == 0 && bytes.Contains(bytes.ReplaceAll(line, []byte(" "), nil), []byte(`":[{`))
}

// Parts implements content.Parted.
func (o *object) Parts(ctx context.Context) (names []string, first string, err error) {
	in, err := o.open(ctx, 0)
	if err != nil {
		return nil, "", err
	}
	defer in.Close()
	w := walker{decoder: json.NewDecoder(withoutMark(in))}
	w.decoder.UseNumber()
	err = w.value(ctx, "", 0)
	if len(w.arrays) == 0 {
		return []string{whole}, whole, nil // what is broken in it is told as its record is read
	}
	if o.part == "" {
		o.part = w.arrays[0]
	}
	if !slices.Contains(w.arrays, o.part) && o.part != whole {
		return nil, "", fmt.Errorf("the object holds no records under %q; there are some under %s", o.part, strings.Join(w.arrays, ", "))
	}
	var broken *json.SyntaxError
	if errors.As(err, &broken) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = nil
	}
	return append(w.arrays, whole), w.arrays[0], err
}

func withoutMark(in io.Reader) *bufio.Reader {
	r := bufio.NewReaderSize(in, 256<<10)
	if mark, err := r.Peek(3); err == nil && string(mark) == "\ufeff" {
		_, _ = r.Discard(3)
	}
	return r
}

// walker goes through a text in JSON and notes the arrays of objects in it.
type walker struct {
	decoder *json.Decoder
	arrays  []string
	tokens  int
}

// value goes through a value under a path, within so many objects.
func (w *walker) value(ctx context.Context, path string, depth int) error {
	token, err := w.token(ctx)
	if err != nil {
		return err
	}
	return w.rest(ctx, token, path, depth)
}

func (w *walker) token(ctx context.Context) (json.Token, error) {
	if w.tokens++; w.tokens%4096 == 0 && ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return w.decoder.Token()
}

// rest goes through what follows the first token of a value.
func (w *walker) rest(ctx context.Context, token json.Token, path string, depth int) error {
	if depth > jsonDepth {
		return errors.New("objects stand more than 64 deep in one another")
	}
	switch token {
	case json.Delim('{'):
		for w.decoder.More() {
			name, err := w.token(ctx)
			if err != nil {
				return err
			}
			under := fmt.Sprint(name)
			if path != "" {
				under = path + "." + under
			}
			if err := w.value(ctx, under, depth+1); err != nil {
				return err
			}
		}
	case json.Delim('['):
		for first := true; w.decoder.More(); first = false {
			token, err := w.token(ctx)
			if err != nil {
				return err
			}
			if first && token == json.Delim('{') && depth <= arrayDepth && path != "" {
				w.arrays = append(w.arrays, path)
			}
			// What stands within the records is theirs.
			if err := w.rest(ctx, token, "", jsonDepth/2+depth/2); err != nil {
				return err
			}
		}
	default:
		return nil
	}
	_, err := w.token(ctx) // the closing bracket
	return err
}

// Convert implements content.Converter.
func (o *object) Convert(ctx context.Context, to *content.Records) error {
	if o.part == "" || o.part == whole {
		return o.write(ctx, to, func(f func([]byte) error) error { return o.one(ctx, f) })
	}
	return o.write(ctx, to, func(f func([]byte) error) error { return o.under(ctx, f) })
}

// one hands out the whole object.
func (o *object) one(ctx context.Context, f func([]byte) error) error {
	in, err := o.open(ctx, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	raw, err := readAll(withoutMark(in))
	if err != nil {
		return err
	}
	return f(bytes.TrimSpace(raw))
}

// under hands out the elements of the array at the part's path.
func (o *object) under(ctx context.Context, f func([]byte) error) error {
	in, err := o.open(ctx, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	r := withoutMark(in)
	d := json.NewDecoder(r)
	d.UseNumber()
	if err := seek(d, strings.Split(o.part, ".")); err != nil {
		return fmt.Errorf("the records under %q are not reached: %w", o.part, err)
	}
	return eachElement(bufio.NewReaderSize(io.MultiReader(strings.NewReader("["), d.Buffered(), r), 256<<10), true, f)
}

// seek goes on to the array that stands under some names, one within the other; a name may have points itself.
func seek(d *json.Decoder, names []string) error {
	if token, err := d.Token(); err != nil || token != json.Delim('{') {
		return errors.Join(err, errors.New("an object was expected"))
	}
	for d.More() {
		token, err := d.Token()
		if err != nil {
			return err
		}
		name := fmt.Sprint(token)
		for n := 1; n <= len(names); n++ {
			if strings.Join(names[:n], ".") != name {
				continue
			}
			if n < len(names) {
				return seek(d, names[n:])
			}
			if token, err = d.Token(); err != nil || token != json.Delim('[') {
				return errors.Join(err, errors.New("an array was expected"))
			}
			return nil
		}
		if err := skip(d); err != nil {
			return err
		}
	}
	return errors.New("there is no such name")
}

// skip goes past a value.
func skip(d *json.Decoder) error {
	for depth := 0; ; {
		token, err := d.Token()
		if err != nil {
			return err
		}
		switch token {
		case json.Delim('{'), json.Delim('['):
			depth++
		case json.Delim('}'), json.Delim(']'):
			depth--
		}
		if depth == 0 {
			return nil
		}
	}
}
