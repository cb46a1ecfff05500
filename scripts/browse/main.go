// Command browse signs in at the simulated provider with headless Chromium and
// takes pictures of the pages on the way: for docs/screenshots, and for looking
// at the pages by hand.
//
//	tidy-courier obtain pilot-desk --browser browse
//
// REFUSE=1 refuses; PAGES names the folder for pictures of the pages.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

func main() {
	if err := browse(os.Args[len(os.Args)-1]); err != nil {
		fmt.Fprintln(os.Stderr, "browse:", err)
		os.Exit(1)
	}
}

func browse(url string) error {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), opts...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	if err := chromedp.Do(ctx); err != nil {
		return err
	}
	ctx, cancel = context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	css := func(s string) chromedp.CSS { return chromedp.CSS(s) }
	act := "agree"
	if os.Getenv("REFUSE") != "" {
		act = "refuse"
	}
	err := chromedp.Do(ctx, chromedp.Navigate(url), chromedp.WaitVisible(css("#u")), chromedp.SetValue(css("#u"), "pilot"), chromedp.SetValue(css("#p"), "high-water-77"),
		chromedp.Click(css("button[value=signin]")), chromedp.WaitVisible(css("button[value=agree]")))
	if err != nil {
		return err
	}
	if err := picture(ctx, "consent", act); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.Click(css("button[value="+act+"]"))); err != nil {
		return err
	}
	for range 50 {
		if title, err := chromedp.Run(ctx, chromedp.Title()); err == nil && strings.Contains(title, "Tidy Courier") {
			return picture(ctx, "landing", act)
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("the landing page did not come")
}

// picture is taken of the agreeing run only.
func picture(ctx context.Context, name, act string) error {
	dir := os.Getenv("PAGES")
	if dir == "" || act != "agree" {
		return nil
	}
	raw, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, name+".png"), raw, 0o644)
}
