package read

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/find"
	"magpie/internal/core/ref"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
)

// SearchRequest asks for lines of what runs now, or for blocks.
type SearchRequest struct {
	Line     string // lines that have it
	In       string // only in blocks whose own line begins with it
	Lacks    string // blocks that In names which have no line below that has it
	Regexp   bool   // all of these are expressions of RE2
	Selector ref.Selector
	Part     string // of this part only; empty: of all that do not follow another, as startup follows running
	AllParts bool   // of those too
	Secrets  bool   // texts as they are; otherwise as those see them who may not see secrets
	Since    bool   // tell which version brought each line in
	After    string // the end of the page before
	Limit    int
}

// Found is one line, or one block, that was found.
type Found struct {
	Ref     string // the version it was found in
	Device  string
	Part    string
	TakenAt time.Time // when that version was taken
	Line    int       // from 1
	Text    string
	Path    string  // the blocks around it, outermost first, joined by " / "
	Origin  *Origin // the version that brought it in, where that was asked for
}

// SearchResult is a page of what was found.
type SearchResult struct {
	Found    []Found
	Next     string // where the next page begins; empty: there is none
	Texts    int    // so many were searched, of these devices
	Unread   int    // opaque parts and texts that no dialect reads, which were not
	Distinct int    // different lines in all
}

// resync is after how long all texts are looked at again: for devices that were renamed or taken out.
const resync = 5 * time.Minute

// overlap is for how long a row may have been written before it could be seen.
const overlap = time.Minute

// key orders texts by device and part.
func key(n store.Newest) string { return n.Device + "\x00" + n.Part }

// Search looks for lines in what runs now.
func (s *Service) Search(ctx context.Context, actor core.Actor, r SearchRequest) (out SearchResult, err error) {
	q, err := r.query()
	if err != nil {
		return out, err
	}
	if r.Secrets && !actor.Secrets {
		return out, fmt.Errorf("%w: secrets are not shown to you", ErrSearch)
	}
	if err := s.indexed(ctx); err != nil {
		return out, err
	}
	return s.searchOnce(ctx, actor, r, q, false)
}

// current tells whether the devices of hits are there, by those names.
func (s *Service) current(ctx context.Context, rows []store.Newest) (bool, error) {
	var ids []string
	for _, n := range rows {
		if !slices.Contains(ids, n.DeviceID) {
			ids = append(ids, n.DeviceID)
		}
	}
	names, err := s.Store.As(job.Service).NamesNow(ctx, ids)
	for _, n := range rows {
		if err == nil && names[n.DeviceID] != n.Device {
			return false, nil
		}
	}
	return true, err
}

// searchOnce looks into the index; again: it was brought up to date just now, since devices were renamed
// or taken out.
func (s *Service) searchOnce(ctx context.Context, actor core.Actor, r SearchRequest, q find.Query, again bool) (out SearchResult, err error) {
	var only map[string]bool
	if !r.Selector.All() {
		all, err := s.Store.As(actor).Devices(ctx, r.Selector)
		if err != nil {
			return out, err
		}
		only = map[string]bool{}
		for _, d := range all {
			only[d.Name] = true
		}
	}
	wanted := func(key string) bool {
		device, part, _ := strings.Cut(key, "\x00")
		return (only == nil || only[device]) && (part == r.Part || r.Part == "" && (r.AllParts || !s.search.follows[key]))
	}
	after, line := "", -1
	if r.After != "" {
		device, rest, _ := strings.Cut(r.After, "/")
		part, number, ok := cutLast(rest, ":")
		if _, err := fmt.Sscan(number, &line); !ok || err != nil {
			return out, fmt.Errorf("%w: %q is not the end of a page", ErrSearch, r.After)
		}
		after, line = device+"\x00"+part, line-1
	}
	x := s.search
	x.mu.RLock()
	began := time.Now()
	hits, more, err := x.index.Find(q, after, line, r.Limit, wanted, func() bool { return ctx.Err() != nil || time.Since(began) > searchWithin })
	if err != nil {
		x.mu.RUnlock()
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		return out, fmt.Errorf("%w: %w: say more of the line, or less with the expression", ErrSearch, err)
	}
	out.Distinct = x.index.Distinct()
	for k := range x.known {
		if wanted(k) && !x.unread[k] {
			out.Texts++
		} else if wanted(k) {
			out.Unread++
		}
	}
	rows := make([]store.Newest, len(hits))
	for i, h := range hits {
		rows[i] = x.known[h.Key]
	}
	x.mu.RUnlock()
	if current, err := s.current(ctx, rows); err != nil {
		return out, err
	} else if !current && !again {
		if err := s.reindex(ctx); err != nil {
			return out, err
		}
		return s.searchOnce(ctx, actor, r, q, true)
	}
	for i, h := range hits {
		n := rows[i]
		f := Found{Ref: ref.Version{Device: n.Device, Part: n.Part, Which: "number", Number: n.Number}.String(), Device: n.Device, Part: n.Part, TakenAt: n.TakenAt, Line: h.Line + 1, Text: h.Text, Path: strings.Join(h.Path, " / ")}
		out.Found = append(out.Found, f)
	}
	if more {
		last := out.Found[len(out.Found)-1]
		out.Next = fmt.Sprintf("%s/%s:%d", last.Device, last.Part, last.Line)
	}
	if r.Since {
		for i := range out.Found {
			f := &out.Found[i]
			all, err := s.origins(ctx, s.Store.As(actor), rows[i].VersionID)
			if err != nil {
				return out, err
			}
			if f.Line <= len(all) {
				f.Origin = &all[f.Line-1]
			}
		}
	}
	return out, nil
}

func cutLast(s, sep string) (before, after string, ok bool) {
	i := strings.LastIndex(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+len(sep):], true
}

// Sound tells what is wrong with what is looked for; nil: nothing is.
func (r SearchRequest) Sound() error {
	_, err := r.query()
	return err
}

// query reads what is looked for.
func (r SearchRequest) query() (q find.Query, err error) {
	no := func(field string, err error) error { return fmt.Errorf("%w: %s: %w", ErrSearch, field, err) }
	pattern := func(text string) (*find.Pattern, error) {
		if text == "" {
			return nil, nil
		}
		if r.Regexp {
			return find.Regexp(text)
		}
		return find.Words(text)
	}
	q.Masked = !r.Secrets
	switch {
	case r.Lacks != "" && r.In == "":
		return q, no("lacks", errors.New("say which blocks are to be looked at (in), of which some lack it"))
	case r.Line == "" && r.In == "":
		return q, no("line", errors.New("say what to look for"))
	case r.Lacks != "" && r.Line != "":
		return q, no("lacks", errors.New("ask for lines, or for blocks that lack one; not for both"))
	}
	if q.Line, err = pattern(r.Line); err != nil {
		return q, no("line", err)
	}
	if q.Lacks, err = pattern(r.Lacks); err != nil {
		return q, no("lacks", err)
	}
	if r.In == "" {
		return q, nil
	}
	if r.Regexp {
		q.In, err = find.Regexp(r.In)
	} else if _, err = find.Words(r.In); err == nil {
		q.In, err = find.Regexp(`^\s*` + regexp.QuoteMeta(strings.TrimSpace(r.In)) + `(\W|$)`)
	}
	if err != nil {
		return q, no("in", err)
	}
	return q, nil
}

// indexed brings the index up to date. While the first reading lasts long it says how far that is.
func (s *Service) indexed(ctx context.Context) error {
	x := s.search
	x.mu.Lock()
	if !x.begun {
		x.begun, x.made = true, make(chan struct{})
		go func() { // for whoever comes next, too: it goes on when this one goes away
			err := s.reindex(context.WithoutCancel(ctx))
			x.mu.Lock()
			defer x.mu.Unlock()
			if x.failed = err; err != nil {
				x.begun = false
			}
			close(x.made)
		}()
	}
	made, whole, rules, upTo := x.made, x.whole, x.rules, x.upTo
	x.mu.Unlock()
	select {
	case <-made:
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(20 * time.Second):
		x.mu.Lock()
		defer x.mu.Unlock()
		return fmt.Errorf("%w: %d of %d", ErrIndexing, x.done, x.all)
	}
	switch {
	case whole.IsZero(): // it was read just now
		x.mu.Lock()
		defer x.mu.Unlock()
		return x.failed
	case rules != s.reading():
		return s.reindex(ctx)
	case s.Now().Sub(whole) > resync && x.again.CompareAndSwap(false, true):
		go func() { // nobody waits for it: what is found is made sure of anyway
			defer x.again.Store(false)
			if err := s.reindex(context.WithoutCancel(ctx)); err != nil {
				slog.Warn("the texts that are searched could not be looked at again", "why", err)
			}
		}()
	}
	return s.freshen(ctx, upTo)
}

// freshen reads the texts of parts whose rows were written since a time, and that were not read then.
func (s *Service) freshen(ctx context.Context, upTo time.Time) error {
	q, x := s.Store.As(job.Service), s.search
	looked, err := q.Clock(ctx)
	if err != nil {
		return err
	}
	all, err := q.PartsTouched(ctx, upTo.Add(-overlap))
	if err != nil {
		return err
	}
	x.mu.RLock()
	known, touched := x.touched, map[string]time.Time{}
	x.mu.RUnlock()
	var ids []string
	for _, t := range all {
		if touched[t.PartID] = t.At; !known[t.PartID].Equal(t.At) {
			ids = append(ids, t.PartID)
		}
	}
	for some := range slices.Chunk(ids, 1000) {
		rows, err := q.NewestOf(ctx, some)
		if err == nil {
			err = s.take(ctx, rows)
		}
		if err != nil {
			return err
		}
	}
	x.mu.Lock()
	x.upTo, x.touched = looked, touched
	x.mu.Unlock()
	return nil
}

// reading tells the dialects apart by which texts are read.
func (s *Service) reading() string {
	var all strings.Builder
	for _, d := range s.Dialects() {
		fmt.Fprintln(&all, d.Dialect, d.Revision)
	}
	return all.String()
}

// reindex looks at all texts, and forgets those that are gone.
func (s *Service) reindex(ctx context.Context) error {
	x, rules, now, q := s.search, s.reading(), s.Now(), s.Store.As(job.Service)
	looked, err := q.Clock(ctx)
	if err != nil {
		return err
	}
	rows, err := q.NewestOfAll(ctx)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, n := range rows {
		there[key(n)] = true
	}
	x.mu.Lock()
	for k := range x.known {
		if !there[k] || x.rules != rules {
			x.index.Drop(k)
			delete(x.known, k)
			delete(x.unread, k)
			delete(x.follows, k)
		}
	}
	x.all, x.done = len(rows), 0
	x.mu.Unlock()
	if err := s.take(ctx, rows); err != nil {
		return err
	}
	x.mu.Lock()
	x.whole, x.rules, x.upTo, x.touched = now, rules, looked, nil
	x.mu.Unlock()
	return nil
}

// take reads the texts that are not known yet.
func (s *Service) take(ctx context.Context, rows []store.Newest) error {
	x := s.search
	x.mu.Lock()
	rows = slices.DeleteFunc(rows, func(n store.Newest) bool { return x.known[key(n)].VersionID == n.VersionID })
	x.mu.Unlock()
	if len(rows) == 0 {
		return nil
	}
	q := s.Store.As(job.Service)
	devices := map[string]core.Device{}
	if len(rows) > 20 {
		all, err := q.Devices(ctx, ref.All())
		if err != nil {
			return err
		}
		for _, d := range all {
			devices[d.ID] = d
		}
	}
	next := make(chan store.Newest)
	var hands sync.WaitGroup
	var failed error
	for range max(1, runtime.GOMAXPROCS(0)) {
		hands.Go(func() {
			for n := range next {
				d, known := devices[n.DeviceID]
				var err error
				if !known {
					d, err = q.DeviceByID(ctx, n.DeviceID)
				}
				var t find.Text
				readable := false
				if err == nil {
					t, readable, err = s.searchable(ctx, q, d, n)
				}
				x.mu.Lock()
				switch {
				case errors.Is(err, store.ErrNotFound), errors.Is(err, store.ErrDamaged): // it is gone, or cannot be read: not searched
					err = nil
					fallthrough
				case err == nil:
					x.known[key(n)] = n
					if dia := s.DialectOf(d); dia != nil {
						follower, _, _ := dia.Follower()
						x.follows[key(n)] = n.Part == follower
					}
					if x.unread[key(n)] = !readable; readable {
						x.index.Put(key(n), t)
					} else {
						x.index.Drop(key(n))
					}
				default:
					failed = err
				}
				x.done++
				x.mu.Unlock()
			}
		})
	}
	for _, n := range rows {
		next <- n
	}
	close(next)
	hands.Wait()
	return failed
}

// searchable reads a version for the index. What is no text, and what no dialect reads, is not.
func (s *Service) searchable(ctx context.Context, q *store.Q, d core.Device, n store.Newest) (t find.Text, ok bool, err error) {
	dia := s.DialectOf(d)
	if dia == nil || dia.Doc(n.Part).Opaque() {
		return t, false, nil
	}
	raw, err := q.Content(ctx, n.ContentID)
	if errors.Is(err, store.ErrLarge) {
		return t, false, nil
	}
	if err != nil {
		return t, false, err
	}
	return s.searchText(dia.Doc(n.Part), string(raw)), true, nil
}

// searchWithin is how long one search may take.
const searchWithin = 4 * time.Second

// searchText is a text as it is searched.
func (s *Service) searchText(doc *dialect.Doc, raw string) find.Text {
	masked, err := s.Masked(doc, raw)
	if err != nil {
		masked = "" // nothing of it can be shown to who may not see secrets
	}
	return Searchable(doc, raw, marks.ReplaceAllString(masked, "‹secret›"))
}

// marks are what masked secrets are shown as. They tell equal ones from others, so that a search for
// one would tell who has it.
var marks = regexp.MustCompile(`‹secret [^›]*›`)

// Searchable is a text as it is searched: as it is, and with its secrets masked. Of a masked text that
// has not the same lines nothing is shown.
func Searchable(doc *dialect.Doc, src, masked string) find.Text {
	t := find.Text{Lines: text.Lines(src), Masked: text.Lines(masked)}
	t.Up, _ = doc.Around(src)
	if len(t.Masked) != len(t.Lines) {
		t.Masked = make([]string, len(t.Lines))
		return t
	}
	_, heads := doc.Around(masked)
	for _, h := range heads {
		t.Heads = append(t.Heads, find.Head(h))
	}
	return t
}
