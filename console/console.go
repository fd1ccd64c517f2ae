// Package console serves the built web console. Its source is in web/, and its
// build goes into dist/, which is made by make build and not kept in the repository.
package console

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"
)

//go:embed all:dist
var built embed.FS

// views are the addresses of the console's pages, which the console itself resolves; a test
// holds them against its source. * stands for one part.
var views = []string{"", "datasets", "datasets/*", "datasets/*/rulebook", "datasets/*/proposal", "datasets/*/decided", "new", "tables/*", "tables/*/fix", "decisions", "questions", "questions/new", "questions/*", "issues",
	"issues/*", "merges", "certificates", "certificates/*", "history", "notices", "people", "let-in", "databases"}

func isView(name string) bool {
	return slices.ContainsFunc(views, func(view string) bool {
		ok, err := path.Match(view, name)
		return ok && err == nil
	})
}

// Handler serves the console: its files, and for the address of each view its one page. What
// is neither is not there, and the page says so.
func Handler() (http.Handler, error) {
	files, err := fs.Sub(built, "dist")
	if err != nil {
		return nil, err
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); name != "" && err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // their names carry a hash of their content
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			http.Error(w, "The console was not built into this program; build it with: make build", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if !isView(name) {
			w.Header().Set("Cache-Control", "no-store")
			w.WriteHeader(http.StatusNotFound)
			_, _ = w.Write(page)
			return
		}
		w.Header().Set("Cache-Control", "no-cache")
		sum := sha256.Sum256(page)
		w.Header().Set("ETag", `W/"`+hex.EncodeToString(sum[:12])+`"`)
		http.ServeContent(w, r, "index.html", time.Time{}, bytes.NewReader(page))
	}), nil
}
