package console_test

import (
	"fmt"

	"github.com/chromedp/chromedp"
)

// editor is the place where a declaration or a condition is written, by what it is called.
func editor(label string) string { return fmt.Sprintf(`.cm-content[aria-label=%q]`, label) }

// composes replaces the text of an editor by pasting another one, as from a file.
func (p *person) composes(label, text string) {
	p.t.Helper()
	p.selects(label)
	evaluate[bool](p, fmt.Sprintf(`(() => { const d = new DataTransfer(); d.setData("text/plain", %q);
		document.querySelector(%q).dispatchEvent(new ClipboardEvent("paste", {clipboardData: d, bubbles: true, cancelable: true})); return true; })()`,
		text, editor(label)))
}

// selects chooses all of an editor's text.
func (p *person) selects(label string) {
	p.t.Helper()
	p.do("waiting for "+label, chromedp.WaitVisible(chromedp.CSS(editor(label))), chromedp.Focus(chromedp.CSS(editor(label))),
		chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
}

// composed is the text of an editor, as one gets it by copying all of it.
func (p *person) composed(label string) string {
	p.t.Helper()
	p.selects(label)
	return p.copied(label)
}

// copied is what is selected in an editor.
func (p *person) copied(label string) string {
	p.t.Helper()
	return evaluate[string](p, fmt.Sprintf(`(() => { const d = new DataTransfer();
		document.querySelector(%q).dispatchEvent(new ClipboardEvent("copy", {clipboardData: d, bubbles: true, cancelable: true}));
		return d.getData("text/plain"); })()`, editor(label)))
}

// clicks presses what is found by an XPath.
func clicks(path string) chromedp.Action[chromedp.Void] { return chromedp.Click(chromedp.Search(path)) }
