package console

import (
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
)

func TestTheViewsAreThoseOfTheConsole(t *testing.T) {
	t.Parallel()
	source, err := os.ReadFile("../web/src/router.tsx")
	if err != nil {
		t.Fatal(err)
	}
	var routes []string
	for _, match := range regexp.MustCompile(`path: "/([^"]*)"`).FindAllStringSubmatch(string(source), -1) {
		routes = append(routes, regexp.MustCompile(`\$\w+`).ReplaceAllString(match[1], "*"))
	}
	if !slices.Equal(slices.Sorted(slices.Values(routes)), slices.Sorted(slices.Values(views))) {
		t.Errorf("the console has %v, and %v are served", routes, views)
	}
}

func TestWhatIsNoPageIsNotThere(t *testing.T) {
	t.Parallel()
	pages, err := Handler()
	if err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]int{"/": 200, "/datasets/visits": 200, "/tables/7/fix": 200, "/nothing": 404,
		"/datasets/a/b/c": 404, "/assets/none.js": 404, "/../etc/passwd": 404, "/.env": 404} {
		w := httptest.NewRecorder()
		r := httptest.NewRequest("GET", "/", nil)
		r.URL.Path = address
		pages.ServeHTTP(w, r)
		if w.Code != want || strings.Contains(w.Body.String(), "root:") {
			t.Errorf("%s: %d, want %d", address, w.Code, want)
		}
	}
}
