// Command take takes the pictures in docs/screenshots from the demo: of the
// console's pages in headless Chromium, and of commands in a terminal window.
// It is run in the repository's root, by make screenshots.
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"proudsieve/browser"
)

const directory = "docs/screenshots"

// step is something done to a page.
type step = chromedp.Action[chromedp.Void]

// page is a view of the console: what is done to get there, and what it waits for.
type page struct {
	name  string
	path  string
	await string // a selector
	dark  bool
	do    []step
}

// returns is the file that is looked at on its way in.
var returns = func() string {
	path, err := filepath.Abs("demo/data/returns.csv")
	if err != nil {
		panic(err)
	}
	return path
}()

var pages = []page{
	{name: "desk", path: "/", await: "section[aria-label=Datasets] td"},
	{name: "arrival", path: "/new", await: "input[type=file]", do: []step{
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{returns}),
		chromedp.WaitVisible(chromedp.CSS(`[aria-label="The first rows"] td`))}},
	{name: "proposal", path: "/datasets/visits/proposal", await: "[aria-label='Lines: Columns'] td"},
	{name: "rulebook-forms", path: "/datasets/highgarth_results/rulebook?view=forms&section=columns&item=value",
		await: "[aria-label='from']"},
	{name: "delivery", path: "/tables/3", await: "tbody tr"},
	{name: "column-dark", path: "/tables/4?view=column&column=value&across=parameter",
		await: "[aria-label='Figures of value'] td", dark: true},
	{name: "tally", path: "/tables/2?view=tally&down=" + url.QueryEscape(`DATE_TRUNC('month', "visited")`) + "&across=water&measures=" +
		url.QueryEscape(`["mean \"flow\""]`), await: "svg path.visx-linepath"},
	{name: "findings", path: "/tables/3?view=findings", await: "tbody tr"},
	{name: "rows", path: "/tables/3?view=rows&rule=one_result", await: "tbody tr"},
	{name: "totals", path: "/tables/11?view=totals&with=12&of=flow&by=" + url.QueryEscape(`["station","DATE_TRUNC('month', read_at)"]`) + "&byThere=" +
		url.QueryEscape(`["station","month_end"]`), await: "[aria-label='Totals that do not agree'] td"},
	{name: "report", path: "/api/v1/audits/3/report", await: "h1"},
	{name: "issue", path: "/issues/24", await: "ol li"},
	{name: "fix-plan", path: "/tables/2/fix?as=text", await: ".cm-content", do: []step{
		chromedp.Focus(chromedp.CSS(".cm-content")), chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)),
		paste(visitsPlan),
		chromedp.Focus(chromedp.CSS(`[aria-label="How it is shown"]`)), chromedp.KeyEvent("a"), chromedp.KeyEvent("s"),
		chromedp.WaitVisible(chromedp.CSS(`[aria-label="Steps of the plan"]`)),
		chromedp.Click(chromedp.Search(`//button[contains(., "Show what it would do")]`)),
		chromedp.WaitVisible(chromedp.CSS(`[aria-label="Changes, old and new"]`))}},
	{name: "estimates", path: "/tables/5/fix?step=5", await: "select[aria-label=method]", do: []step{
		chromedp.Click(chromedp.Search(`//button[contains(., "Compare the methods")]`)),
		chromedp.WaitVisible(chromedp.CSS(`[aria-label="Methods compared"] td`))}},
	{name: "merge", path: "/merges?merge=survey_results", await: `[aria-label="Accounting of the merge"]`},
	{name: "certified", path: "/api/v1/certificates/1/report", await: "h1"},
	{name: "certificate", path: "/certificates/1", await: `[aria-label="Inputs"]`},
}

// terminals are commands as they look in a terminal window.
var terminals = []struct{ name, command string }{
	{"terminal-look", "bin/proudsieve look demo/data/millrace_results.csv"},
	{"terminal-sift",
		"bin/proudsieve sift demo/data/highgarth_results.csv --rules demo/rulebooks/highgarth_results.yaml"},
}

var visitsPlan = func() string {
	raw, err := os.ReadFile("demo/fixes/visits_clean.yaml")
	if err != nil {
		return ""
	}
	return string(raw)
}()

// paste puts a text into the editor, in place of what is selected there.
func paste(text string) step {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const d = new DataTransfer(); d.setData("text/plain", %q);
		document.querySelector(".cm-content").dispatchEvent(new ClipboardEvent("paste", { clipboardData: d, bubbles: true, cancelable: true })); })()`,
		text))
}

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}

func run(ctx context.Context) error {
	data, err := os.MkdirTemp("", "proudsieve-pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	service := exec.CommandContext(ctx, "bin/proudsieve", "up", "--demo", "--data", data, "--listen", "127.0.0.1:7399")
	service.Stderr = os.Stderr
	service.Cancel = func() error { return service.Process.Signal(syscall.SIGINT) }
	out, err := service.StdoutPipe()
	if err != nil {
		return err
	}
	if err := service.Start(); err != nil {
		return err
	}
	defer func() {
		_ = service.Process.Signal(syscall.SIGINT)
		_ = service.Wait()
	}()
	url, err := awaitURL(out)
	if err != nil {
		return err
	}
	token, err := os.ReadFile(filepath.Join(data, "mara-token"))
	if err != nil {
		return err
	}
	only := os.Args[1:]
	return errors.Join(takePages(ctx, url, strings.TrimSpace(string(token)), only), takeTerminals(ctx, url, data, only))
}

func awaitURL(out io.Reader) (string, error) {
	lines, url := bufio.NewScanner(out), ""
	for lines.Scan() {
		if found, ok := strings.CutPrefix(lines.Text(), "The console is at "); ok {
			url = found
		}
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			return url, nil
		}
	}
	return "", errors.New("the service did not start")
}

func wanted(name string, only []string) bool {
	if len(only) == 0 {
		return true
	}
	for _, o := range only {
		if o == name {
			return true
		}
	}
	return false
}

func takePages(ctx context.Context, url, token string, only []string) error {
	tab, stop, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer stop()
	// The browser lives as long as the context of the first step.
	if err := chromedp.Do(tab, chromedp.EmulateViewport(browser.Width, browser.Height), chromedp.Navigate(url),
		chromedp.WaitVisible(chromedp.CSS("#token"))); err != nil {
		return err
	}
	one, cancel := context.WithTimeout(tab, 20*time.Second)
	err = chromedp.Do(one, chromedp.SendKeys(chromedp.CSS("#token"), token),
		chromedp.Click(chromedp.CSS(`button[type="submit"]`)), chromedp.WaitVisible(chromedp.CSS("header")))
	cancel()
	if err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	for _, p := range pages {
		if !wanted(p.name, only) {
			continue
		}
		if err := takePage(tab, url, p); err != nil {
			return err
		}
	}
	return nil
}

func takePage(tab context.Context, url string, p page) error {
	theme := "light"
	if p.dark {
		theme = "dark"
	}
	one, cancel := context.WithTimeout(tab, 20*time.Second)
	defer cancel()
	steps := []step{chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`localStorage.setItem("theme", %q)`, theme)),
		chromedp.Navigate(url + p.path), chromedp.WaitVisible(chromedp.CSS(p.await))}
	if err := chromedp.Do(one, append(append(steps, p.do...), chromedp.Sleep(500*time.Millisecond))...); err != nil {
		text, _ := chromedp.Run(tab, chromedp.Evaluate[string]("document.body.innerText"))
		return fmt.Errorf("%s: %w; the page says:\n%s", p.name, err, text)
	}
	picture, err := chromedp.Run(one, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(directory, p.name+".png"), picture, 0o644)
}

// takeTerminals opens each command in a terminal window on a screen that nobody sees.
func takeTerminals(ctx context.Context, url, data string, only []string) error {
	const display = ":87"
	screen := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	if err := screen.Start(); err != nil {
		return err
	}
	defer func() {
		_ = screen.Process.Signal(syscall.SIGTERM)
		_ = screen.Wait()
	}()
	time.Sleep(time.Second)
	environment := append(os.Environ(), "DISPLAY="+display, "PROUDSIEVE_SERVER="+url, "PROUDSIEVE_TOKEN_FILE="+
		filepath.Join(data, "mara-token"))
	for _, t := range terminals {
		if !wanted(t.name, only) {
			continue
		}
		done := filepath.Join(data, t.name+"-done")
		// The window is wider than the screen's letters need, so that no line is broken.
		window := exec.CommandContext(ctx, "xterm", "-fa", "DejaVu Sans Mono", "-fs", "8", "-geometry", "182x58+0+0",
			"-bg", "#fcfaf5", "-fg", "#24221e", "-u8",
			"-e", "bash", "-c", fmt.Sprintf("printf '$ %%s\\n' %q; %s; touch %s; sleep 60", t.command, t.command, done))
		window.Env = environment
		if err := window.Start(); err != nil {
			return err
		}
		for range 600 {
			if _, err := os.Stat(done); err == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		time.Sleep(700 * time.Millisecond)
		shot := exec.CommandContext(ctx, "import", "-window", "root", filepath.Join(directory, t.name+".png"))
		shot.Env = environment
		out, err := shot.CombinedOutput()
		_ = window.Process.Kill()
		_ = window.Wait()
		if err != nil {
			return fmt.Errorf("%s: %w: %s", t.name, err, out)
		}
	}
	return nil
}
