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
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/store"
)

// uploadStalls is how long an upload may send nothing.
const uploadStalls = 60 * time.Second

// Delivered is the answer to an upload.
type Delivered struct {
	Table   store.Table `json:"table"`
	Job     *store.Job  `json:"job" doc:"The audit that was queued; null where the bytes were known"`
	Known   bool        `json:"known" doc:"The dataset had a delivery with these bytes already; nothing was added"`
	Message string      `json:"message"`
}

// deliveries adds the upload, which streams and so is a plain handler.
func (s *Server) deliveries(r chi.Router) {
	r.Post("/datasets/{name}/deliveries", s.upload)
	schema := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[Delivered](), true, "Delivered")
	s.api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "add-delivery", Method: http.MethodPost, Path: "/datasets/{name}/deliveries",
		Summary: "Take in a delivery: the body is the file as it is. It is kept unchanged, and its audit is queued",
		Parameters: []*huma.Param{
			{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
			{Name: "file_name", In: "query", Description: "The file's name", Schema: &huma.Schema{Type: "string"}},
			{Name: "provider", In: "query", Description: "Who sent it", Schema: &huma.Schema{Type: "string"}},
			{Name: "note", In: "query", Description: "What is known of it: contact, period, method, limits", Schema: &huma.Schema{Type: "string"}},
		},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}},
		Responses:   map[string]*huma.Response{"201": {Description: "Taken in", Content: map[string]*huma.MediaType{"application/json": {Schema: schema}}}},
	})
}

func (s *Server) upload(w http.ResponseWriter, r *http.Request) {
	who := caller(r.Context())
	if !who.Role.May(access.Work) {
		problem(w, http.StatusForbidden, forbidden(who, access.Work))
		return
	}
	delivered, err := s.takeIn(w, r, who)
	if err != nil {
		var refused *huma.ErrorModel
		if errors.As(s.refusal(err), &refused) {
			problem(w, refused.Status, refused.Detail)
		}
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusCreated)
	_ = json.NewEncoder(w).Encode(delivered)
}

// patient reads a body whose sender may be slow, but not silent.
type patient struct {
	io.Reader
	control *http.ResponseController
}

// Read implements io.Reader.
func (p patient) Read(b []byte) (int, error) {
	if err := p.control.SetReadDeadline(time.Now().Add(uploadStalls)); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return 0, err
	}
	return p.Reader.Read(b)
}

func (s *Server) takeIn(w http.ResponseWriter, r *http.Request, who *store.Caller) (*Delivered, error) {
	ctx := r.Context()
	dataset, err := store.FindDataset(ctx, s.Store.DB, chi.URLParam(r, "name"))
	if err != nil {
		return nil, err
	}
	query := r.URL.Query()
	name := filepath.Base(query.Get("file_name"))
	if name == "." || name == "/" {
		name = dataset.Name + ".csv"
	}
	source, err := json.Marshal(map[string]string{"provider": query.Get("provider"), "note": query.Get("note")})
	if err != nil {
		return nil, err
	}
	limited := http.MaxBytesReader(w, r.Body, s.UploadLimit)
	digest, bytes, err := s.Files.Put(ctx, patient{limited, http.NewResponseController(w)})
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return nil, huma.NewError(http.StatusRequestEntityTooLarge, fmt.Sprintf("The file is larger than the %d bytes that this service takes in; nothing was kept.", s.UploadLimit))
	case errors.Is(err, files.ErrNothing):
		return nil, invalid("The file is empty; nothing was kept. Ask its provider to send it again.")
	case err != nil:
		return nil, err
	}
	return s.recordDelivery(ctx, who, dataset, store.NewTable{DatasetID: dataset.ID, Origin: store.OriginDelivery, Digest: digest, Bytes: bytes,
		FileName: strings.ToValidUTF8(name, "?"), Source: source, CreatedBy: who.ID})
}

func (s *Server) recordDelivery(ctx context.Context, who *store.Caller, dataset *store.Dataset, t store.NewTable) (*Delivered, error) {
	if known, err := orNil(store.DeliveryWith(ctx, s.Store.DB, dataset.ID, t.Digest)); err != nil || known != nil {
		return knownDelivery(known), err
	}
	var out Delivered
	err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		made, err := store.AddTable(ctx, tx, t)
		if err != nil {
			return err
		}
		out.Table = *made
		if out.Job, err = s.Pool.AddAudit(ctx, tx, made, who.ID); err != nil {
			return err
		}
		out.Message = fmt.Sprintf("Delivery %d of %s is kept, and its audit is queued.", made.ID, dataset.Name)
		return store.Record(ctx, tx, who.ID, "took in a delivery", fmt.Sprintf("table %d of %s", made.ID, dataset.Name), map[string]any{"sha256": t.Digest, "file": t.FileName})
	})
	if errors.Is(err, store.ErrConflict) { // somebody sent the same bytes at the same time
		known, err := store.DeliveryWith(ctx, s.Store.DB, dataset.ID, t.Digest)
		return knownDelivery(known), err
	}
	return &out, err
}

func knownDelivery(known *store.Table) *Delivered {
	if known == nil {
		return nil
	}
	return &Delivered{Table: *known, Known: true, Message: fmt.Sprintf("These bytes arrived before, as delivery %d of %s; nothing was added.", known.ID, known.Dataset)}
}
