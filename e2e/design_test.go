package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"net/http"
	"os"
	"os/exec"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"

	"magpie/internal/port"
)

// TestDesign looks at the page of all components, light and dark, on a desk and on a
// phone: nothing is clipped, nothing is without a name, and each looks as it did when
// its picture was last kept, but for what fonts and clocks make of it. After a change
// that is meant: MAGPIE_UPDATE=1 go test ./e2e -run TestDesign
func TestDesign(t *testing.T) {
	t.Parallel()
	port := must(port.Free())(t)
	dev := exec.Command("npx", "vite", "--port", fmt.Sprint(port), "--host", "127.0.0.1", "--strictPort")
	dev.Dir = "../console"
	dev.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := dev.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Kill(-dev.Process.Pid, syscall.SIGKILL); _ = dev.Wait() })
	at := fmt.Sprintf("http://127.0.0.1:%d", port)
	eventually(t, "the development server is up", func() bool {
		res, err := http.Get(at + "/design.html")
		if err != nil {
			return false
		}
		return res.Body.Close() == nil && res.StatusCode == 200
	})
	b := newBrowser(t, at)
	b.allows("ws:") // by which the server says what was saved
	b.open("/design.html")
	b.see("ModalDialog, SideDrawer")

	const kept = "testdata/design.json"
	pictures, now := map[string][][]int{}, map[string][][]int{}
	if raw, err := os.ReadFile(kept); err == nil {
		if err := json.Unmarshal(raw, &pictures); err != nil {
			t.Fatal(err)
		}
	}
	for _, wide := range []int64{1280, 390} {
		for _, theme := range []string{"light", "dark"} {
			b.size(wide, 3200, theme)
			eventually(t, "the page is drawn in its size", func() bool { return js[bool](b, `document.querySelector('[role=row][data-index]') !== null`) })
			for _, x := range b.clipped() {
				t.Errorf("%d wide, %s: %s", wide, theme, x)
			}
			for name, grid := range b.samples() {
				name = fmt.Sprintf("%s, %d wide, %s", name, wide, theme)
				now[name] = grid
				if off := differs(pictures[name], grid); off > 9 && os.Getenv("MAGPIE_UPDATE") == "" {
					t.Errorf("%s looks otherwise than it did, by %.1f of 255", name, off)
				}
			}
		}
	}
	if none := b.nameless(); len(none) > 0 {
		t.Errorf("controls without a name: %v", none)
	}
	for _, kind := range []string{"dialog", "drawer"} {
		b.click("Open a " + kind)
		b.do(chromedp.WaitVisible(`[role=dialog]`, often))
		b.do(chromedp.Click(`[role=dialog] [aria-label=Close]`, often))
		b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))
	}
	if os.Getenv("MAGPIE_UPDATE") != "" {
		raw, err := json.Marshal(now)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(kept, append(bytes.ReplaceAll(raw, []byte(`]],"`), []byte("]],\n\"")), '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	// What is built into the program does not have it.
	for _, gone := range []string{"../console/dist/design.html"} {
		if _, err := os.Stat(gone); err == nil {
			t.Errorf("%s is served to users", gone)
		}
	}
}

// coarse is the side of the squares, in pixels, whose mean brightness a picture is kept as.
const coarse = 24

// samples takes a picture of each sample on the page, and makes it coarse.
func (b *browser) samples() map[string][][]int {
	b.t.Helper()
	type box struct {
		Name       string
		X, Y, W, H float64
	}
	boxes := js[[]box](b, `[...document.querySelectorAll('[data-sample]')].map(e => { const r = e.getBoundingClientRect(); return {Name: e.dataset.sample, X: r.x, Y: r.y, W: r.width, H: r.height} })`)
	raw, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		b.t.Fatal(err)
	}
	pic, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		b.t.Fatal(err)
	}
	out := map[string][][]int{}
	for _, x := range boxes {
		at := image.Rect(int(x.X), int(x.Y), int(x.X+x.W), int(x.Y+x.H)).Intersect(pic.Bounds())
		for y := at.Min.Y; y+coarse <= at.Max.Y; y += coarse {
			var row []int
			for c := at.Min.X; c+coarse <= at.Max.X; c += coarse {
				sum := 0
				for dy := range coarse {
					for dx := range coarse {
						sum += int(color.GrayModel.Convert(pic.At(c+dx, y+dy)).(color.Gray).Y)
					}
				}
				row = append(row, sum/(coarse*coarse))
			}
			out[x.Name] = append(out[x.Name], row)
		}
	}
	return out
}

// differs tells by how much two coarse pictures do, on the mean of their squares.
func differs(a, b [][]int) float64 {
	if len(a) == 0 || math.Abs(float64(len(a)-len(b))) > 2 {
		return 255
	}
	sum, n := 0.0, 0
	for y := range min(len(a), len(b)) {
		for x := range min(len(a[y]), len(b[y])) {
			sum += math.Abs(float64(a[y][x] - b[y][x]))
			n++
		}
	}
	return sum / float64(max(n, 1))
}
