package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5/middleware"
)

// compressed packs pages, scripts and JSON on their way; files that are downloaded stay as they are.
func compressed() func(http.Handler) http.Handler {
	return middleware.Compress(5, "application/json", "application/problem+json", "text/html", "text/css", "text/javascript",
		"application/javascript", "image/svg+xml")
}

// tagLimit bounds the answers that get a tag, in bytes: they are held until they are whole.
const tagLimit = 4 << 20

// tagged gives the answers to reads that are JSON a tag of what they hold (ETag, RFC 9110), by which one that has not
// changed is not sent again.
func tagged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet {
			next.ServeHTTP(w, r)
			return
		}
		held := &heldAnswer{ResponseWriter: w, asked: r.Header.Get("If-None-Match")}
		next.ServeHTTP(held, r)
		held.end()
	})
}

// heldAnswer holds back an answer of JSON; anything else passes.
type heldAnswer struct {
	http.ResponseWriter
	asked  string
	body   bytes.Buffer
	status int
	passes bool
}

func (h *heldAnswer) WriteHeader(status int) {
	if h.status != 0 {
		return
	}
	h.status = status
	h.passes = status != http.StatusOK || h.Header().Get("ETag") != "" ||
		!strings.HasPrefix(h.Header().Get("Content-Type"), "application/json")
	if h.passes {
		h.ResponseWriter.WriteHeader(status)
	}
}

func (h *heldAnswer) Write(p []byte) (int, error) {
	h.WriteHeader(http.StatusOK)
	if !h.passes && h.body.Len()+len(p) > tagLimit {
		h.pass()
	}
	if h.passes {
		return h.ResponseWriter.Write(p)
	}
	return h.body.Write(p)
}

// pass sends what was held, and holds no more.
func (h *heldAnswer) pass() {
	h.passes = true
	h.ResponseWriter.WriteHeader(h.status)
	_, _ = h.ResponseWriter.Write(h.body.Bytes())
	h.body = bytes.Buffer{}
}

func (h *heldAnswer) end() {
	if h.status == 0 || h.passes {
		return
	}
	sum := sha256.Sum256(h.body.Bytes())
	tag := `W/"` + hex.EncodeToString(sum[:12]) + `"` // weak, since it may be compressed on its way
	h.Header().Set("ETag", tag)
	if h.Header().Get("Cache-Control") == "" {
		h.Header().Set("Cache-Control", "private, no-cache")
	}
	for one := range strings.SplitSeq(h.asked, ",") {
		if strings.TrimSpace(one) == tag {
			h.Header().Del("Content-Type")
			h.Header().Del("Content-Length")
			h.ResponseWriter.WriteHeader(http.StatusNotModified)
			return
		}
	}
	h.pass()
}

// Flush sends what passes at once; what is held waits to be whole.
func (h *heldAnswer) Flush() {
	if h.passes {
		_ = http.NewResponseController(h.ResponseWriter).Flush()
	}
}

// Unwrap lets http.ResponseController reach what is behind.
func (h *heldAnswer) Unwrap() http.ResponseWriter { return h.ResponseWriter }
