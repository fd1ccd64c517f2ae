package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// browsers are the names under which Debian and others install Chromium.
var browsers = []string{"chromium", "chromium-browser", "google-chrome"}

const printingMost = 2 * time.Minute

// savePage saves a page as HTML, or as PDF where the name of the file says so: that one Chromium prints, which must be there.
func savePage(ctx context.Context, path string, write func(io.Writer) error) error {
	if !strings.EqualFold(filepath.Ext(path), ".pdf") {
		return save(path, func(f *os.File) error { return write(f) })
	}
	var browser string
	for _, name := range browsers {
		if found, err := exec.LookPath(name); err == nil {
			browser = found
			break
		}
	}
	if browser == "" {
		return errors.New("a PDF is printed by Chromium, which is not here: install Debian's package chromium, or save the page as HTML")
	}
	dir, err := os.MkdirTemp("", "page")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	page, printed := filepath.Join(dir, "page.html"), filepath.Join(dir, "page.pdf")
	if err := save(page, func(f *os.File) error { return write(f) }); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, printingMost)
	defer cancel()
	arguments := []string{"--headless", "--disable-gpu", "--no-first-run", "--no-pdf-header-footer", "--user-data-dir=" + filepath.Join(dir, "profile"), "--print-to-pdf=" + printed, "file://" + page}
	if os.Geteuid() == 0 {
		arguments = append([]string{"--no-sandbox"}, arguments...) // Chromium refuses to start as root otherwise
	}
	out, err := exec.CommandContext(ctx, browser, arguments...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s could not print the page: %w\n%s", browser, err, out)
	}
	in, err := os.Open(printed)
	if err != nil {
		return fmt.Errorf("%s printed nothing: %w\n%s", browser, err, out)
	}
	defer in.Close()
	return save(path, func(f *os.File) error {
		_, err := io.Copy(f, in)
		return err
	})
}
