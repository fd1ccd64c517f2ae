package api

import (
	"io"
	"maps"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"
)

// formats are what bodies are written in: JSON as the standard library writes it, but for lists and maps without anything,
// which are empty and never null, so that who reads them need not ask.
func formats() map[string]huma.Format {
	of := maps.Clone(huma.DefaultFormats)
	one := huma.Format{Unmarshal: huma.DefaultJSONFormat.Unmarshal, Marshal: writeJSON}
	of["application/json"], of["json"] = one, one
	return of
}

func writeJSON(w io.Writer, v any) error {
	return json.MarshalWrite(w, v, jsonv1.DefaultOptionsV1(), jsontext.EscapeForHTML(false), json.FormatNilSliceAsNull(false),
		json.FormatNilMapAsNull(false))
}
