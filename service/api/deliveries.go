package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// uploadStalls is how long an upload may send nothing.
const uploadStalls = 60 * time.Second

// deliveries adds the upload, which streams and so is a plain handler.
func (s *Server) deliveries(r chi.Router) {
	r.Post("/datasets/{name}/deliveries", s.upload("Take in a delivery", s.takeIn))
	schema := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[records.Delivered](), true, "Delivered")
	s.api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "add-delivery", Method: http.MethodPost, Path: "/datasets/{name}/deliveries",
		Summary: "Take in a delivery: the body is the file as it is. It is kept unchanged, and its audit is queued",
		Parameters: []*huma.Param{
			{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
			{Name: "file_name", In: "query", Description: "The file's name", Schema: &huma.Schema{Type: "string"}},
			{Name: "provider", In: "query", Description: "Who sent it", Schema: &huma.Schema{Type: "string"}},
			{Name: "contact", In: "query", Description: "Who can be asked about it",
				Schema: &huma.Schema{Type: "string"}},
			{Name: "period", In: "query", Description: "The period it covers", Schema: &huma.Schema{Type: "string"}},
			{Name: "method", In: "query", Description: "How the numbers were made",
				Schema: &huma.Schema{Type: "string"}},
			{Name: "limits", In: "query", Description: "Known limits", Schema: &huma.Schema{Type: "string"}},
			{Name: "note", In: "query", Description: "Anything else that is known of it",
				Schema: &huma.Schema{Type: "string"}},
		},
		RequestBody: &huma.RequestBody{Required: true,
			Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string",
				Format: "binary"}}}},
		Responses: map[string]*huma.Response{"201": {Description: "Taken in",
			Content: map[string]*huma.MediaType{"application/json": {Schema: schema}}}},
	})
}

// upload answers a request whose body is a file: what take makes of it, or why it was refused.
func (s *Server) upload(what string, take func(w http.ResponseWriter, r *http.Request, who *store.Caller) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who := caller(r.Context())
		if !access.Role(who.Role).May(access.Work) {
			s.recordRefusal(r.Context(), who, what, access.Work)
			problem(w, r, http.StatusForbidden, forbidden(who, access.Work))
			return
		}
		if name := chi.URLParam(r, "name"); name != "" && who.Confined {
			if err := s.reachThing(r.Context(), who, access.Work, "datasets", name); err != nil {
				drain(r)
				var told huma.StatusError
				if errors.As(err, &told) {
					problem(w, r, told.GetStatus(), told.Error())
				}
				return
			}
		}
		made, err := take(w, r, who)
		if err != nil {
			var refused *huma.ErrorModel
			if errors.As(s.refusal(err), &refused) {
				drain(r)
				problem(w, r, refused.Status, refused.Detail)
			}
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
		_ = json.NewEncoder(w).Encode(made)
	}
}

// receive keeps the file that is the body of a request; the caller closes what was kept.
func (s *Server) receive(w http.ResponseWriter, r *http.Request) (*files.Kept, error) {
	limited := http.MaxBytesReader(w, r.Body, s.UploadLimit)
	kept, err := s.Pool.Receive(r.Context(), patient{limited, http.NewResponseController(w)})
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return nil, huma.NewError(http.StatusRequestEntityTooLarge,
			fmt.Sprintf("The file is larger than the %d bytes that this service takes in; nothing was kept.", s.UploadLimit))
	case errors.Is(err, files.ErrNothing):
		return nil, invalid("The file is empty; nothing was kept. Ask its provider to send it again.")
	}
	return kept, err
}

// fileName is the name that a request gives to the file in its body.
func fileName(r *http.Request, otherwise string) string {
	name := filepath.Base(r.URL.Query().Get("file_name"))
	if name == "." || name == "/" {
		name = otherwise
	}
	return strings.ToValidUTF8(name, "?")
}

// patient reads a body whose sender may be slow, but not silent.
type patient struct {
	io.Reader
	control *http.ResponseController
}

// Read implements io.Reader.
func (p patient) Read(b []byte) (int, error) {
	if err := p.control.SetReadDeadline(time.Now().Add(uploadStalls)); err != nil &&
		!errors.Is(err, http.ErrNotSupported) {
		return 0, err
	}
	return p.Reader.Read(b)
}

func (s *Server) takeIn(w http.ResponseWriter, r *http.Request, who *store.Caller) (any, error) {
	ctx := r.Context()
	dataset, err := store.FindDataset(ctx, s.Store.DB, chi.URLParam(r, "name"))
	if err != nil {
		return nil, err
	}
	query := r.URL.Query()
	source, err := json.Marshal(records.SourceNotes{Provider: query.Get("provider"), Contact: query.Get("contact"),
		Period: query.Get("period"),
		Method: query.Get("method"), Limits: query.Get("limits"), Note: query.Get("note")})
	if err != nil {
		return nil, err
	}
	kept, err := s.receive(w, r)
	if err != nil {
		return nil, err
	}
	defer kept.Close()
	return s.delivered(ctx, store.NewTable{DatasetID: dataset.ID, Origin: store.OriginDelivery, Digest: kept.Digest, Bytes: kept.Bytes,
		FileName: fileName(r, dataset.Name+".csv"), Source: source, CreatedBy: who.ID}, dataset.Name)
}

// delivered takes in a delivery whose bytes are kept, and says what became of it.
func (s *Server) delivered(ctx context.Context, t store.NewTable, dataset string) (*records.Delivered, error) {
	taken, err := s.Pool.TakeIn(ctx, t.CreatedBy, t, dataset)
	if err != nil {
		return nil, err
	}
	out := &records.Delivered{Table: *taken.Table, Job: taken.Job, Known: taken.Known,
		Message: fmt.Sprintf("Delivery %d of %s is kept, and its audit is queued.", taken.Table.ID, dataset)}
	if taken.Known {
		out.Message = fmt.Sprintf("These bytes arrived before, as delivery %d of %s; nothing was added.", taken.Table.ID, dataset)
	}
	return out, nil
}
