package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/service/access"
	"proudsieve/service/records"
)

// samples are the datasets that a person may bring to look around in; the service hands them out, and takes them in as
// it takes in any others.
func (s *Server) samples() {
	register(s, operation{
		Right: access.Read, ID: "list-samples", Method: http.MethodGet, Path: "/samples",
		Summary: "Made-up datasets to look around in, with their rulebooks",
	}, func(context.Context, *nothing) (*body[[]records.Sample], error) {
		out := s.Samples
		if out == nil {
			out = []records.Sample{}
		}
		return answer(&out, nil)
	})
	register(s, operation{
		Right: access.Read, ID: "download-sample", Method: http.MethodGet, Path: "/samples/{name}",
		Summary: "The file of a made-up dataset",
	}, func(_ context.Context, in *ByName) (*huma.StreamResponse, error) {
		for _, one := range s.Samples {
			if one.Dataset == in.Name {
				return &huma.StreamResponse{Body: func(out huma.Context) {
					out.SetHeader("Content-Type", "text/csv")
					_, _ = out.BodyWriter().Write(one.Content)
				}}, nil
			}
		}
		return nil, huma.NewError(http.StatusNotFound, "There is no such sample.")
	})
}
