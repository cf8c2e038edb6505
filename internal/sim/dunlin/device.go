// Package dunlin simulates the Dunlin family of small gateways: web pages
// behind a form, and one opaque file that holds all settings.
//
// The file begins with a magic number, the length of its body, the time it was
// made, a salt, the body's checksum and a flag; the body is compressed and, on
// request, encrypted under a passphrase. A restore takes everything over,
// address and users included, and restarts. After a reset the gateway stands
// behind a first-run page.
package dunlin

import (
	"bytes"
	"compress/zlib"
	"crypto/aes"
	"crypto/cipher"
	crand "crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"html"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"magpie/internal/sim/box"
)

// Settings are all that a gateway is set to.
type Settings struct {
	Name    string            `json:"name"`
	Address string            `json:"address"`
	Users   map[string]string `json:"users"` // name -> sealed word
	Wifi    []Wifi            `json:"wifi"`
	Forward []string          `json:"forward"`
	Notes   map[string]string `json:"notes"`
}

// Wifi is a wireless network.
type Wifi struct{ Name, Key string }

// FactoryUser and FactoryWord open a gateway that nobody has set up.
const (
	FactoryUser = "owner"
	FactoryWord = "dunlin"
)

// FactorySettings are those of a gateway that nobody has set up.
func FactorySettings() Settings {
	return Settings{Name: "dunlin", Address: "192.0.2.1", Users: map[string]string{FactoryUser: box.Seal("dunlin", FactoryWord)}}
}

// Device is one simulated gateway.
type Device struct {
	box.Base
	settings Settings
	revision int
	factory  bool // the first-run page stands in the way
	sessions box.Sessions
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Serial string
	Settings     Settings
	Revision     int
	Factory      bool
	Faults       box.Faults
}

// New makes a gateway.
func New(name, serial string, s Settings) *Device {
	d, _ := Restore(State{Name: name, Serial: serial, Settings: s, Revision: 1})
	return d
}

// Restore makes a gateway from kept state.
func Restore(s State) (*Device, error) {
	d := &Device{settings: s.Settings, revision: s.Revision, factory: s.Factory}
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = s.Name, s.Serial, "Dunlin D1", "1.14"
	d.Base.SetFaults(s.Faults)
	return d, nil
}

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return json.Marshal(State{d.Name, d.Serial, d.settings, d.revision, d.factory, f})
}

// Status returns what the control port shows.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("dunlin")
	st.Sessions = d.sessions.Count()
	st.Factory = d.factory
	raw, _ := json.MarshalIndent(d.settings, "", " ")
	st.Running = strings.Split(string(raw), "\n")
	return st
}

// Amend sets things: "name X", "note KEY VALUE", "wifi NAME KEY", "forward X".
func (d *Device) Amend(_ string, lines []string) error {
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	for _, l := range lines {
		w := strings.SplitN(l, " ", 3)
		switch {
		case w[0] == "name" && len(w) == 2:
			d.settings.Name = w[1]
		case w[0] == "note" && len(w) == 3:
			if d.settings.Notes == nil {
				d.settings.Notes = map[string]string{}
			}
			d.settings.Notes[w[1]] = w[2]
		case w[0] == "wifi" && len(w) == 3:
			d.settings.Wifi = append(d.settings.Wifi, Wifi{w[1], w[2]})
		case w[0] == "forward" && len(w) > 1:
			d.settings.Forward = append(d.settings.Forward, strings.Join(w[1:], " "))
		default:
			return fmt.Errorf("%q is not understood", l)
		}
		d.revision++
	}
	return nil
}

// Stow does nothing: what runs is what is kept.
func (d *Device) Stow() int { return 0 }

// Restart takes the gateway down and up again.
func (d *Device) Restart() {
	d.sessions.Close("")
	d.Lock()
	d.Restarts++
	d.Unlock()
	d.Env.Changed()
	d.Env.Restarted()
}

// Replace puts another unit in this one's place; without lines one with factory
// settings, otherwise the settings as JSON.
func (d *Device) Replace(serial string, lines []string) error {
	s := FactorySettings()
	if lines != nil {
		s = Settings{}
		if err := json.Unmarshal([]byte(strings.Join(lines, "\n")), &s); err != nil {
			return err
		}
	}
	d.Lock()
	d.Serial, d.settings, d.factory, d.revision = serial, s, lines == nil, 1
	d.Unlock()
	d.sessions.Close("")
	d.Env.Changed()
	d.Env.Restarted()
	return nil
}

// Depths of a reset, from the mildest: what each keeps.
var Depths = []string{"notes", "network", "users", "all"}

// Reset takes the gateway back: "notes" forgets forwards and notes, "network"
// wireless networks too, "users" keeps only name and address, "all" nothing.
func (d *Device) Reset(depth string) error {
	at := slices.Index(Depths, depth)
	if depth == "" {
		at = len(Depths) - 1
	}
	if at < 0 {
		return fmt.Errorf("a reset goes down to %s", strings.Join(Depths, ", "))
	}
	d.Lock()
	fresh := FactorySettings()
	d.settings.Forward, d.settings.Notes = nil, nil
	if at >= 1 {
		d.settings.Wifi = nil
	}
	if at >= 2 {
		d.settings.Users = fresh.Users
	}
	if at >= 3 {
		d.settings = fresh
	}
	d.factory, d.revision = at >= 2, 1
	d.Unlock()
	d.sessions.Close("")
	d.Env.Changed()
	if d.Astray() {
		d.Env.Restarted()
	}
	return nil
}

// Astray tells whether the settings put the unit at the maker's address.
func (d *Device) Astray() bool {
	d.Lock()
	defer d.Unlock()
	return d.settings.Address == FactorySettings().Address
}

// Layout of the file.
const (
	magic  = "DNL1"
	header = 25
)

// file is all settings as the gateway gives them away.
func (d *Device) file(passphrase string) []byte {
	raw, _ := json.Marshal(d.settings)
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	_, _ = w.Write(raw)
	_ = w.Close()
	salt := make([]byte, 8)
	_, _ = crand.Read(salt)
	body, flag := z.Bytes(), byte(0)
	if passphrase != "" {
		body, flag = crypt(passphrase, salt).Seal(nil, make([]byte, 12), body, nil), 1
	}
	out := []byte(magic)
	out = binary.BigEndian.AppendUint32(out, uint32(len(body)))
	out = binary.BigEndian.AppendUint32(out, uint32(d.Env.Clock().Unix()))
	out = append(out, salt...)
	out = binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(body))
	return append(append(out, flag), body...)
}

func crypt(passphrase string, salt []byte) cipher.AEAD {
	key := sha256.Sum256(append([]byte("dunlin "+passphrase+" "), salt...))
	b, _ := aes.NewCipher(key[:])
	g, _ := cipher.NewGCM(b)
	return g
}

// largest is how large a settings file can be.
const largest = 64 << 20

// read opens a file.
func read(raw []byte, passphrase string) (s Settings, err error) {
	if len(raw) < header || string(raw[:4]) != magic {
		return s, errors.New("this is no settings file")
	}
	body := raw[header:]
	if int(binary.BigEndian.Uint32(raw[4:])) != len(body) || binary.BigEndian.Uint32(raw[20:]) != crc32.ChecksumIEEE(body) {
		return s, errors.New("the settings file is damaged")
	}
	if raw[24] == 1 {
		if body, err = crypt(passphrase, raw[12:20]).Open(nil, make([]byte, 12), body, nil); err != nil {
			return s, errors.New("the settings file does not open under this passphrase")
		}
	}
	z, err := zlib.NewReader(bytes.NewReader(body))
	if err != nil {
		return s, err
	}
	plain, err := io.ReadAll(io.LimitReader(z, largest))
	if err != nil {
		return s, err
	}
	err = json.Unmarshal(plain, &s)
	return s, err
}

// Serve listens for HTTP.
func (d *Device) Serve(e box.Env) (func(), error) {
	l, err := e.Listen(box.HTTP)
	if err != nil {
		return nil, err
	}
	d.Lock()
	d.Env = e
	d.Unlock()
	mux := http.NewServeMux()
	mux.HandleFunc("GET /door", func(w http.ResponseWriter, r *http.Request) {
		page(w, "Door", d.form("/door", "door", `Who <input name="who"> Word <input name="word" type="password">`))
	})
	mux.HandleFunc("POST /door", d.enter)
	mux.HandleFunc("GET /desk", d.in(d.desk))
	mux.HandleFunc("POST /desk/settings", d.in(d.export))
	mux.HandleFunc("POST /desk/restore", d.in(d.restore))
	mux.HandleFunc("POST /desk/leave", d.in(func(w http.ResponseWriter, r *http.Request, id string) {
		d.sessions.Close(id)
		page(w, "Gone", "You have left.")
	}))
	mux.HandleFunc("GET /welcome", d.in(func(w http.ResponseWriter, r *http.Request, id string) {
		page(w, "Welcome", d.form("/welcome", id, `Before anything else, a name <input name="name"> and a word of your own <input name="word">`))
	}))
	mux.HandleFunc("POST /welcome", d.in(d.welcome))
	return box.ServeHTTP(l, mux), nil
}

func page(w http.ResponseWriter, title, body string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "<!doctype html>\n<html><head><title>%s</title></head>\n<body>\n<h1>%[1]s</h1>\n%s\n</body></html>\n", title, body)
}

// form carries a token that must come back with it.
func (d *Device) form(to, id, fields string) string {
	return fmt.Sprintf("<form method=\"post\" action=%q>\n<input type=\"hidden\" name=\"seal\" value=%q>\n%s <button>Go</button></form>", to, d.seal(id), fields)
}

func (d *Device) seal(id string) string { return box.Seal("dunlin seal", d.Serial+id) }

func (d *Device) enter(w http.ResponseWriter, r *http.Request) {
	if d.Wait(r.Context(), r.URL.Path) != nil {
		box.Cut(w)
		return
	}
	if r.PostFormValue("seal") != d.seal("door") {
		http.Error(w, "the form is stale", http.StatusForbidden)
		return
	}
	d.Lock()
	sealed := d.settings.Users[r.PostFormValue("who")]
	d.Unlock()
	if !d.SignIn(sealed != "" && sealed == box.Seal("dunlin", r.PostFormValue("word"))) {
		page(w, "Door", "<p class=\"no\">That is not the word.</p>")
		return
	}
	d.sessions.Open(w, r.PostFormValue("who"))
	http.Redirect(w, r, "/desk", http.StatusSeeOther)
}

// in lets only those in who are signed in; others are sent to the door.
func (d *Device) in(do func(w http.ResponseWriter, r *http.Request, id string)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		user, id := d.sessions.Who(r, &d.Base)
		if user == "" {
			http.Redirect(w, r, "/door", http.StatusSeeOther)
			return
		}
		if d.Wait(r.Context(), r.URL.Path) != nil {
			box.Cut(w)
			return
		}
		d.Lock()
		factory := d.factory
		d.Unlock()
		if factory && r.URL.Path != "/welcome" && r.URL.Path != "/desk" {
			http.Redirect(w, r, "/welcome", http.StatusSeeOther)
			return
		}
		do(w, r, id)
	}
}

func (d *Device) desk(w http.ResponseWriter, r *http.Request, id string) {
	d.Lock()
	s, rev, serial, factory := d.settings, d.revision, d.Serial, d.factory
	d.Unlock()
	rows := [][2]string{{"Name", s.Name}, {"Unit number", serial}, {"Kind", d.Model}, {"Edition", d.Release}, {"Settings revision", fmt.Sprint(rev)}, {"Address", s.Address}}
	if factory {
		rows = append(rows, [2]string{"Settings", "of the maker; <a href=\"/welcome\">begin here</a>"})
	}
	var b strings.Builder
	b.WriteString("<table>\n")
	for _, row := range rows {
		v := row[1]
		if row[0] != "Settings" {
			v = html.EscapeString(v)
		}
		fmt.Fprintf(&b, "<tr><td>%s</td><td>%s</td></tr>\n", row[0], v)
	}
	b.WriteString("</table>\n" + d.form("/desk/settings", id, `Under <input name="under">`))
	page(w, "Desk", b.String())
}

func (d *Device) sealed(w http.ResponseWriter, r *http.Request, id string) bool {
	if r.FormValue("seal") != d.seal(id) {
		http.Error(w, "the form is stale", http.StatusForbidden)
		return false
	}
	return true
}

func (d *Device) export(w http.ResponseWriter, r *http.Request, id string) {
	if !d.sealed(w, r, id) {
		return
	}
	f := d.Faults()
	switch {
	case d.Busy():
		page(w, "Desk", `<p class="no">Busy, again in a while.</p>`)
		return
	case f.HeldBy != "":
		page(w, "Desk", `<p class="no">The desk is held by `+html.EscapeString(f.HeldBy)+`.</p>`)
		return
	case f.Weak:
		page(w, "Desk", `<p class="no">Guests take nothing away.</p>`)
		return
	case f.FullDisk:
		page(w, "Desk", `<p class="no">There is no room to make the file.</p>`)
		return
	}
	d.Lock()
	raw := d.file(r.PostFormValue("under"))
	d.Unlock()
	w.Header().Set("Content-Type", "application/octet-stream")
	if f.CutAfter > 0 {
		w.Header().Set("Content-Length", fmt.Sprint(len(raw)))
	}
	if d.Show(r.Context(), w, raw, strings.Repeat("\x00", 4096)) != nil {
		_ = http.NewResponseController(w).Flush()
		box.Cut(w)
	}
}

func (d *Device) restore(w http.ResponseWriter, r *http.Request, id string) {
	_ = r.ParseMultipartForm(1 << 20)
	if !d.sealed(w, r, id) {
		return
	}
	f, _, err := r.FormFile("file")
	if err != nil {
		page(w, "Desk", `<p class="no">There was no file.</p>`)
		return
	}
	raw, _ := io.ReadAll(io.LimitReader(f, largest))
	s, err := read(raw, r.FormValue("under"))
	if err == nil {
		err = d.Apply(r.Context(), func() error {
			d.Lock()
			defer d.Unlock()
			d.settings, d.factory = s, false
			d.revision++
			return nil
		})
	}
	if err != nil {
		if r.Context().Err() != nil {
			box.Cut(w)
			return
		}
		page(w, "Desk", `<p class="no">`+html.EscapeString(err.Error())+`</p>`)
		return
	}
	page(w, "Desk", "<p>Taken over. The gateway restarts now.</p>")
	_ = http.NewResponseController(w).Flush()
	time.AfterFunc(150*time.Millisecond, d.Restart) // the page is shown first
}

func (d *Device) welcome(w http.ResponseWriter, r *http.Request, id string) {
	if !d.sealed(w, r, id) {
		return
	}
	if r.PostFormValue("name") == "" || r.PostFormValue("word") == "" {
		page(w, "Welcome", `<p class="no">Both are needed.</p>`)
		return
	}
	d.Lock()
	d.settings.Name, d.factory = r.PostFormValue("name"), false
	d.settings.Users[FactoryUser] = box.Seal("dunlin", r.PostFormValue("word"))
	d.revision++
	d.Unlock()
	d.Env.Changed()
	http.Redirect(w, r, "/desk", http.StatusSeeOther)
}
