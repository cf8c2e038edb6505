package history

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/store"
)

// movingFormat is of how devices on their way are written.
const movingFormat = 1

// ErrNoMove is returned for a file that holds no devices on their way.
var ErrNoMove = errors.New("these are no devices that were handed over")

// ErrClash is returned when devices cannot be taken over as they are called.
var ErrClash = errors.New("they cannot be taken over so")

// moving is what a file of devices on their way says of itself, first.
type moving struct {
	Format  int       `json:"format"`
	Program string    `json:"program"`
	MadeAt  time.Time `json:"made_at"`
	MadeBy  string    `json:"made_by"`
	Devices []moved   `json:"devices"`
}

// moved is a device on its way, with what lets one in.
type moved struct {
	core.Device
	Set      string         `json:"set,omitempty"`
	Secret   store.Secret   `json:"secret"`
	Baseline map[string]int `json:"baseline"` // by part
	Last     map[string]int `json:"last"`     // the last number that was given, by part
	Versions int            `json:"versions"`
	Damaged  []string       `json:"damaged,omitempty"` // versions of it that stay behind: they do not read back
}

// movedVersion is a version on its way; its text is the file behind it.
type movedVersion struct {
	core.Version
	Pull       core.Pull        `json:"pull"`
	Seen       []store.Interval `json:"seen"`
	Passphrase string           `json:"passphrase,omitempty"`
}

// movingEnd is what a file of devices comes to.
type movingEnd struct {
	Files  int    `json:"files"`
	SHA256 string `json:"sha256"` // of all files before, in their order
}

// Recipient is to whom devices are sealed that are to be taken over here.
func (s *Service) Recipient(ctx context.Context) (string, error) {
	id, err := s.identity(ctx)
	if err != nil {
		return "", err
	}
	return id.Recipient().String(), nil
}

// HandOver writes devices out with all that is kept of them, and with their credentials, for
// another service. Nothing is changed here.
func (s *Service) HandOver(ctx context.Context, actor core.Actor, devices []core.Device, to []string, out io.Writer) error {
	rs, err := recipients(to)
	if err != nil {
		return err
	}
	if len(rs) == 0 {
		return fmt.Errorf("%w: nobody is named to whom they are sealed; the other service says it: magpie device recipient", ErrExport)
	}
	sealed, err := age.Encrypt(out, rs...)
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(sealed, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	w := &movingWriter{tar: tarball{tar.NewWriter(z), z}, at: s.Now(), sum: sha256.New()}
	if err := s.handOver(ctx, actor, devices, w); err != nil {
		return err
	}
	if err := w.json(endFile, movingEnd{w.files, hex.EncodeToString(w.sum.Sum(nil))}); err != nil {
		return err
	}
	for _, c := range []io.Closer{w.tar, sealed} {
		if err := c.Close(); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) handOver(ctx context.Context, actor core.Actor, devices []core.Device, w *movingWriter) error {
	q := s.Store.As(job.Service)
	m := moving{Format: movingFormat, Program: s.Program, MadeAt: w.at, MadeBy: actor.Name, Devices: []moved{}}
	for _, d := range devices {
		x := moved{Device: d, Baseline: map[string]int{}, Last: map[string]int{}}
		var err error
		if d.Member == "" {
			if x.Secret, _, x.Set, err = q.Access(ctx, d); err != nil && !errors.Is(err, store.ErrNotFound) {
				return fmt.Errorf("%s: %w", d.Name, err)
			}
		}
		parts, err := q.Parts(ctx, d.ID)
		if err != nil {
			return err
		}
		for _, p := range parts {
			x.Last[p.Name] = p.Last
			if v, err := q.Version(ctx, store.Baseline(d.ID, p.Name)); err == nil {
				x.Baseline[p.Name] = v.Number
			} else if !errors.Is(err, store.ErrNotFound) {
				return fmt.Errorf("%s: %w", d.Name, err)
			}
		}
		m.Devices = append(m.Devices, x)
	}
	at := map[string]int{}
	for i, x := range m.Devices {
		at[x.ID] = i
	}
	var all []core.Version // newest first
	if err := s.each(ctx, Export{Devices: devices, History: true}, func(d core.Device, v core.Version) error {
		i := at[d.ID]
		if _, err := q.Content(ctx, v.ContentID); errors.Is(err, store.ErrDamaged) {
			m.Devices[i].Damaged = append(m.Devices[i].Damaged, v.Ref())
			return nil
		} else if err != nil && !errors.Is(err, store.ErrLarge) {
			return err
		}
		all = append(all, v)
		m.Devices[i].Versions++
		return nil
	}); err != nil {
		return err
	}
	if err := w.json(aboutFile, m); err != nil {
		return err
	}
	for _, v := range slices.Backward(all) {
		if err := s.handVersion(ctx, q, v, w); err != nil {
			return fmt.Errorf("%s: %w", v.Ref(), err)
		}
	}
	return nil
}

// handVersion writes a version out: what is known of it, then its text.
func (s *Service) handVersion(ctx context.Context, q *store.Q, v core.Version, w *movingWriter) error {
	content, err := q.Content(ctx, v.ContentID)
	if errors.Is(err, store.ErrLarge) {
		return fmt.Errorf("%w: it has more than %d MiB, which does not go along; take it out by itself: magpie show %s --output FILE", ErrExport, store.Large>>20, v.Ref())
	}
	if err != nil {
		return err
	}
	x := movedVersion{Version: v}
	if x.Pull, err = q.PullByID(ctx, v.PullID); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if x.Passphrase, err = q.Passphrase(ctx, v.ID); err != nil {
		return err
	}
	if x.Seen, err = q.SeenOf(ctx, v.ID); err != nil {
		return err
	}
	name := fmt.Sprintf("%s/%s/%06d", v.Device, v.Part, v.Number)
	if err := w.json(name+".json", x); err != nil {
		return err
	}
	return w.file(name+".text", content)
}

// movingWriter adds up what it writes.
type movingWriter struct {
	tar   tarball
	at    time.Time
	files int
	sum   hash.Hash
}

func (w *movingWriter) json(name string, v any) error {
	raw, err := json.Marshal(v)
	if err == nil {
		err = w.file(name, raw)
	}
	return err
}

func (w *movingWriter) file(name string, text []byte) error {
	if name != endFile {
		w.files++
		_, _ = w.sum.Write(text)
	}
	return w.tar.add(name, w.at, int64(len(text)), written(text))
}

// Coming is a device of a file, and what becomes of it here.
type Coming struct {
	Device   string // as it is called there
	As       string // and is to be called here
	Versions int
	Becomes  string // Comes, Left or Clashes
	Why      string // what it clashes with, or lacks
}

// What becomes of a device that was handed over.
const (
	Comes   = "taken over"
	Left    = "left out"
	Clashes = "clashes"
)

// BecomesOf are all of them.
var BecomesOf = []string{Comes, Left, Clashes}

// TakeOver is how devices are taken over.
type TakeOver struct {
	Rename map[string]string // their name there to that here
	Leave  []string          // names there that are left out
	Look   bool              // only say what would become of them
}

// TakeOver takes devices over that another service handed over, each with all its versions, in one
// transaction: all of them, or none. open gives the file anew each time. Names are matched first: if
// one clashes, nothing is taken.
func (s *Service) TakeOver(ctx context.Context, actor core.Actor, open func() (io.ReadCloser, error), how TakeOver) ([]Coming, error) {
	id, err := s.identity(ctx)
	if err != nil {
		return nil, err
	}
	var m moving
	read := func(take func(name string, raw []byte) error) error {
		f, err := open()
		if err != nil {
			return err
		}
		defer f.Close()
		return readMoving(f, id, &m, take)
	}
	if err := read(func(string, []byte) error { return nil }); err != nil { // whole, before anything is taken
		return nil, err
	}
	table, err := s.matched(ctx, actor, m, how)
	if err != nil || how.Look {
		return table, err
	}
	for _, x := range table {
		if x.Becomes == Clashes {
			return table, fmt.Errorf("%w: %s %s; call it otherwise, or leave it out", ErrClash, x.Device, x.Why)
		}
	}
	now := map[string]core.Device{}
	var meta movedVersion
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		clear(now)
		for i, x := range table {
			if x.Becomes != Comes {
				continue
			}
			d, err := s.takeDevice(ctx, q, m.Devices[i], x.As, table, now)
			if err != nil {
				return fmt.Errorf("%s: %w", x.Device, err)
			}
			now[x.Device] = d
		}
		err := read(func(name string, raw []byte) error {
			device, _, _ := strings.Cut(name, "/")
			d, ok := now[device]
			switch {
			case !ok:
				return nil
			case strings.HasSuffix(name, ".json"):
				meta = movedVersion{}
				return json.Unmarshal(raw, &meta)
			}
			return s.takeVersion(ctx, q, d, meta, raw)
		})
		if err != nil {
			return err
		}
		for i, x := range table {
			d, ok := now[x.Device]
			if !ok {
				continue
			}
			if err := s.settle(ctx, q, d, m.Devices[i]); err != nil {
				return fmt.Errorf("%s: %w", x.Device, err)
			}
			if err := q.Audit(ctx, "device taken over", d.Name, fmt.Sprintf("%s with %s, from the service that %s handed it over of on %s", x.Device, core.Count(x.Versions, "version", "versions"), m.MadeBy, m.MadeAt.UTC().Format("2006-01-02 15:04 MST"))); err != nil {
				return err
			}
		}
		return nil
	})
	return table, err
}

// matched says what becomes of each device of a file.
func (s *Service) matched(ctx context.Context, actor core.Actor, m moving, how TakeOver) ([]Coming, error) {
	q := s.Store.As(actor)
	here, err := q.Devices(ctx, ref.All())
	if err != nil {
		return nil, err
	}
	names := []string{}
	for _, d := range m.Devices {
		names = append(names, d.Name)
	}
	for was := range how.Rename {
		if !slices.Contains(names, was) {
			return nil, fmt.Errorf("%w: no device of the file is called %s; %s", ErrClash, was, cmp.Or(ref.Meant(was, names), "it has "+strings.Join(names[:min(len(names), 5)], ", ")))
		}
	}
	for _, name := range how.Leave {
		if !slices.Contains(names, name) {
			return nil, fmt.Errorf("%w: no device of the file is called %s; %s", ErrClash, name, cmp.Or(ref.Meant(name, names), "it has "+strings.Join(names[:min(len(names), 5)], ", ")))
		}
	}
	var out []Coming
	used := map[string]bool{}
	for _, d := range m.Devices {
		x := Coming{Device: d.Name, As: cmp.Or(how.Rename[d.Name], d.Name), Versions: d.Versions, Becomes: Comes}
		if slices.Contains(how.Leave, d.Name) {
			x.Becomes = Left
			out = append(out, x)
			continue
		}
		if x.Why = s.clash(d, x.As, here, used); x.Why != "" {
			x.Becomes = Clashes
		} else if len(d.Damaged) > 0 {
			x.Why = "without " + strings.Join(d.Damaged[:min(len(d.Damaged), 5)], ", ") + ": damaged there"
		}
		used[x.As] = true
		out = append(out, x)
	}
	return out, nil
}

// clash says what keeps a device from being taken over under a name; empty: nothing.
func (s *Service) clash(d moved, as string, here []core.Device, used map[string]bool) string {
	if err := ref.DeviceName(as); err != nil {
		return err.Error()
	}
	if used[as] {
		return "another one of the file is called " + as
	}
	if s.Dialect(d.Dialect) == nil {
		return "speaks dialect " + d.Dialect + ", which is not loaded here"
	}
	for _, h := range here {
		switch {
		case h.Name == as:
			return "has the name of a device that is here already"
		case h.Member == "" && d.Member == "" && h.Address == d.Address && h.Port == d.Port && d.Jump == "" && h.JumpID == "":
			return fmt.Sprintf("is at %s port %d, as %s is, which is here already", d.Address, d.Port, h.Name)
		}
		for _, serial := range d.Serials {
			if slices.Contains(h.Serials, serial) {
				return fmt.Sprintf("is the unit of serial number %s, as %s is, which is here already", serial, h.Name)
			}
		}
	}
	return ""
}

// takeDevice writes a device that comes. Those that it hangs on, or is reached through, come
// before it or are here; otherwise it stands for itself.
func (s *Service) takeDevice(ctx context.Context, q *store.Q, x moved, as string, table []Coming, now map[string]core.Device) (core.Device, error) {
	d := x.Device
	d.ParentID, d.JumpID, d.Name = "", "", as
	for name, into := range map[string]*string{x.Parent: &d.ParentID, x.Jump: &d.JumpID} {
		if name == "" {
			continue
		}
		if p, ok := now[name]; ok {
			*into = p.ID
		} else if p, err := q.Device(ctx, name); err == nil {
			*into = p.ID
		} else if slices.ContainsFunc(table, func(c Coming) bool { return c.Device == name && c.Becomes == Comes }) {
			return d, fmt.Errorf("it hangs on %s, which comes behind it", name)
		}
	}
	if d.Member != "" {
		if d.ParentID == "" {
			return d, fmt.Errorf("%s speaks for it and does not come with it", x.Parent)
		}
		d.CredentialID = ""
		return d, q.AddDevice(ctx, &d, nil)
	}
	if x.Set != "" {
		if set, err := q.CredentialSet(ctx, x.Set); err == nil {
			d.CredentialID = set.ID
			return d, q.AddDevice(ctx, &d, nil)
		} else if !errors.Is(err, store.ErrNotFound) {
			return d, err
		}
	}
	return d, q.AddDevice(ctx, &d, &x.Secret)
}

// takeVersion writes a version that comes, with its number.
func (s *Service) takeVersion(ctx context.Context, q *store.Q, d core.Device, x movedVersion, content []byte) error {
	p, err := q.Part(ctx, d.ID, x.Part, true)
	if err != nil {
		return err
	}
	pull := x.Pull
	pull.ID, pull.DeviceID, pull.JobID = store.NewID(s.Now()), d.ID, ""
	if pull.RequestedAt.IsZero() {
		pull.RequestedAt, pull.TakenAt, pull.Reason, pull.Actor, pull.Result = x.TakenAt, &x.TakenAt, x.Reason, x.Actor, "done"
	}
	if err := q.AddPull(ctx, pull); err != nil {
		return err
	}
	v := x.Version
	v.PullID = pull.ID
	if dia := s.DialectOf(d); dia != nil {
		v.DialectRev = dia.Revision
		v.Fingerprint = s.Fingerprint(dia.Doc(v.Part), dia.Doc(v.Part).Settled(string(content)))
	}
	if v.ContentID, err = q.PutContent(ctx, content, p.ID, v.Number-1); err != nil {
		return err
	}
	return q.AdoptVersion(ctx, p, &v, x.Seen, x.Passphrase)
}

// settle puts right what follows from a device's versions.
func (s *Service) settle(ctx context.Context, q *store.Q, d core.Device, x moved) error {
	for part, last := range x.Last {
		p, err := q.Part(ctx, d.ID, part, true)
		if err == nil {
			err = q.CountOn(ctx, p.ID, last)
		}
		if err != nil {
			return err
		}
	}
	for part, number := range x.Baseline {
		v, err := q.Version(ctx, store.ByNumber(d.ID, part, number))
		if err == nil {
			err = q.SetBaseline(ctx, v.PartID, v.ID)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	d.Latest, d.LastChanged = x.Latest, x.LastChanged
	d.Host, d.Model, d.Serial, d.Release = x.Host, x.Model, x.Serial, x.Release
	return q.SetStanding(ctx, d)
}

// readMoving reads a file of devices to its end and makes sure that it is whole.
func readMoving(in io.Reader, id age.Identity, m *moving, take func(name string, raw []byte) error) error {
	opened, err := age.Decrypt(in, id)
	var noMatch *age.NoIdentityMatchError
	if errors.As(err, &noMatch) {
		return fmt.Errorf("%w: they are sealed to another service; hand them over to the recipient that this one says: magpie device recipient", ErrNoMove)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoMove, err)
	}
	z, err := zstd.NewReader(opened, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return err
	}
	defer z.Close()
	sum, files := sha256.New(), 0
	for t := tar.NewReader(z); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return fmt.Errorf("%w: its last file is missing", ErrCutOff)
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrCutOff, err)
		}
		raw, err := io.ReadAll(io.LimitReader(t, 1<<30))
		if err != nil {
			return fmt.Errorf("%w: %w", ErrCutOff, err)
		}
		if h.Name == endFile {
			var end movingEnd
			if err := json.Unmarshal(raw, &end); err != nil || end.Files != files || end.SHA256 != hex.EncodeToString(sum.Sum(nil)) {
				return fmt.Errorf("%w: what it holds is not what it says", ErrCutOff)
			}
			if _, err := io.Copy(io.Discard, z); err != nil {
				return fmt.Errorf("%w: %w", ErrCutOff, err)
			}
			return nil
		}
		sum.Write(raw)
		if files++; files == 1 {
			if h.Name != aboutFile || json.Unmarshal(raw, m) != nil || m.Format < 1 {
				return fmt.Errorf("%w: what it says of itself cannot be read", ErrNoMove)
			}
			if m.Format > movingFormat {
				return fmt.Errorf("%w: they were handed over by version %s of the program; use one that is as new", store.ErrNewer, m.Program)
			}
			continue
		}
		if err := take(h.Name, raw); err != nil {
			return err
		}
	}
}
