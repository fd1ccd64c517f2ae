package console_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"

	"github.com/chromedp/chromedp"
)

// The gallery shows each shared component in all its states. It is walked as the pages are: nothing of it breaks, is wider
// than its window, or cannot be used by somebody.
func TestTheGalleryIsSoundInEveryState(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("gallery/gallery.html"); err != nil {
		t.Fatal("the gallery is not built; build it with: make gallery")
	}
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	served := httptest.NewServer(http.FileServer(http.Dir("gallery")))
	t.Cleanup(served.Close)
	p := sitDown(t, served.URL)
	for _, theme := range []string{"light", "dark"} {
		p.visit("/gallery.html")
		evaluate[bool](p, fmt.Sprintf(`(localStorage.setItem("theme", %q), true)`, theme))
		p.visit("/gallery.html")
		p.sees("Gallery", "Looking through all rows …", "1 mistake", "It is a good rulebook.", "does not answer", "Request urn:proudsieve:request:ABC")
		if states := evaluate[int](p, `[...document.querySelectorAll("[data-state]")].filter((e) => e.getBoundingClientRect().height > 20).length`); states < 30 {
			t.Errorf("in %s %d states are drawn, want 30 and more", theme, states)
		}
		if why := evaluate[string](p, `document.querySelector('button[disabled][title^="You are a reader"]')?.title ?? ""`); why == "" {
			t.Error("a button that is refused does not say why")
		}
		evaluate[bool](p, string(axe)+"; true")
		evaluate[bool](p, `(window.broken = undefined, axe.run(document, {resultTypes: ["violations"]}).then((r) => {
			window.broken = r.violations.map((v) => v.id + " (" + v.nodes.length + "): " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | ")); }), true)`)
		p.awaits("window.broken !== undefined")
		for _, broken := range evaluate[[]string](p, "window.broken") {
			t.Errorf("in %s: %s", theme, broken)
		}
	}
	for _, width := range []int64{390, 768, 1280, 1600} {
		p.do("taking another window", chromedp.EmulateViewport(width, 800))
		p.visit("/gallery.html")
		p.sees("It is a good rulebook.")
		if wide := evaluate[int64](p, "document.documentElement.scrollWidth"); wide > width {
			t.Errorf("at %d pixels the gallery is %d wide: %s", width, wide, evaluate[string](p, `[...document.querySelectorAll("main *")].filter((e) => e.getBoundingClientRect().right > innerWidth + 1 && !e.closest("[role=group], .scrolls")).slice(0, 3).map((e) => e.outerHTML.slice(0, 140)).join(" | ")`))
		}
	}
}
