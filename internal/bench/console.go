package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/tracing"
	"github.com/chromedp/chromedp"

	"magpie/client"
)

// demo is the program under test, with its fleet.
type demo struct {
	cmd     *exec.Cmd
	url     string
	control string
	c       *client.Client
}

func startDemo(dir string) (*demo, error) {
	d := &demo{cmd: exec.Command("bin/magpie", "demo", "--listen", "127.0.0.1:0", "--data", dir, "--routers", "12")}
	out, err := d.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := d.cmd.Start(); err != nil {
		return nil, fmt.Errorf("%w; run: make build", err)
	}
	said := ""
	up := regexp.MustCompile(`is up at (http://\S+),`)
	for buf := make([]byte, 4096); d.url == ""; {
		n, err := out.Read(buf)
		if err != nil {
			return nil, fmt.Errorf("the demo did not come up: %s", said)
		}
		if said += string(buf[:n]); up.MatchString(said) {
			d.url = up.FindStringSubmatch(said)[1]
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	raw, err := os.ReadFile(filepath.Join(dir, "fleet", "control.json"))
	if err != nil {
		return nil, err
	}
	var at struct{ URL string }
	if err := json.Unmarshal(raw, &at); err != nil {
		return nil, err
	}
	d.control = at.URL
	d.c = &client.Client{URL: d.url}
	g, err := d.c.Login(context.Background(), client.Login{User: "admin", Password: "demo-admin-1"})
	d.c.Token = g.Token
	return d, err
}

func (d *demo) stop() {
	_ = d.cmd.Process.Signal(os.Interrupt)
	_ = d.cmd.Wait()
}

// amend types lines at a device and pulls it.
func (d *demo) amend(device string, lines []string) error {
	raw, err := json.Marshal(map[string]any{"by": "bench", "lines": lines})
	if err != nil {
		return err
	}
	res, err := http.Post(d.control+"/devices/"+device+"/amend", "application/json", bytes.NewReader(raw))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != 200 {
		said, _ := io.ReadAll(res.Body)
		return fmt.Errorf("simulator: %s", said)
	}
	jobs, err := d.c.Pull(context.Background(), []string{device}, "")
	if err != nil {
		return err
	}
	j, err := d.c.Watch(context.Background(), jobs[0].ID, nil, nil)
	if err == nil && j.Outcome != "done" {
		err = fmt.Errorf("pull: %s", j.Summary)
	}
	return err
}

func do[P, R any](cmd cdp.Command[P, R], params P) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, cmd, params)
		return err
	})
}

// consoleFigures measures the console in a real browser against a real service.
func consoleFigures(dir string) error {
	d, err := startDemo(filepath.Join(dir, "demo"))
	if err != nil {
		return err
	}
	defer d.stop()
	const device = "skerrinsay-r1"
	var lines, changes []string
	for i := range 1000 {
		lines = append(lines, fmt.Sprintf("roster bench%d", i))
		for k := range 100 {
			lines = append(lines, fmt.Sprintf("10.%d.%d.0/24", i%250, k))
		}
		lines = append(lines, "up")
		changes = append(changes, fmt.Sprintf("roster bench%d", i), "10.255.255.0/24", "up")
	}
	for _, l := range [][]string{lines, changes} {
		if err := d.amend(device, l); err != nil {
			return err
		}
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	alloc, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	defer stop()
	ctx, cancel := chromedp.NewContext(alloc)
	defer cancel()
	b := &tab{ctx}
	if err := chromedp.Do(ctx, do(emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{Width: 1280, Height: 800, DeviceScaleFactor: 1}),
		chromedp.Navigate(d.url), chromedp.WaitVisible(`input[name=user]`), chromedp.SendKeys(`input[name=user]`, "admin"), chromedp.SendKeys(`input[name=password]`, "demo-admin-1\r")); err != nil {
		return err
	}
	if err := b.see("wrackhaven-r1"); err != nil {
		return err
	}
	fmt.Println("\nThe console, in headless Chromium on loopback.")
	var first []time.Duration
	for range 5 {
		if err := chromedp.Do(ctx, do(network.ClearBrowserCache, cdp.Empty{}), chromedp.Navigate("about:blank")); err != nil {
			return err
		}
		began := time.Now()
		if err := chromedp.Do(ctx, chromedp.Navigate(d.url)); err != nil {
			return err
		}
		if err := b.see("wrackhaven-r1"); err != nil {
			return err
		}
		first = append(first, time.Since(began))
	}
	script, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`performance.getEntriesByType('resource').filter(r => r.name.endsWith('.js')).reduce((n, r) => n + r.encodedBodySize, 0)`))
	if err != nil {
		return err
	}
	fmt.Printf("%-62s %6.0f ms   (reach: under 1000)\n", "first view usable, cold cache, worst of 5", ms(worst(first)))
	fmt.Printf("%-62s %6.0f KB   (reach: under 250)\n", "script of the first view, compressed", script/1024)
	return scrolling(b, d.url, device)
}

// scrolling opens a comparison of 100,000 lines, scrolls it from end to end and
// reads from the browser's own trace how long its tasks were.
func scrolling(b *tab, url, device string) error {
	if err := chromedp.Do(b.ctx, chromedp.Navigate(url+"/compare?from="+device+"@previous&to="+device+"@latest")); err != nil {
		return err
	}
	if err := b.see("1000 changes"); err != nil {
		return err
	}
	if err := chromedp.Do(b.ctx, chromedp.Click(`//button[contains(., "Unfold")]`)); err != nil {
		return err
	}
	if err := b.until(`document.querySelector('[aria-label=Comparison] > div')?.offsetHeight > 1900000`); err != nil {
		return err
	}
	time.Sleep(time.Second)
	type event struct {
		Name string         `json:"name"`
		Ph   string         `json:"ph"`
		PID  int            `json:"pid"`
		TID  int            `json:"tid"`
		Dur  float64        `json:"dur"` // microseconds
		Args map[string]any `json:"args"`
	}
	var mu sync.Mutex
	var events []event
	complete := make(chan struct{})
	if err := chromedp.Listen(b.ctx, func(ev any) {
		switch e := ev.(type) {
		case *tracing.EventDataCollected:
			mu.Lock()
			defer mu.Unlock()
			for _, raw := range e.Value {
				var one event
				if json.Unmarshal(raw, &one) == nil {
					events = append(events, one)
				}
			}
		case *tracing.EventTracingComplete:
			close(complete)
		}
	}); err != nil {
		return err
	}
	begin := do(tracing.Start, tracing.StartParams{TraceConfig: &tracing.TraceConfig{IncludedCategories: []string{"toplevel", "disabled-by-default-devtools.timeline", "__metadata"}}})
	if err := chromedp.Do(b.ctx, begin); err != nil {
		return err
	}
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => { window.scrolled = false
		const box = document.querySelector('[aria-label=Comparison]'), steps = 300
		let n = 0
		const go = () => { box.scrollTop = box.scrollHeight * ++n / steps; n < steps ? requestAnimationFrame(go) : window.scrolled = true }
		requestAnimationFrame(go); return true })()`)); err != nil {
		return err
	}
	if err := b.until(`window.scrolled`); err != nil {
		return err
	}
	if err := chromedp.Do(b.ctx, do(tracing.End, cdp.Empty{})); err != nil {
		return err
	}
	select {
	case <-complete:
	case <-time.After(30 * time.Second):
		return fmt.Errorf("the browser's trace never ended")
	}
	mu.Lock()
	defer mu.Unlock()
	main := map[[2]int]bool{}
	for _, e := range events {
		if e.Name == "thread_name" && e.Args["name"] == "CrRendererMain" {
			main[[2]int{e.PID, e.TID}] = true
		}
	}
	var longest float64
	tasks, over := 0, 0
	for _, e := range events {
		if !main[[2]int{e.PID, e.TID}] || e.Ph != "X" || !strings.HasSuffix(e.Name, "RunTask") {
			continue
		}
		tasks++
		longest = max(longest, e.Dur/1000)
		if e.Dur > 50_000 {
			over++
		}
	}
	if tasks < 300 {
		return fmt.Errorf("the browser's trace holds only %d tasks", tasks)
	}
	fmt.Printf("%-62s %6.1f ms   (reach: none over 50; %d of %d were)\n", "longest main-thread task, scrolling 100,000 lines", longest, over, tasks)
	return nil
}

// tab is a page in the browser.
type tab struct{ ctx context.Context }

func (b *tab) see(text string) error {
	raw, _ := json.Marshal(text)
	return b.until(`(document.body?.innerText ?? '').includes(` + string(raw) + `)`)
}

func (b *tab) until(expression string) error {
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if ok, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](expression)); err != nil {
			return err
		} else if ok {
			return nil
		}
	}
	return fmt.Errorf("it never came about that %s", expression)
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func worst(all []time.Duration) (most time.Duration) {
	for _, d := range all {
		most = max(most, d)
	}
	return most
}
