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
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/lib/chromium/chromium-headless-shell"), chromedp.NoSandbox, chromedp.DisableGPU,
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
	if err := live(d, b, device); err != nil {
		return err
	}
	return long(d, b, device)
}

// live measures how long it takes until a browser shows what was written elsewhere.
func live(d *demo, b *tab, device string) error {
	if err := chromedp.Do(b.ctx, chromedp.Navigate(d.url+"/devices/"+device)); err != nil {
		return err
	}
	if err := b.see("Timeline"); err != nil {
		return err
	}
	var all []time.Duration
	for i := range 10 {
		name := fmt.Sprintf("seen-%d", i)
		began := time.Now()
		if _, err := d.c.SetMark(context.Background(), device+"@1", client.Mark{Name: &name}); err != nil {
			return err
		}
		if err := b.see(name); err != nil {
			return err
		}
		all = append(all, time.Since(began))
	}
	fmt.Printf("%-62s %6.0f ms   (reach: under 1000)\n", "a change on the server visible in a browser, worst of 10", ms(worst(all)))
	return nil
}

// long opens and scrolls what is longest: comparisons of 100,000 lines in each form, 10,000 versions,
// 10,000 devices.
func long(d *demo, b *tab, device string) error {
	text, err := d.c.Text(context.Background(), device+"@latest")
	if err != nil {
		return err
	}
	other, err := d.c.Edit(context.Background(), client.NewVersion{Ref: device + "@latest", Text: strings.ReplaceAll(text.Text, "  10.", "  172."), Note: "another in each line"})
	if err != nil {
		return err
	}
	for _, x := range []struct{ form, shows, what, query string }{
		{"unified", "1000 changes", "1,000 of 100,000 lines", "from=" + device + "@previous&to=" + device + "@latest"},
		{"beside", "1000 changes", "1,000 of 100,000 lines", "from=" + device + "@previous&to=" + device + "@latest"},
		{"entries", "1000 entries", "1,000 of 100,000 lines", "from=" + device + "@previous&to=" + device + "@latest"},
		{"unified", "101004 removed", "all of 100,000 lines", "from=" + device + "@latest&to=" + other.Ref},
		{"beside", "101004 removed", "all of 100,000 lines", "from=" + device + "@latest&to=" + other.Ref},
		{"entries", "202008 entries", "all of 100,000 lines", "from=" + device + "@latest&to=" + other.Ref},
	} {
		if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(localStorage.setItem('compare as', '`+x.form+`'), true)`)); err != nil {
			return err
		}
		// From a page of the console, and by its address, where the console itself has to come first.
		var opened, cold []time.Duration
		for range 3 {
			if err := chromedp.Do(b.ctx, chromedp.Navigate("about:blank")); err != nil {
				return err
			}
			began := time.Now()
			if err := chromedp.Do(b.ctx, chromedp.Navigate(d.url+"/compare?"+x.query)); err != nil {
				return err
			}
			if err := b.see(x.shows); err != nil {
				return err
			}
			cold = append(cold, time.Since(began))
			if err := chromedp.Do(b.ctx, chromedp.Navigate(d.url+"/jobs")); err != nil {
				return err
			}
			if err := b.see("Jobs"); err != nil {
				return err
			}
			time.Sleep(time.Second) // what the page loads has come
			raw, _ := json.Marshal("/compare?" + x.query)
			began = time.Now()
			if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(history.pushState({}, '', `+string(raw)+`), dispatchEvent(new PopStateEvent('popstate', { state: {} })))`)); err != nil {
				return err
			}
			if err := b.see(x.shows); err != nil {
				return err
			}
			opened = append(opened, time.Since(began))
		}
		fmt.Printf("%-62s %6.0f ms   (reach: under 1000; by its address %.0f)\n", x.what+" differ, "+x.form+", opened, worst of 3", ms(worst(opened)), ms(worst(cold)))
		pane := `document.querySelector('[aria-label=Comparison]')`
		if x.form == "entries" {
			pane = `document.querySelector('[aria-label=Entries]')`
		} else if x.what == "1,000 of 100,000 lines" {
			if err := chromedp.Do(b.ctx, chromedp.Click(`//button[contains(., "Unfold")]`)); err != nil {
				return err
			}
			if err := b.until(pane + `?.firstElementChild?.offsetHeight > 1900000`); err != nil {
				return err
			}
		}
		if err := scrolling(b, pane, "  and scrolled, the longest main-thread task"); err != nil {
			return err
		}
	}

	const small = "skerrinsay-p1"
	if text, err = d.c.Text(context.Background(), small+"@latest"); err != nil {
		return err
	}
	if err := many(10_000, func(i int) error {
		_, err := d.c.Edit(context.Background(), client.NewVersion{Ref: small + "@1", Text: strings.Replace(text.Text, "every 60", fmt.Sprintf("every %d", 61+i), 1), Note: fmt.Sprintf("bench %d", i)})
		return err
	}); err != nil {
		return err
	}
	if err := chromedp.Do(b.ctx, chromedp.Navigate(d.url+"/devices/"+small)); err != nil {
		return err
	}
	const grid = `document.querySelector('[role=grid]')?.parentElement`
	if err := b.until(`(` + grid + `?.scrollHeight ?? 0) > 300000`); err != nil {
		return err
	}
	if err := scrolling(b, grid, "longest main-thread task, 10,000 versions"); err != nil {
		return err
	}

	key, err := d.c.Probe(context.Background(), "", must(d.c.Device(context.Background(), device)).Address, 2222)
	if err != nil {
		return err
	}
	for batch := range 20 {
		var in client.NewDevices
		for i := range 500 {
			n, site := batch*500+i, fmt.Sprintf("isle-%d", i%40)
			in.Devices = append(in.Devices, client.NewDevice{Name: fmt.Sprintf("bench-%05d", n), Address: fmt.Sprintf("198.18.%d.%d", n/250, n%250+1), Dialect: "tern", Site: &site,
				HostKey: key.HostKey, User: "bench", Password: "bench"})
		}
		if out, err := d.c.Import(context.Background(), in); err != nil || len(out.Bad) > 0 {
			return fmt.Errorf("adding devices: %v %+v", err, out.Bad)
		}
	}
	if err := chromedp.Do(b.ctx, chromedp.Navigate(d.url)); err != nil {
		return err
	}
	if err := b.until(`(` + grid + `?.scrollHeight ?? 0) > 330000`); err != nil {
		return err
	}
	return scrolling(b, grid, "longest main-thread task, 10,000 devices")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// many does something so often, some of it at once.
func many(n int, do func(i int) error) error {
	var all sync.WaitGroup
	var mu sync.Mutex
	var wrong error
	next := make(chan int)
	for range 6 {
		all.Go(func() {
			for i := range next {
				if err := do(i); err != nil {
					mu.Lock()
					wrong = err
					mu.Unlock()
				}
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	all.Wait()
	return wrong
}

// scrolling scrolls something from end to end and reads from the browser's own trace how
// long its tasks were.
func scrolling(b *tab, box, what string) error {
	time.Sleep(2 * time.Second) // what was loaded settles
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
	ended := sync.OnceFunc(func() { close(complete) }) // who listened to an earlier trace hears of this one too
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
			ended()
		}
	}); err != nil {
		return err
	}
	begin := do(tracing.Start, tracing.StartParams{TraceConfig: &tracing.TraceConfig{IncludedCategories: []string{"toplevel", "disabled-by-default-devtools.timeline", "__metadata"}}})
	if err := chromedp.Do(b.ctx, begin); err != nil {
		return err
	}
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => { window.scrolled = false
		const box = `+box+`, steps = 300
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
	fmt.Printf("%-62s %6.1f ms   (reach: none over 50; %d of %d were)\n", what, longest, over, tasks)
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
