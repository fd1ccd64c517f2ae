package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"

	"github.com/danielgtaylor/huma/v2"
)

// A request that its caller gave up is no fault of the service's, and none is logged; what went wrong here is.
func TestARequestThatIsGivenUpIsNoError(t *testing.T) {
	var log bytes.Buffer
	s := &Server{Log: slog.New(slog.NewTextHandler(&log, nil))}
	status := func(err error) int {
		var known huma.StatusError
		if !errors.As(s.refusal(err), &known) {
			t.Fatalf("%v has no status", err)
		}
		return known.GetStatus()
	}
	if got := status(fmt.Errorf("reading: %w", context.Canceled)); got != 499 || log.Len() > 0 {
		t.Errorf("given up: %d, logged %q", got, log.String())
	}
	if got := status(errors.New("the disk is gone")); got != 500 || log.Len() == 0 {
		t.Errorf("a fault: %d, logged %q", got, log.String())
	}
}
