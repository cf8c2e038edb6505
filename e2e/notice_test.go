package e2e

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/port"
	"magpie/internal/sim/tern"
)

// metric is what an instance's /metrics says of one; 0: nothing.
func metric(t testing.TB, url, name string) (n int) {
	t.Helper()
	res := must(http.Get(url + "/metrics"))(t)
	defer res.Body.Close()
	for _, l := range strings.Split(string(must(io.ReadAll(res.Body))(t)), "\n") {
		if rest, ok := strings.CutPrefix(l, name+" "); ok {
			fmt.Sscan(rest, &n)
		}
	}
	return n
}

// TestNotifications: a firewall that tells of changes by NETCONF is heard by one of two
// instances, and by the other once that died; what it tells leads to a pull with the author that
// it names.
func TestNotifications(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	if err := w.admin.RemoveDevice(ctx(t), "port-asterly-f1"); err != nil {
		t.Fatal(err)
	}
	w.pull(f1)
	second, other := w.another()
	open := func(url string) int { return metric(t, url, `magpie_notification_sessions{state="open"}`) }
	eventually(t, "one of them hears it", func() bool { return open(w.url)+open(second.URL) == 1 && w.fleet.status(f1).Sessions == 1 })
	told := func(words, by string, c *client.Client, n int) {
		t.Helper()
		w.fleet.amend(f1, by, outsideSays(words))
		eventually(t, "it is pulled", func() bool {
			w.sql("UPDATE notices SET first_at = first_at - INTERVAL 40 SECOND, last_at = last_at - INTERVAL 40 SECOND")
			v := must(c.Versions(ctx(t), f1, "running", 0, 1))(t)[0]
			return v.Number == n && v.Author == by && v.Reason == "change trigger"
		})
	}
	told("to the ferries", "mwilks", w.admin, 2)
	left := second
	if open(w.url) == 1 {
		w.kill()
	} else {
		other.kill()
		left = w.admin
	}
	eventually(t, "the other one hears it", func() bool { return open(left.URL) == 1 })
	told("to the quay", "okonkwo", left, 3)
}

// TestChangeNotices: a device that says by syslog that it was changed is pulled once it is
// quiet about it, by UDP and by TCP, in either form; a storm costs one pull; who is no
// device of ours is counted.
func TestChangeNotices(t *testing.T) {
	t.Parallel()
	port := must(port.Free())(t)
	w := newWorld(t, 2, func(w *world) { w.extra = append(w.extra, "--syslog", fmt.Sprintf("127.0.0.1:%d", port)) })
	names := []string{w.fleet.places[0].Name, w.fleet.places[1].Name}
	for _, n := range names {
		w.pull(n)
	}
	dial := func(network, from string) net.Conn {
		t.Helper()
		var local net.Addr = &net.UDPAddr{IP: net.ParseIP(from)}
		if network == "tcp" {
			local = &net.TCPAddr{IP: net.ParseIP(from)}
		}
		c, err := (&net.Dialer{LocalAddr: local}).Dial(network, fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		return c
	}
	heard := func(what string) int { return metric(t, w.url, `magpie_syslog_messages_total{what="`+what+`"}`) }
	quiet := func() {
		w.sql("UPDATE notices SET first_at = first_at - INTERVAL 40 SECOND, last_at = last_at - INTERVAL 40 SECOND")
	}
	noticed := func(device string) []client.Job {
		return must(w.admin.Jobs(ctx(t), client.JobFilter{Actor: "change trigger", Device: device}))(t).Items
	}

	w.fleet.amend(names[0], "mwilks", "lane quay1", `note "on the quay"`)
	udp := dial("udp", w.fleet.places[0].Address)
	for range 500 {
		fmt.Fprintf(udp, "<190>1 2026-11-26T10:00:00Z %s chart - - - amended by mwilks from seat 3", names[0])
	}
	fmt.Fprintf(udp, "<190>1 2026-11-26T10:00:00Z %s lanes - - - quay1 is up", names[0])
	fmt.Fprint(dial("udp", "127.0.0.1"), "<190>1 2026-11-26T10:00:00Z nobody chart - - - amended by nobody")
	eventually(t, "all are heard", func() bool {
		return heard("notice") > 400 && heard("other") == 1 && heard("unknown sender") == 1
	})
	if n := len(noticed(names[0])); n != 0 {
		t.Errorf("%d pulls while it is not quiet", n)
	}
	time.Sleep(1200 * time.Millisecond) // what came within the second after the first is written down
	quiet()
	eventually(t, "it is pulled", func() bool { j := noticed(names[0]); return len(j) == 1 && j[0].State == "ended" })
	if v := w.versions(names[0])[0]; v.Number != 2 || v.Reason != "change trigger" || v.Author != "mwilks" {
		t.Errorf("%+v", v)
	}

	// By TCP, counted and by lines; the device is away meanwhile, and says who itself.
	tcp := dial("tcp", w.fleet.places[1].Address)
	old := "<190>Nov 26 10:00:00 " + names[1] + " chart: stowed by okonkwo"
	fmt.Fprintf(tcp, "%d %s%s\n", len(old), old, old)
	eventually(t, "it is noted", func() bool { return heard("notice") > 401 })
	time.Sleep(1200 * time.Millisecond) // as above
	quiet()
	eventually(t, "it is pulled", func() bool { j := noticed(names[1]); return len(j) == 1 && j[0].State == "ended" })
	if n := len(w.versions(names[1])); n != 1 {
		t.Errorf("nothing changed, and there are %d versions", n)
	}

	// Said by a program; and the service dies before it is quiet.
	if out, said, status := w.cli("trigger", names[1], "--author", "okonkwo"); status != 0 {
		t.Errorf("status %d: %s%s", status, out, said)
	}
	if _, said, status := w.cli("trigger", "nosuch"); status != 2 || !strings.Contains(said, "nosuch") {
		t.Errorf("status %d: %s", status, said)
	}
	w.fleet.faults(names[1], tern.Faults{})
	w.kill()
	w.serve()
	quiet()
	eventually(t, "it is pulled after the service died", func() bool { return len(noticed(names[1])) == 2 })
}

// TestNoticeStorm: two thousand messages a second (for ten seconds; for a minute with make
// test-matrix), by TLS, TCP and UDP, of three
// devices and of strangers: none that comes by a stream is lost, each device is pulled once per
// quiet time at most, and the service's memory stays as it was.
func TestNoticeStorm(t *testing.T) {
	t.Parallel()
	port, secured := must(port.Free())(t), must(port.Free())(t)
	w := newWorld(t, 3, func(w *world) {
		w.extra, w.env = append(w.extra, "--syslog", fmt.Sprintf("127.0.0.1:%d", port)), append(w.env, "GOGC=")
	})
	second := start(w.top, append(os.Environ(), "MAGPIE_DATABASE="+w.dsn, "MAGPIE_MASTER_KEY_FILE="+filepath.Join(w.dir, "data", "master.key")),
		"serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(w.dir, "second"), "--tls-self", "--syslog-tls", fmt.Sprintf("127.0.0.1:%d", secured))
	other := second.waitFor(regexp.MustCompile(`up at (https://\S+)`))
	for _, p := range w.fleet.places {
		w.pull(p.Name)
	}
	memory := func() (kib int) {
		raw := must(os.ReadFile(fmt.Sprintf("/proc/%d/status", w.proc.cmd.Process.Pid)))(t)
		for line := range strings.Lines(string(raw)) {
			if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
				fmt.Sscan(rest, &kib)
			}
		}
		return kib
	}
	seconds := 10
	if os.Getenv("MAGPIE_MATRIX") == "all" { // the whole minute
		seconds = 60
	}
	each, measured := 500, true         // a second, of each of four senders
	if os.Getenv("MAGPIE_RACE") != "" { // a program that looks for races takes ten times the CPU, and its memory says nothing
		each, measured = 100, false
	}
	var all sync.WaitGroup
	send := func(network, from string, to int) {
		t.Helper()
		dialer := &net.Dialer{}
		if network == "udp" {
			dialer.LocalAddr = &net.UDPAddr{IP: net.ParseIP(from)}
		} else {
			dialer.LocalAddr = &net.TCPAddr{IP: net.ParseIP(from)}
		}
		c, err := dialer.Dial(strings.TrimSuffix(network, "+tls"), fmt.Sprintf("127.0.0.1:%d", to))
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(network, "+tls") {
			c = tls.Client(c, &tls.Config{InsecureSkipVerify: true})
		}
		all.Go(func() {
			defer c.Close()
			tick := time.NewTicker(time.Second / 10)
			defer tick.Stop()
			m := "<190>1 2026-11-26T10:00:00Z x chart - - - amended by mwilks from seat 3"
			one := []byte(fmt.Sprintf("%d %s", len(m), m))
			if network == "udp" {
				one = []byte(m)
			}
			for range seconds * 10 {
				<-tick.C
				for range each / 10 {
					if _, err := c.Write(one); err != nil {
						t.Errorf("%s from %s: %v", network, from, err)
						return
					}
				}
			}
		})
	}
	var before int
	time.AfterFunc(time.Duration(seconds)*time.Second/4, func() { before = memory() })
	send("tcp", w.fleet.places[0].Address, port)
	send("tcp+tls", w.fleet.places[1].Address, secured)
	send("udp", w.fleet.places[2].Address, port)
	send("udp", "127.0.0.9", port)
	all.Wait()
	open := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	heard := func(url, what string) (n int) {
		res := must(open.Get(url + "/metrics"))(t)
		defer res.Body.Close()
		for _, l := range strings.Split(string(must(io.ReadAll(res.Body))(t)), "\n") {
			if rest, ok := strings.CutPrefix(l, `magpie_syslog_messages_total{what="`+what+`"} `); ok {
				var x float64
				fmt.Sscan(rest, &x)
				n = int(x)
			}
		}
		return n
	}
	eventually(t, "every message of a stream is heard", func() bool {
		return heard(w.url, "notice") >= seconds*each && heard(other, "notice") == seconds*each
	})
	if after := memory(); measured && before == 0 || measured && after > before+before/4+32<<10 {
		t.Errorf("it held %d KiB after a quarter of the time and %d KiB after", before, after)
	}
	if n := heard(w.url, "unknown sender"); n < seconds*each/2 {
		t.Errorf("%d messages of strangers are counted", n)
	}
	pulls := func() (n map[string]int) {
		n = map[string]int{}
		for _, j := range must(w.admin.Jobs(ctx(t), client.JobFilter{Actor: "change trigger", Limit: 100}))(t).Items {
			n[j.Device]++
		}
		return n
	}
	for device, n := range pulls() {
		if n > 1 {
			t.Errorf("%s was pulled %d times in a minute of noise", device, n)
		}
	}
	time.Sleep(1200 * time.Millisecond) // the last second's are written down
	w.sql("UPDATE notices SET first_at = first_at - INTERVAL 40 SECOND, last_at = last_at - INTERVAL 40 SECOND")
	eventually(t, "each is pulled", func() bool { return len(pulls()) == 3 })
	for device, n := range pulls() {
		if n > 2 {
			t.Errorf("%s was pulled %d times", device, n)
		}
	}
	for _, p := range w.fleet.places {
		if v := w.versions(p.Name); len(v) != 1 {
			t.Errorf("nothing changed on %s, and there are %d versions", p.Name, len(v))
		}
	}
}
