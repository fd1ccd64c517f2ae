package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/budget"
	"proudsieve/core/document"
	"proudsieve/core/guard"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/service/files"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// refusal turns an error into the problem that is sent. What the caller can do
// nothing about is logged and not told.
func (s *Server) refusal(err error) error {
	var known huma.StatusError
	if errors.As(err, &known) {
		return err
	}
	status, detail := http.StatusInternalServerError, somethingWrong
	var mistakes document.Problems
	var caught *guard.Panic
	switch {
	case errors.As(err, &caught):
		s.Log.Error("a request panicked", "problem", caught.Value, "stack", caught.Stack)
	case errors.Is(err, context.Canceled): // nobody waits for the answer
		return huma.NewError(499, "The request was given up by who made it.")
	case errors.Is(err, budget.ErrBusy):
		return huma.ErrorWithHeaders(huma.NewError(http.StatusServiceUnavailable,
			"Too much is being asked at once for the memory that the service has; try again in a moment."),
			http.Header{"Retry-After": {"5"}})
	case errors.Is(err, budget.ErrTooMuch):
		return huma.NewError(http.StatusUnprocessableEntity, "The question needs more memory than the service has: "+
			err.Error()+". Ask of fewer columns or rows, or give the service more memory.")
	case store.Passing(err):
		s.Log.Error("request failed", "error", err)
		return huma.ErrorWithHeaders(huma.NewError(http.StatusServiceUnavailable,
			"The database does not answer; try again in a moment."), http.Header{"Retry-After": {"2"}})
	case errors.Is(err, files.ErrAway):
		s.Log.Error("request failed", "error", err)
		return huma.ErrorWithHeaders(huma.NewError(http.StatusServiceUnavailable, files.AwaySays), http.Header{"Retry-After": {"5"}})
	case errors.As(err, &mistakes):
		details := make([]error, len(mistakes))
		for i, p := range mistakes {
			details[i] = &huma.ErrorDetail{Message: p.Message, Location: fmt.Sprintf("line %d, column %d", p.Line,
				p.Column), Value: map[string]int{"line": p.Line, "column": p.Column}}
		}
		return huma.NewError(http.StatusUnprocessableEntity, "The declaration has mistakes; nothing was saved.",
			details...)
	case errors.Is(err, store.ErrNotFound), errors.Is(err, files.ErrNotFound):
		status, detail = http.StatusNotFound, err.Error()
	case errors.Is(err, store.ErrConflict):
		status, detail = http.StatusConflict, err.Error()
	case files.Full(err):
		status, detail = http.StatusInsufficientStorage, files.FullSays
	case errors.Is(err, intake.ErrEmpty), errors.Is(err, content.ErrWebPage), errors.Is(err, intake.ErrBinary),
		errors.Is(err, intake.ErrNoHeader), errors.Is(err, intake.ErrTooLong), errors.Is(err, intake.ErrTooMany):
		status, detail = http.StatusUnprocessableEntity, err.Error()
	case errors.Is(err, work.ErrThere):
		status, detail = http.StatusConflict, sentence(err)
	case errors.Is(err, io.ErrUnexpectedEOF):
		status, detail = http.StatusBadRequest,
			"The upload was cut off before its end; nothing was kept. Send it again."
	}
	if status >= http.StatusInternalServerError {
		s.Log.Error("request failed", "error", err)
	}
	return huma.NewError(status, detail)
}

// invalid refuses what a caller sent.
func invalid(format string, args ...any) error {
	return huma.NewError(http.StatusUnprocessableEntity, fmt.Sprintf(format, args...))
}
