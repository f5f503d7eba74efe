package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// shot PATH OUT [WIDTH] [js;js...]
func main() {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("no-proxy-server", true), chromedp.Flag("force-device-scale-factor", "1"), chromedp.Flag("font-render-hinting", "none"))
	alloc, c1 := chromedp.NewExecAllocator(context.Background(), options...)
	defer c1()
	ctx, c2 := chromedp.NewContext(alloc)
	defer c2()
	ctx, c3 := context.WithTimeout(ctx, 40*time.Second)
	defer c3()
	w := 1280
	if len(os.Args) > 3 {
		w, _ = strconv.Atoi(os.Args[3])
	}
	var png []byte
	acts := []chromedp.Action{chromedp.ActionFunc(func(ctx context.Context) error {
		if err := emulation.SetDeviceMetricsOverride(int64(w), 800, 1, false).Do(ctx); err != nil {
			return err
		}
		emulation.SetFocusEmulationEnabled(true).Do(ctx)
		return page.BringToFront().Do(ctx)
	}), chromedp.Navigate("http://127.0.0.1:8420" + os.Args[1]), chromedp.WaitReady("#main"), chromedp.Sleep(600 * time.Millisecond)}
	for _, a := range os.Args[min(4, len(os.Args)):] {
		switch {
		case strings.HasPrefix(a, "key:"):
			acts = append(acts, chromedp.KeyEvent(strings.TrimPrefix(a, "key:")))
		case strings.HasPrefix(a, "click:"):
			acts = append(acts, chromedp.Click(strings.TrimPrefix(a, "click:"), chromedp.ByQuery))
		case strings.HasPrefix(a, "shot:"):
			f := strings.TrimPrefix(a, "shot:")
			acts = append(acts, chromedp.ActionFunc(func(ctx context.Context) error {
				var b []byte
				if err := chromedp.CaptureScreenshot(&b).Do(ctx); err != nil {
					return err
				}
				return os.WriteFile(f, b, 0o644)
			}))
		default:
			var out any
			acts = append(acts, chromedp.Evaluate(a, &out), chromedp.ActionFunc(func(context.Context) error { fmt.Println(out); return nil }))
		}
		acts = append(acts, chromedp.Sleep(500*time.Millisecond))
	}
	acts = append(acts, chromedp.CaptureScreenshot(&png))
	if err := chromedp.Run(ctx, acts...); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	os.WriteFile(os.Args[2], png, 0o644)
}
