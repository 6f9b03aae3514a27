// Package browser drives a headless Chromium, for the tests of the console and
// for the pictures of the documents.
package browser

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/chromedp/chromedp"
)

// Width and Height are the size of the window, in CSS pixels.
const (
	Width  = 1280
	Height = 800
)

// Start starts a Chromium with an empty profile that asks nothing of the network
// by itself, and returns a context for chromedp's actions. Stop ends it.
func Start(ctx context.Context) (_ context.Context, stop func(), err error) {
	program, err := find()
	if err != nil {
		return nil, nil, err
	}
	profile, err := os.MkdirTemp("", "lantern-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.UserDataDir(filepath.Join(profile, "profile")),
		chromedp.NoSandbox, chromedp.WindowSize(Width, Height),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"))
	allocated, stopAllocated := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(allocated)
	return tab, func() {
		stopTab()
		stopAllocated()
		os.RemoveAll(profile)
	}, nil
}

func find() (string, error) {
	for _, name := range []string{"chromium", "chromium-browser"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", errors.New("there is no chromium in PATH; make chromium installs it")
}
