// Package browser finds and starts headless Chromium for the console's tests and
// for the pictures in docs/screenshots.
package browser

import (
	"context"
	"errors"
	"os"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Width and Height are those of the window.
const (
	Width  = 1280
	Height = 800
)

// ErrNotInstalled says that Chromium is not on this machine.
var ErrNotInstalled = errors.New("chromium is not installed; install it with: apt-get install chromium")

// Start starts Chromium with a profile of its own, which cancel removes. Nothing of
// it goes out to the network.
func Start(ctx context.Context) (context.Context, context.CancelFunc, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrNotInstalled
	}
	profile, err := os.MkdirTemp("", "proudsieve-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.WindowSize(Width, Height),
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-prefers-reduced-motion", true))
	allocated, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(allocated)
	return tab, func() {
		stopTab()
		stopAllocator()
		_ = os.RemoveAll(profile)
	}, nil
}
