package api

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"github.com/go-chi/chi/v5"
)

// recordsPackage holds the records that the client reads.
const recordsPackage = "proudsieve/service/records"

// ForGenerators returns the description as OpenAPI 3.0, which generators of clients read. What is
// a record stands for itself (x-go-type); of what else is answered, whose parts lie in core/, the
// client hands on the text.
func ForGenerators() ([]byte, error) {
	s := &Server{Log: discarded}
	s.register(chi.NewRouter())
	raw, err := s.api.OpenAPI().Downgrade()
	if err != nil {
		return nil, err
	}
	var doc map[string]any
	if err := json.Unmarshal(raw, &doc); err != nil {
		return nil, err
	}
	registry := s.api.OpenAPI().Components.Schemas
	schemas := doc["components"].(map[string]any)["schemas"].(map[string]any)
	answered := map[string]bool{}
	collectAnswered(doc["paths"].(map[string]any), answered)
	for name := range schemas {
		t := registry.TypeFromRef("#/components/schemas/" + name)
		if t == nil {
			continue
		}
		switch {
		case t.PkgPath() == recordsPackage:
			schemas[name] = map[string]any{"type": "object", "x-go-type": goType(t),
				"x-go-type-import": map[string]any{"path": recordsPackage}}
		case answered[name]:
			schemas[name] = map[string]any{"type": "object", "x-go-type": "json.RawMessage"}
		default:
			keepPointers(schemas[name].(map[string]any), t)
		}
	}
	dropFormats(doc)
	return json.MarshalIndent(doc, "", " ")
}

// keepPointers says of the fields of a request that may be left out, or be null, with a meaning of its own.
func keepPointers(schema map[string]any, t reflect.Type) {
	properties, _ := schema["properties"].(map[string]any)
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		if property, ok := properties[name].(map[string]any); ok && t.Field(i).Type.Kind() == reflect.Pointer {
			property["x-go-type-skip-optional-pointer"] = false
			property["nullable"] = true
		}
	}
}

// dropFormats makes days plain texts, as the interface takes them.
func dropFormats(in any) {
	switch in := in.(type) {
	case map[string]any:
		if in["format"] == "date" {
			delete(in, "format")
		}
		for _, one := range in {
			dropFormats(one)
		}
	case []any:
		for _, one := range in {
			dropFormats(one)
		}
	}
}

// goType writes a record's type as the client does; that of a page has its record in brackets.
func goType(t reflect.Type) string {
	name, of, generic := strings.Cut(t.Name(), "[")
	if !generic {
		return "records." + name
	}
	of = strings.TrimSuffix(of[strings.LastIndex(of, ".")+1:], "]")
	return fmt.Sprintf("records.%s[records.%s]", name, of)
}

// collectAnswered finds the schemas that operations answer with.
func collectAnswered(paths map[string]any, into map[string]bool) {
	for _, path := range paths {
		for _, operation := range path.(map[string]any) {
			o, ok := operation.(map[string]any)
			if !ok {
				continue
			}
			responses, _ := o["responses"].(map[string]any)
			for _, response := range responses {
				collectRefs(response, into)
			}
		}
	}
}

func collectRefs(in any, into map[string]bool) {
	switch in := in.(type) {
	case map[string]any:
		if ref, ok := in["$ref"].(string); ok {
			into[ref[strings.LastIndex(ref, "/")+1:]] = true
		}
		for _, one := range in {
			collectRefs(one, into)
		}
	case []any:
		for _, one := range in {
			collectRefs(one, into)
		}
	}
}
