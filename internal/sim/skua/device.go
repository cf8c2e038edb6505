// Package skua simulates the Skua family of wireless controllers: RESTCONF
// (RFC 8040) over HTTPS, JSON settings whole or only where they differ from the
// defaults, and access points that are spoken to through the controller.
//
// An import is a task that has to be asked after; once it is done the
// controller restarts, and its access points wait to be taken back in. A file
// of one mesh role does not go to a unit of the other.
package skua

import (
	"bytes"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"crypto/tls"

	"magpie/internal/sim/box"
)

// Member is an access point.
type Member struct {
	Name    string         `json:"name"`
	Serial  string         `json:"serial"`
	Joined  bool           `json:"joined"`
	Options map[string]any `json:"options"`
}

// Device is one simulated controller.
type Device struct {
	box.Base
	settings map[string]any
	members  []*Member
	revision int
	factory  bool
	tasks    []task
	sessions box.Sessions
	mu       sync.Mutex
}

type task struct {
	begun   time.Time
	trouble string
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Serial string
	Settings     map[string]any
	Members      []*Member
	Revision     int
	Factory      bool
	Faults       box.Faults
}

// defaults are what a differences-only export leaves out.
var defaults = map[string]any{"role": "lead", "beacon": 100.0, "power": "auto", "band": "both"}

// New makes a controller with its settings, as JSON, and access points.
func New(name, serial, settings string, members []*Member) (*Device, error) {
	var m map[string]any
	if err := json.Unmarshal([]byte(settings), &m); err != nil {
		return nil, fmt.Errorf("settings of %s: %w", name, err)
	}
	if err := check(m); err != nil {
		return nil, fmt.Errorf("settings of %s: %w", name, err)
	}
	return Restore(State{Name: name, Serial: serial, Settings: m, Members: members, Revision: 1})
}

// Restore makes a controller from kept state.
func Restore(s State) (*Device, error) {
	d := &Device{settings: s.Settings, members: s.Members, revision: s.Revision, factory: s.Factory}
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = s.Name, s.Serial, "Skua W8", "5.2"
	d.Base.SetFaults(s.Faults)
	return d, nil
}

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return json.Marshal(State{d.Name, d.Serial, d.settings, d.members, d.revision, d.factory, f})
}

// Status returns what the control port shows.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("skua")
	st.Sessions, st.Factory = d.sessions.Count(), d.factory
	raw, _ := json.MarshalIndent(d.settings, "", " ")
	st.Running = strings.Split(string(raw), "\n")
	for _, m := range d.members {
		st.Files = append(st.Files, fmt.Sprintf("%s joined=%v", m.Name, m.Joined))
	}
	return st
}

// Amend sets members of the settings: "power low", or a whole value as JSON:
// `network [{...}]`; "member NAME OPTION VALUE" sets one of an access point's.
func (d *Device) Amend(_ string, lines []string) error {
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	for _, l := range lines {
		key, value, ok := strings.Cut(l, " ")
		if !ok {
			return fmt.Errorf("%q is not understood", l)
		}
		if key == "member" {
			w := strings.SplitN(value, " ", 3)
			m := d.member(w[0])
			if m == nil || len(w) < 3 {
				return fmt.Errorf("%q is not understood", l)
			}
			m.Options[w[1]] = plain(w[2])
			continue
		}
		next := maps.Clone(d.settings)
		next[key] = plain(value)
		if err := check(next); err != nil {
			return err
		}
		d.settings = next
		d.revision++
	}
	return nil
}

func plain(s string) any {
	var v any
	if json.Unmarshal([]byte(s), &v) == nil {
		return v
	}
	return s
}

// Stow does nothing: what runs is what is kept.
func (d *Device) Stow() int { return 0 }

// Restart takes the controller down and up; its access points wait afterwards.
func (d *Device) Restart() {
	d.sessions.Close("")
	d.Lock()
	d.Restarts++
	for _, m := range d.members {
		m.Joined = false
	}
	d.Unlock()
	d.Env.Changed()
	d.Env.Restarted()
}

// FactorySettings are those of a controller that nobody has set up.
const FactorySettings = `{"name":"skua","keeper":[{"name":"yard","word":"yard"}]}`

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(serial string, lines []string) error {
	src := FactorySettings
	if lines != nil {
		src = strings.Join(lines, "\n")
	}
	var m map[string]any
	if err := json.Unmarshal([]byte(src), &m); err != nil {
		return err
	}
	d.Lock()
	d.Serial, d.settings, d.factory, d.revision = serial, m, lines == nil, 1
	if lines == nil {
		d.members = nil
	}
	d.Unlock()
	d.sessions.Close("")
	d.Env.Changed()
	return nil
}

// Reset takes the controller back to factory settings.
func (d *Device) Reset(string) error {
	d.Lock()
	serial := d.Serial
	d.Unlock()
	return d.Replace(serial, nil)
}

func (d *Device) member(name string) *Member {
	i := slices.IndexFunc(d.members, func(m *Member) bool { return m.Name == name })
	if i < 0 {
		return nil
	}
	return d.members[i]
}

// check tells what is wrong with settings.
func check(m map[string]any) error {
	if s, _ := m["name"].(string); s == "" {
		return fmt.Errorf("name: a controller cannot be without its name")
	}
	if r, ok := m["role"]; ok && r != "lead" && r != "follow" {
		return fmt.Errorf("role: is lead or follow")
	}
	if b, ok := m["beacon"].(float64); ok && (b < 20 || b > 1000) {
		return fmt.Errorf("beacon: %v is not from 20 to 1000", b)
	}
	nets, _ := m["network"].([]any)
	for _, n := range nets {
		o, _ := n.(map[string]any)
		if s, _ := o["ssid"].(string); s == "" {
			return fmt.Errorf("network: one has no ssid")
		}
		if o["security"] == "key" {
			if k, _ := o["key"].(string); len(k) < 8 {
				return fmt.Errorf("network %v: a key has eight characters at least", o["ssid"])
			}
		}
	}
	return nil
}

// document is the settings, with the defaults or without them.
func (d *Device) document(all, weak bool) []byte {
	out := map[string]any{}
	for k, v := range d.settings {
		if !all && defaults[k] == v {
			continue
		}
		if weak && k == "keeper" {
			continue
		}
		out[k] = v
	}
	if all {
		for k, v := range defaults {
			if _, ok := out[k]; !ok {
				out[k] = v
			}
		}
	}
	raw, _ := json.Marshal(map[string]any{"skua-wireless:settings": out})
	return raw
}

func (d *Device) etag() string { return fmt.Sprintf(`"r%d"`, d.revision) }

func (d *Device) word(user string) string {
	ks, _ := d.settings["keeper"].([]any)
	for _, k := range ks {
		if o, _ := k.(map[string]any); o["name"] == user {
			w, _ := o["word"].(string)
			return w
		}
	}
	return ""
}

// Serve listens for HTTPS.
func (d *Device) Serve(e box.Env) (func(), error) {
	l, err := e.Listen(box.HTTPS)
	if err != nil {
		return nil, err
	}
	d.Lock()
	d.Env = e
	d.Unlock()
	const root = "/rests"
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/host-meta", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/xrd+xml")
		fmt.Fprintf(w, "<?xml version=\"1.0\"?>\n<x:XRD xmlns:x='http://docs.oasis-open.org/ns/xri/xrd-1.0'>\n <x:Link rel='restconf' href='%s'/>\n</x:XRD>", root)
	})
	mux.HandleFunc("POST /session", d.enter)
	mux.HandleFunc("DELETE /session", d.in(func(w http.ResponseWriter, r *http.Request) {
		_, id := d.sessions.Who(r, &d.Base)
		d.sessions.Close(id)
		w.WriteHeader(204)
	}))
	mux.HandleFunc("GET "+root+"/data/skua-wireless:station", d.in(d.station))
	mux.HandleFunc("GET "+root+"/data/skua-wireless:settings", d.in(d.export))
	mux.HandleFunc("PUT "+root+"/data/skua-wireless:settings", d.in(d.put))
	mux.HandleFunc("PATCH "+root+"/data/skua-wireless:settings", d.in(d.put))
	mux.HandleFunc("GET "+root+"/data/skua-wireless:members", d.in(d.memberList))
	mux.HandleFunc("GET "+root+"/data/skua-wireless:members/{member}/options", d.in(d.memberOptions))
	mux.HandleFunc("PUT "+root+"/data/skua-wireless:members/{member}/options", d.in(d.memberOptions))
	mux.HandleFunc("POST "+root+"/operations/skua-wireless:import", d.in(d.take))
	mux.HandleFunc("POST "+root+"/operations/skua-wireless:adopt", d.in(d.adopt))
	mux.HandleFunc("GET "+root+"/data/skua-wireless:task/{n}", d.in(d.task))
	return box.ServeHTTP(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{e.TLS}}), mux), nil
}

// refuse answers with errors as RFC 8040 §7.1 has them.
func refuse(w http.ResponseWriter, status int, tag, path, message string) {
	w.Header().Set("Content-Type", "application/yang-data+json")
	w.WriteHeader(status)
	e := map[string]any{"error-type": "application", "error-tag": tag, "error-message": message}
	if path != "" {
		e["error-path"] = path
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"ietf-restconf:errors": map[string]any{"error": []any{e}}})
}

func (d *Device) enter(w http.ResponseWriter, r *http.Request) {
	var in struct{ User, Word string }
	_ = json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&in)
	if d.Wait(r.Context(), r.URL.Path) != nil {
		box.Cut(w)
		return
	}
	d.Lock()
	word := d.word(in.User)
	d.Unlock()
	if !d.SignIn(word != "" && word == in.Word) {
		refuse(w, 401, "access-denied", "", "user or word is wrong")
		return
	}
	d.sessions.Open(w, in.User)
	w.WriteHeader(204)
}

func (d *Device) in(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if user, _ := d.sessions.Who(r, &d.Base); user == "" {
			refuse(w, 401, "access-denied", "", "sign in first")
			return
		}
		path := strings.TrimPrefix(r.URL.Path, "/rests/data/")
		if d.Wait(r.Context(), path) != nil {
			box.Cut(w)
			return
		}
		do(w, r)
	}
}

func (d *Device) answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/yang-data+json")
	_ = json.NewEncoder(w).Encode(v)
}

func (d *Device) station(w http.ResponseWriter, _ *http.Request) {
	d.Lock()
	defer d.Unlock()
	origin := "kept"
	if d.factory {
		origin = "maker"
	}
	d.answer(w, map[string]any{"skua-wireless:station": map[string]any{"name": d.settings["name"], "serial": d.Serial, "model": d.Model, "release": d.Release, "settings": origin, "revision": d.revision}})
}

func (d *Device) export(w http.ResponseWriter, r *http.Request) {
	f := d.Faults()
	switch {
	case d.Busy():
		refuse(w, 503, "resource-denied", "", "busy, again in a while")
		return
	case f.HeldBy != "":
		refuse(w, 409, "in-use", "", "the settings are held by "+f.HeldBy)
		return
	case f.FullDisk:
		refuse(w, 500, "operation-failed", "", "there is no room to make the export")
		return
	}
	d.Lock()
	raw := d.document(r.URL.Query().Get("with-defaults") == "report-all", f.Weak)
	w.Header().Set("ETag", d.etag())
	d.Unlock()
	w.Header().Set("Content-Type", "application/yang-data+json")
	if f.CutAfter > 0 {
		w.Header().Set("Content-Length", strconv.Itoa(len(raw)))
	}
	if d.Show(r.Context(), w, raw, `"x":"`+strings.Repeat("y", 4000)+`",`) != nil {
		_ = http.NewResponseController(w).Flush()
		box.Cut(w)
	}
}

// put lays settings over what is there (PATCH) or in its place (PUT).
func (d *Device) put(w http.ResponseWriter, r *http.Request) {
	if want := r.Header.Get("If-Match"); want != "" {
		d.Lock()
		ok := want == d.etag()
		d.Unlock()
		if !ok {
			refuse(w, 412, "operation-failed", "", "the settings are not what they were")
			return
		}
	}
	err := d.Apply(r.Context(), func() error { return d.setAll(r.Body, r.Method == "PATCH") })
	d.done(w, r, err)
}

func (d *Device) setAll(body io.Reader, over bool) error {
	var in map[string]map[string]any
	if err := json.NewDecoder(io.LimitReader(body, 1<<20)).Decode(&in); err != nil {
		return fmt.Errorf("not JSON: %w", err)
	}
	next := in["skua-wireless:settings"]
	if next == nil {
		return fmt.Errorf("skua-wireless:settings is missing")
	}
	d.Lock()
	defer d.Unlock()
	if over {
		merged := maps.Clone(d.settings)
		maps.Copy(merged, next)
		next = merged
	}
	if err := check(next); err != nil {
		return err
	}
	d.settings, d.factory = next, false
	d.revision++
	return nil
}

func (d *Device) done(w http.ResponseWriter, r *http.Request, err error) {
	switch {
	case r.Context().Err() != nil:
		box.Cut(w)
	case err != nil:
		path, _, _ := strings.Cut(err.Error(), ":")
		refuse(w, 400, "invalid-value", "/skua-wireless:settings/"+url.PathEscape(path), err.Error())
	default:
		w.WriteHeader(204)
	}
}

func (d *Device) memberList(w http.ResponseWriter, _ *http.Request) {
	d.Lock()
	defer d.Unlock()
	list := []any{}
	for _, m := range d.members {
		state := "joined"
		if !m.Joined {
			state = "waiting"
		}
		list = append(list, map[string]any{"name": m.Name, "serial": m.Serial, "model": "Skua A2", "release": "5.2", "state": state})
	}
	d.answer(w, map[string]any{"skua-wireless:members": map[string]any{"member": list}})
}

func (d *Device) memberOptions(w http.ResponseWriter, r *http.Request) {
	d.Lock()
	m := d.member(r.PathValue("member"))
	if m == nil || !m.Joined {
		d.Unlock()
		refuse(w, 404, "invalid-value", "", "no access point of that name is joined")
		return
	}
	if r.Method == "GET" {
		raw, _ := json.Marshal(map[string]any{"skua-wireless:options": m.Options})
		d.Unlock()
		w.Header().Set("ETag", m.etag())
		w.Header().Set("Content-Type", "application/yang-data+json")
		_, _ = w.Write(raw)
		return
	}
	want := r.Header.Get("If-Match")
	same := want == "" || want == m.etag()
	d.Unlock()
	if !same {
		refuse(w, 412, "operation-failed", "", "the options are not what they were")
		return
	}
	err := d.Apply(r.Context(), func() error {
		var in map[string]map[string]any
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&in); err != nil || in["skua-wireless:options"] == nil {
			return fmt.Errorf("skua-wireless:options is missing")
		}
		d.Lock()
		defer d.Unlock()
		m.Options = in["skua-wireless:options"]
		return nil
	})
	d.done(w, r, err)
}

// etag names what the options are now (RFC 8040 §3.4.1.2).
func (m *Member) etag() string {
	raw, _ := json.Marshal(m.Options)
	return fmt.Sprintf(`"o%08x"`, crc32.ChecksumIEEE(raw))
}

// take begins an import.
func (d *Device) take(w http.ResponseWriter, r *http.Request) {
	raw, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	var in map[string]map[string]any
	if err := json.Unmarshal(raw, &in); err != nil || in["skua-wireless:settings"] == nil {
		refuse(w, 400, "malformed-message", "", "there is no settings document")
		return
	}
	role := func(m map[string]any) any {
		if r, ok := m["role"]; ok {
			return r
		}
		return defaults["role"]
	}
	d.Lock()
	mine := role(d.settings)
	d.Unlock()
	if role(in["skua-wireless:settings"]) != mine {
		refuse(w, 409, "invalid-value", "", fmt.Sprintf("a file of role %v does not go to a unit of role %v", role(in["skua-wireless:settings"]), mine))
		return
	}
	if f := d.Faults(); f.HeldBy != "" {
		refuse(w, 409, "in-use", "", "the settings are held by "+f.HeldBy)
		return
	}
	err := d.Apply(r.Context(), func() error { return d.setAll(bytes.NewReader(raw), false) })
	if r.Context().Err() != nil {
		box.Cut(w)
		return
	}
	if err != nil && strings.Contains(err.Error(), box.ErrRefused.Error()) {
		refuse(w, 400, "operation-failed", "", err.Error())
		return
	}
	t := task{begun: time.Now()}
	if err != nil {
		t.trouble = err.Error()
	}
	d.mu.Lock()
	d.tasks = append(d.tasks, t)
	n := len(d.tasks)
	d.mu.Unlock()
	w.Header().Set("Content-Type", "application/yang-data+json")
	w.WriteHeader(202)
	fmt.Fprintf(w, `{"skua-wireless:output":{"task":%d}}`, n)
	if err == nil {
		go func() {
			time.Sleep(900 * time.Millisecond)
			d.Restart()
		}()
	}
}

func (d *Device) task(w http.ResponseWriter, r *http.Request) {
	n, _ := strconv.Atoi(r.PathValue("n"))
	d.mu.Lock()
	defer d.mu.Unlock()
	if n < 1 || n > len(d.tasks) {
		refuse(w, 404, "invalid-value", "", "there is no such task")
		return
	}
	t := d.tasks[n-1]
	state := map[string]any{"state": "working"}
	if t.trouble != "" {
		state = map[string]any{"state": "failed", "reason": t.trouble}
	} else if time.Since(t.begun) > 400*time.Millisecond {
		state["state"] = "done"
	}
	d.answer(w, map[string]any{"skua-wireless:task": state})
}

// adopt takes access points back in, by name.
func (d *Device) adopt(w http.ResponseWriter, r *http.Request) {
	var in struct{ Member []string }
	stray := d.Faults().Stray
	_ = json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&in)
	d.Lock()
	for _, name := range in.Member {
		if m := d.member(name); m != nil && name != stray {
			m.Joined = true
		}
	}
	d.Unlock()
	d.Env.Changed()
	w.WriteHeader(204)
}
