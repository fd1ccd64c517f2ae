package api

import (
	"context"
	"net/http"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// search adds the question where something is.
func (s *Server) search() {
	type asked struct {
		Text string `query:"text" required:"true" minLength:"1" maxLength:"200" doc:"Part of a name, a title or a file's name, whatever its case; of issues and certificates their number, of files their SHA-256"`
	}
	register(s, operation{
		Right: access.Read, ID: "search-records", Method: http.MethodGet, Path: "/search",
		Summary: "Datasets, columns, rules, issues, deliveries and certificates that have a text in their names",
	}, func(ctx context.Context, in *asked) (*body[records.Found], error) {
		return answer(store.Search(seen(ctx), s.Store.DB, in.Text))
	})
}
