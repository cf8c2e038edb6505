package history

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"

	"magpie/internal/core"
	"magpie/internal/history/place"
	"magpie/internal/job"
	"magpie/internal/store"
)

// The bounds of copying.
const (
	copyEvery  = 2 * time.Second
	copySome   = 50               // versions until what came of them is written down
	copyFirst  = 10 * time.Second // until a target that failed is tried again, doubled each time
	copyMost   = 15 * time.Minute
	copyWithin = 10 * time.Minute // one batch to a repository
	copyStall  = 2 * time.Minute  // without a byte taken by a target
	copyMissed = 3                // files in a row that a target did not take, until it is left alone for a while
	catchUp    = time.Hour        // how often it is looked whether a version was missed
)

// Files at a target beside the copies.
const (
	markFile = "magpie-target.json"
	keyFile  = "magpie-key.age"
	readFile = "README.txt"
)

// copyKey is the age identity to which copies are sealed, so that this service can read them
// back. It outlives every master key; a copy of it that the master key opens lies at each target.
type copyKey struct {
	Identity string `json:"identity"`
}

const copyKeySetting = "copies: key"

// identity is the service's own; it is made where there is none, once, whoever else makes it at
// the same moment: what is sealed to one that did not last would be lost.
func (s *Service) identity(ctx context.Context) (*age.X25519Identity, error) {
	q := s.Store.As(job.Service)
	var k copyKey
	_, _, err := q.Setting(ctx, copyKeySetting, &k)
	if errors.Is(err, store.ErrNotFound) {
		made, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.FirstSetting(ctx, copyKeySetting, copyKey{made.String()}) }); err != nil {
			return nil, err
		}
		if _, _, err := q.Setting(ctx, copyKeySetting, &k); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	return age.ParseX25519Identity(k.Identity)
}

// copier copies to targets, one batch a target at a time.
type copier struct {
	mu     sync.Mutex
	busy   map[string]bool
	caught map[string]time.Time // when it was looked last whether a version was missed
}

// Copy has what waits for targets copied there, until ctx ends.
func (s *Service) Copy(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	c := &copier{busy: map[string]bool{}, caught: map[string]time.Time{}}
	s.Woken(ctx, copyEvery, "looking what has to be copied elsewhere", func() error { return s.copyShare(ctx, c, &all) },
		store.ForCopies)
}

// copyShare begins a batch for each target that is due and this instance's to look after.
func (s *Service) copyShare(ctx context.Context, c *copier, all *sync.WaitGroup) error {
	targets, err := s.Store.As(job.Service).Targets(ctx)
	if err != nil || len(targets) == 0 {
		return err
	}
	living, err := s.Living(ctx)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, t := range targets {
		if t.Paused || c.busy[t.ID] || !s.Mine(t.ID, living) || t.NextAt != nil && s.Now().Before(*t.NextAt) {
			continue
		}
		look := s.Now().Sub(c.caught[t.ID]) > catchUp
		if look {
			c.caught[t.ID] = s.Now()
		}
		c.busy[t.ID] = true
		all.Go(func() {
			defer func() { c.mu.Lock(); c.busy[t.ID] = false; c.mu.Unlock() }()
			if err := s.copyTo(ctx, t, look); err != nil && ctx.Err() == nil {
				s.copyFailed(ctx, t, err)
			}
		})
	}
	return nil
}

// copyFailed writes down that a target did not do what it was asked, and when it is asked again.
func (s *Service) copyFailed(ctx context.Context, t store.Target, why error) {
	next := s.Now().Add(min(copyFirst<<min(t.Tries, 10), copyMost))
	if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.TargetFailed(ctx, t.ID, why.Error(), next) }); err != nil && ctx.Err() == nil {
		slog.Warn("a target's state cannot be kept", "target", t.Name, "err", err)
	}
}

// batch is what a target is to get and to lose at once, and what came of it.
type batch struct {
	come, leave []store.Copy
	did         int    // how much of it
	failed      string // the version that the target did not take
}

// copyTo does what waits for one target: some at a time, until nothing is left. A file that the target does not
// take stands in nobody's way: the others go on, and it is tried again after them.
func (s *Service) copyTo(ctx context.Context, t store.Target, look bool) error {
	q := s.Store.As(job.Service)
	if look {
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.CatchUp(ctx, t.ID) }); err != nil {
			return err
		}
	}
	dropped, err := q.CopiesDue(ctx, t.ID, core.CopyDropped, 1)
	if err == nil && len(dropped) > 0 { // this is done every few seconds: nothing is written where there is nothing to do
		err = s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.DropUnsent(ctx, t.ID) })
	}
	if err != nil {
		return err
	}
	do := s.copyFiles
	if t.Kind == place.Git {
		do = s.copyCommits
	}
	tried, missed := map[string]bool{}, 0
	var last error
	for first := true; ; first = false {
		b, err := s.batch(ctx, t, tried)
		if err != nil {
			return err
		}
		if nothing := len(b.come)+len(b.leave) == 0; nothing && (!first || t.FailingAt == nil && t.ReachedAt != nil) {
			return last
		}
		if err = do(ctx, t, &b); err == nil {
			missed = 0
			continue
		}
		if last = err; b.failed == "" || ctx.Err() != nil {
			return err
		}
		tried[b.failed] = true
		if missed++; b.did > 0 {
			missed = 0
		}
		if missed == copyMissed {
			return err
		}
	}
}

// batch is what a target is to get and to lose next. What it did not take before comes last, and not twice.
func (s *Service) batch(ctx context.Context, t store.Target, tried map[string]bool) (b batch, err error) {
	q := s.Store.As(job.Service)
	if b.come, err = q.CopiesDue(ctx, t.ID, core.CopyWaits, copySome); err == nil && len(b.come) == 0 {
		b.come, err = q.CopiesMissed(ctx, t.ID, copySome+len(tried))
		b.come = slices.DeleteFunc(b.come, func(c store.Copy) bool { return tried[c.VersionID] })
	}
	if err == nil {
		b.leave, err = q.CopiesDue(ctx, t.ID, core.CopyLeaves, copySome)
	}
	return b, err
}

// unstalled is a context that ends when nothing moves for a while. move says that something did.
func unstalled(ctx context.Context, stall time.Duration) (moves context.Context, move func(), done func()) {
	moves, cancel := context.WithCancelCause(ctx)
	timer := time.AfterFunc(stall, func() {
		cancel(fmt.Errorf("the target took nothing for %s", core.Span(stall)))
	})
	return moves, func() { timer.Reset(stall) }, func() { timer.Stop(); cancel(nil) }
}

// movingReader says so when something of it is read.
type movingReader struct {
	io.Reader
	move func()
}

func (r movingReader) Read(p []byte) (int, error) {
	r.move()
	return r.Reader.Read(p)
}

// way is how a target is reached.
func way(t store.Target) place.Way {
	if t.Shut {
		return place.Way{Kind: t.Kind, Where: t.Where, Shut: store.ErrShut}
	}
	return place.Way{Kind: t.Kind, Where: t.Where, User: t.User, Password: t.Password, Key: t.Key, HostKey: t.HostKey, CA: t.CA}
}

// mark is what tells a target from another place of the same name: a disk that is not mounted, a
// folder of another service.
type mark struct {
	Target string `json:"target"`
	Master string `json:"master_key"` // which one opens the key file there
}

// reach opens a target and makes sure that it is what it was. At the first time it is marked.
func (s *Service) reach(ctx context.Context, t store.Target) (place.Place, error) {
	p, err := place.Open(ctx, way(t))
	if err != nil {
		return nil, err
	}
	if err := s.own(ctx, t, p); err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// own makes sure that a place is a target's, and marks it at the first time.
func (s *Service) own(ctx context.Context, t store.Target, p place.Place) error {
	q := s.Store.As(job.Service)
	master, to, err := q.ForMaster(ctx)
	if err != nil {
		return err
	}
	var m mark
	raw, err := fetch(ctx, p, markFile, 64<<10)
	switch {
	case errors.Is(err, place.ErrAbsent) && t.ReachedAt != nil:
		return fmt.Errorf("the place answers, but %s is not there any more: is it the place that it was? If its files are gone for good, remove the target and add it anew", markFile)
	case err != nil && !errors.Is(err, place.ErrAbsent):
		return err
	case err == nil:
		if err := json.Unmarshal(raw, &m); err != nil || m.Target != t.ID {
			return fmt.Errorf("the place belongs to another target: its %s says so; give this one a folder of its own", markFile)
		}
	}
	if m.Master == master {
		return nil
	}
	type file struct {
		name string
		text []byte
	}
	files := []file{{readFile, []byte(readable)}}
	if t.Files == "" {
		id, err := s.identity(ctx)
		if err != nil {
			return err
		}
		key, err := keyCopy(id, append([]string{to}, t.Recipients...))
		if err != nil {
			return err
		}
		files = []file{{readFile, []byte(howToRead)}, {keyFile, key}}
	}
	raw, err = json.Marshal(mark{t.ID, master})
	if err != nil {
		return err
	}
	for _, f := range append(files, file{markFile, append(raw, '\n')}) {
		if err := p.Put(ctx, f.name, int64(len(f.text)), bytes.NewReader(f.text)); err != nil {
			return fmt.Errorf("%s: %w", f.name, err)
		}
	}
	return nil
}

const howToRead = `These are copies of network devices' configurations, made by Steady Magpie.
Each file is sealed (age-encryption.org/v1). They can be read without the
service, by who has one of the keys:

With the service's master key, or its recovery sheet of 24 words:

  magpie key identity --words > master.txt      (or: --master-key FILE)
  age --decrypt -i master.txt magpie-key.age > copies.txt
  age --decrypt -i copies.txt DEVICE/FILE.cfg.age > FILE.cfg

With the identity of a recipient that the target was given:

  age --decrypt -i identity.txt DEVICE/FILE.cfg.age > FILE.cfg

Remove master.txt and copies.txt afterwards: whoever has them can read everything.
`

const readable = `These are copies of network devices' configurations, made by Steady Magpie.
DEVICE/PART.cfg is what was pulled last; DEVICE/DEVICE_PART_TIME_vNUMBER.cfg are
the versions. What is changed here is not read back by the service.
`

// keyCopy is the key of the copies, sealed in the form of text.
func keyCopy(id *age.X25519Identity, to []string) ([]byte, error) {
	var out bytes.Buffer
	lines := armor.NewWriter(&out)
	rs, err := recipients(to)
	if err != nil {
		return nil, err
	}
	w, err := age.Encrypt(lines, rs...)
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(w, id.String()+"\n"); err != nil {
		return nil, err
	}
	if err := errors.Join(w.Close(), lines.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// recipients reads age recipients.
func recipients(lines []string) (to []age.Recipient, err error) {
	for _, line := range lines {
		r, err := age.ParseX25519Recipient(line)
		if err != nil {
			return nil, fmt.Errorf("%w: %q is no recipient; one begins with age1", ErrExport, line)
		}
		to = append(to, r)
	}
	return to, nil
}

// fetch reads a small file of a place.
func fetch(ctx context.Context, p place.Place, name string, most int64) ([]byte, error) {
	r, err := p.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	raw, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(raw)) > most {
		err = fmt.Errorf("%s has more than %d bytes", name, most)
	}
	return raw, err
}

// copyFiles puts sealed copies to a target, and takes those away that are to leave.
func (s *Service) copyFiles(ctx context.Context, t store.Target, b *batch) error {
	ctx, move, done := unstalled(ctx, copyStall)
	defer done()
	p, err := s.reach(ctx, t)
	if err != nil {
		return err
	}
	defer p.Close()
	id, err := s.identity(ctx)
	if err != nil {
		return err
	}
	to, err := recipients(append([]string{id.Recipient().String()}, t.Recipients...))
	if err != nil {
		return err
	}
	var did []store.Copy
	for _, c := range b.come {
		move()
		err = s.copyOne(ctx, t, p, to, &c, move)
		if missed := new(missedError); errors.As(err, &missed) {
			b.failed, c.Trouble = c.VersionID, cmp.Or(context.Cause(ctx), missed.why).Error()
		} else if err != nil {
			break
		}
		if did = append(did, c); err != nil {
			break
		}
		b.did++
	}
	var gone []store.Copy
	for _, c := range b.leave {
		if err != nil {
			break
		}
		move()
		if err = p.Remove(ctx, c.Path); err == nil {
			gone = append(gone, c)
			b.did++
		}
	}
	if err != nil && context.Cause(ctx) != nil {
		err = fmt.Errorf("%w: %w", context.Cause(ctx), err)
	}
	return errors.Join(err, s.copied(ctx, t, p, did, gone, err == nil))
}

// missedError is why a target did not take a file.
type missedError struct {
	path string
	why  error
}

func (e *missedError) Error() string { return e.path + ": " + e.why.Error() }
func (e *missedError) Unwrap() error { return e.why }

// copied writes down what a target has now; whatever is interrupted, that is still true.
func (s *Service) copied(ctx context.Context, t store.Target, p place.Place, did, gone []store.Copy, well bool) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer cancel()
	var room *int64
	if p != nil {
		if n, known := p.Free(ctx); known {
			room = &n
		}
	}
	return s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
		if err := q.Copied(ctx, did); err != nil {
			return err
		}
		for _, c := range gone {
			if err := q.CopyGone(ctx, c); err != nil {
				return err
			}
		}
		if !well {
			return nil
		}
		return q.TargetDid(ctx, t.ID, room)
	})
}

// copyOne puts one version to a target. One that does not read back here is left out: it is not
// the target's fault.
func (s *Service) copyOne(ctx context.Context, t store.Target, p place.Place, to []age.Recipient, c *store.Copy, move func()) error {
	q := s.Store.As(job.Service)
	v, err := q.Version(ctx, store.ByID(c.VersionID))
	if errors.Is(err, store.ErrNotFound) { // it was deleted meanwhile
		c.State = core.CopyLeftOut
		return nil
	}
	if err != nil {
		return err
	}
	if t.Files != "" {
		return s.copyReadable(ctx, t.Files == core.FilesPlain, p, v, c, move)
	}
	sealed, done, err := s.sealedCopy(ctx, q, v, to)
	if errors.Is(err, store.ErrDamaged) {
		c.State, c.Trouble = core.CopyLeftOut, store.Unreadable
		return nil
	}
	if err != nil {
		return err
	}
	defer done()
	if c.Bytes, err = sealed.Seek(0, io.SeekEnd); err == nil {
		_, err = sealed.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	c.Path = v.Device + "/" + fileName(v) + ".age"
	if err := p.Put(ctx, c.Path, c.Bytes, movingReader{sealed, move}); err != nil {
		return &missedError{c.Path, err}
	}
	c.State, c.Trouble = core.CopyThere, ""
	return nil
}

// copyReadable puts one version to a target as it is, or masked, and beside it, where nothing newer was
// kept, as what its part runs.
func (s *Service) copyReadable(ctx context.Context, plain bool, p place.Place, v core.Version, c *store.Copy, move func()) error {
	q := s.Store.As(job.Service)
	d, err := q.DeviceByID(ctx, v.DeviceID)
	if err != nil {
		return err
	}
	f, write, err := s.fileOf(ctx, Export{Plain: plain}, d, v)
	if err != nil {
		return err
	}
	if f.Left != "" {
		c.State, c.Trouble = core.CopyLeftOut, f.Left
		return nil
	}
	names := []string{v.Device + "/" + f.Name}
	newest, err := q.Version(ctx, store.Latest(v.DeviceID, v.Part, 0))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if newest.ID == v.ID {
		names = append(names, currentFile(v))
	}
	for _, name := range names {
		r, w := io.Pipe()
		go func() { w.CloseWithError(write(w)) }()
		err := p.Put(ctx, name, f.Bytes, movingReader{r, move})
		r.Close()
		if errors.Is(err, store.ErrDamaged) {
			c.State, c.Trouble = core.CopyLeftOut, store.Unreadable
			return nil
		}
		if err != nil {
			return &missedError{name, err}
		}
	}
	c.Path, c.Bytes, c.State, c.Trouble = names[0], f.Bytes, core.CopyThere, ""
	return nil
}

// currentFile is the name of the readable file of what a version's part runs.
func currentFile(v core.Version) string {
	return v.Device + "/" + strings.ReplaceAll(v.Part, "+", "-") + path.Ext(fileName(v))
}

// sealedCopy is a version's content, sealed: in memory, or, where it is large, in a file.
func (s *Service) sealedCopy(ctx context.Context, q *store.Q, v core.Version, to []age.Recipient) (sealed io.ReadSeeker, done func(), err error) {
	var out io.Writer
	var held bytes.Buffer
	var file *os.File
	done = func() {}
	if out = &held; v.Size > store.Large {
		if file, done, err = s.SpoolFile(); err != nil {
			return nil, nil, err
		}
		out = file
	}
	w, err := age.Encrypt(out, to...)
	if err == nil {
		err = q.ContentTo(ctx, v.ContentID, w)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		done()
		return nil, nil, err
	}
	if file != nil {
		return file, done, nil
	}
	return bytes.NewReader(held.Bytes()), done, nil
}

// SpoolFile makes a file for what is sealed and on its way; done removes it.
func (s *Service) SpoolFile() (file *os.File, done func(), err error) {
	if err := os.MkdirAll(s.Spool, 0o700); err != nil {
		return nil, nil, err
	}
	if file, err = os.CreateTemp(s.Spool, "backup-*"); err != nil {
		return nil, nil, err
	}
	return file, func() { _ = file.Close(); _ = os.Remove(file.Name()) }, nil
}

// copyCommits commits versions to a repository, masked, each with its author and note.
func (s *Service) copyCommits(ctx context.Context, t store.Target, b *batch) error {
	ctx, cancel := context.WithTimeout(ctx, copyWithin)
	defer cancel()
	come := b.come
	r, err := place.OpenGit(ctx, way(t))
	if err != nil {
		return err
	}
	// A push whose end was not written down is found again by what was committed last.
	last := r.Last()
	there := false
	for _, c := range come {
		there = there || c.VersionID == last
	}
	var commits []place.Commit
	var did []store.Copy
	for _, c := range come {
		if there {
			c.State = core.CopyThere
			did = append(did, c)
			there = c.VersionID != last
			continue
		}
		commit, left, err := s.commitOf(ctx, c)
		if err != nil {
			return err
		}
		if c.State, c.Trouble = core.CopyThere, left; left != "" {
			c.State = core.CopyLeftOut
		} else {
			c.Path, c.Bytes = commit.Path, int64(len(commit.Text))
			commits = append(commits, commit)
		}
		did = append(did, c)
	}
	if err := r.Add(ctx, commits); err != nil {
		return err
	}
	return s.copied(ctx, t, nil, did, nil, true)
}

// commitOf is a version as a commit, or why it is none.
func (s *Service) commitOf(ctx context.Context, c store.Copy) (out place.Commit, left string, err error) {
	v, err := s.Store.As(job.Service).Version(ctx, store.ByID(c.VersionID))
	if errors.Is(err, store.ErrNotFound) {
		return out, "it was deleted", nil
	}
	if err != nil {
		return out, "", err
	}
	d, err := s.Store.As(job.Service).DeviceByID(ctx, v.DeviceID)
	if err != nil {
		return out, "", err
	}
	if v.Aside != "" {
		return out, "it is set aside: " + v.Aside, nil
	}
	f, write, err := s.fileOf(ctx, Export{}, d, v)
	if err != nil || f.Left != "" {
		return out, f.Left, err
	}
	var content bytes.Buffer
	if err := write(&content); err != nil {
		return out, "", err
	}
	author := v.Author
	if author == "" {
		author = v.Actor
	}
	said := fmt.Sprintf("%s: %s", v.Ref(), v.Reason)
	if v.Name != "" {
		said = fmt.Sprintf("%s (%s): %s", v.Ref(), v.Name, v.Reason)
	}
	if v.Note != "" {
		said += "\n\n" + v.Note
	}
	return place.Commit{ID: v.ID, Path: v.Device + "/" + strings.ReplaceAll(v.Part, "+", "-") + ".cfg", Text: content.String(), Message: said, Author: author, At: v.TakenAt}, "", nil
}

// Repair brings a content back from a copy elsewhere. from: by whom it was; empty: nobody has it.
func (s *Service) Repair(ctx context.Context, contentID string) (from string, err error) {
	q := s.Store.As(job.Service)
	copies, err := q.CopiesWith(ctx, contentID)
	if err != nil || len(copies) == 0 {
		return "", err
	}
	targets, err := q.Targets(ctx)
	if err != nil {
		return "", err
	}
	id, err := s.identity(ctx)
	if err != nil {
		return "", err
	}
	var failed error
	for _, c := range copies {
		for _, t := range targets {
			if t.ID != c.TargetID || t.Kind == place.Git || t.Files == core.FilesMasked {
				continue
			}
			if err = s.mend(ctx, t, c.Path, contentID, id); err == nil {
				return t.Name, nil
			}
			if errors.Is(err, place.ErrAbsent) { // it is made anew, once the content reads back
				if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.CopiesLost(ctx, t.ID, []string{c.VersionID}) }); err != nil {
					return "", err
				}
			}
			failed = errors.Join(failed, fmt.Errorf("%s: %w", t.Name, err))
		}
	}
	return "", failed
}

// mend puts a content right by a sealed file of a target.
func (s *Service) mend(ctx context.Context, t store.Target, name, contentID string, id age.Identity) error {
	p, err := place.Open(ctx, way(t))
	if err != nil {
		return err
	}
	defer p.Close()
	r, err := p.Get(ctx, name)
	if err != nil {
		return err
	}
	defer r.Close()
	var opened io.Reader = r
	if t.Files == "" {
		if opened, err = age.Decrypt(r, id); err != nil {
			return fmt.Errorf("%s cannot be opened: %w", name, err)
		}
	}
	if _, pieces, err := s.Store.As(job.Service).ContentSize(ctx, contentID); err != nil || pieces {
		if err == nil {
			err = s.Store.MendSunk(ctx, contentID, opened)
		}
		return err
	}
	content, err := io.ReadAll(io.LimitReader(opened, store.Large+1))
	if err == nil && s.Store.Keys().Hash("content", content) != contentID {
		err = errors.New("what is there is another text")
	}
	if err != nil {
		return err
	}
	return s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.MendContent(ctx, contentID, content) })
}
