package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"

	"magpie/internal/core"
	"magpie/internal/core/pack"

	"github.com/jmoiron/sqlx/reflectx"
)

// Formats of a content: one that stands alone, and one that is packed against another (package
// pack). Both are sealed.
const (
	whole = 1
	delta = 2
)

// ErrDamaged is returned for a content that does not read back as it was kept.
var ErrDamaged = errors.New("it does not read back as it was kept")

// worth is how much smaller a content has to be against another to be kept so: reading it takes
// a step more.
const worth = 0.9

func contentSubject(id string, format int, base string) string {
	return fmt.Sprintf("%s %d %s", id, format, base)
}

// sealed is a row of contents, opened or about to be kept.
type sealed struct {
	ID     string `db:"id"`
	Size   int    `db:"size"`
	Format int    `db:"format"`
	Base   string `db:"base"`
	Depth  int    `db:"depth"`
	Sealed []byte `db:"sealed"`
}

// packed packs and seals a text; against the content of base, where that makes it smaller.
func (q *Q) packed(id string, content []byte, base sealed, text []byte) sealed {
	out := sealed{ID: id, Size: len(content), Format: whole}
	least := pack.Alone(content)
	if base.ID != "" && base.ID != id && len(text) > 0 && base.Depth+1 < pack.Most {
		if d := pack.Against(content, text); float64(len(d)) < worth*float64(len(least)) {
			least, out.Format, out.Base, out.Depth = d, delta, base.ID, base.Depth+1
		}
	}
	out.Sealed = q.keys.Seal("content", contentSubject(id, out.Format, out.Base), least)
	return out
}

// PutContent keeps a text, once, and returns its id. It is the next of a part, whose last number
// is that: it is packed against an earlier one.
func (q *Q) PutContent(ctx context.Context, content []byte, partID string, last int) (string, error) {
	id := q.keys.Hash("content", content)
	if there, err := q.hold(ctx, id); err != nil || there { // a content that returns
		if err == nil {
			if _, err = q.Content(ctx, id); errors.Is(err, ErrDamaged) {
				err = q.MendContent(ctx, id, content)
			}
		}
		return id, err
	}
	base, text, err := q.baseOf(ctx, partID, last+1)
	if err != nil {
		return id, err
	}
	x := q.packed(id, content, base, text)
	if err := q.touch(ctx, x.Base); err != nil {
		return id, err
	}
	_, err = q.exec(ctx, `INSERT INTO contents (id, size, format, base, depth, sealed, bytes) VALUES (?, ?, ?, ?, ?, ?, LENGTH(sealed))`, x.ID, x.Size, x.Format, x.Base, x.Depth, x.Sealed)
	if errors.Is(err, ErrTaken) { // somebody else kept it meanwhile
		err = q.touch(ctx, id)
	}
	return id, err
}

// hold tells whether a content is there, and holds it until the transaction ends, so that it is not
// dropped before the version that is to have it is there.
func (q *Q) hold(ctx context.Context, id string) (there bool, err error) {
	err = q.touch(ctx, id)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// touch holds a content that something is built on, on every server of a cluster: whoever takes
// it away at the same moment fails, or is waited for.
func (q *Q) touch(ctx context.Context, id string) error {
	if id == "" {
		return nil
	}
	n, err := q.exec(ctx, `UPDATE contents SET touched = touched + 1 WHERE id = ?`, id)
	if err == nil && n == 0 {
		err = fmt.Errorf("content %.12s: %w", id, ErrNotFound)
	}
	return err
}

// baseOf is the content that a version of a part is packed against: that of the number that
// pack.Base names, or of the next lower one that is still there. Its row is locked, so that it
// stays. None, where it cannot be read: then the new one stands alone.
func (q *Q) baseOf(ctx context.Context, partID string, number int) (base sealed, text []byte, err error) {
	if partID == "" || pack.Base(number) == 0 {
		return base, nil, nil
	}
	base, err = get[sealed](ctx, q.ext, `SELECT c.id, c.size, c.format, c.base, c.depth, '' AS sealed FROM contents c JOIN versions v ON v.content_id = c.id
		WHERE v.part_id = ? AND v.number <= ? ORDER BY v.number DESC LIMIT 1 FOR UPDATE`, partID, pack.Base(number))
	if errors.Is(err, ErrNotFound) {
		return sealed{}, nil, nil
	}
	if err != nil {
		return base, nil, err
	}
	text, err = q.Content(ctx, base.ID)
	if errors.Is(err, ErrDamaged) || errors.Is(err, ErrLarge) {
		return sealed{}, nil, nil
	}
	return base, text, err
}

// Content reads a text back, byte for byte, or says that it cannot (ErrDamaged).
func (q *Q) Content(ctx context.Context, id string) ([]byte, error) {
	by, err := q.chain(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("content %.12s: %w", id, err)
	}
	return q.opened(ctx, by, id)
}

// opened reads a content back whose chain is there.
func (q *Q) opened(ctx context.Context, by map[string]sealed, id string) ([]byte, error) {
	first := by[id]
	if first.Format == chunked {
		if first.Size > Large {
			return nil, fmt.Errorf("content %.12s: %w", id, ErrLarge)
		}
		var out bytes.Buffer
		err := q.ContentTo(ctx, id, &out)
		return out.Bytes(), err
	}
	content, err := q.unpacked(by, id)
	if err == nil && q.keys.Hash("content", content) != id {
		err = ErrDamaged
	}
	if err != nil {
		return nil, fmt.Errorf("content %.12s: %w", id, err)
	}
	return content, nil
}

// Most chains have no more than stride links, and texts that are packed to less than small: they
// are read as one row. A recursive query takes twice as long, since it makes a table of each step.
const (
	stride = 12
	small  = 64 << 10
)

// links are the columns of so many links of a chain that begins with c0, and how they are joined.
func links(n int) (columns, joins string) {
	for i := range n {
		columns += fmt.Sprintf(", c%[1]d.id, c%[1]d.size, c%[1]d.format, c%[1]d.base, c%[1]d.depth, IF(LENGTH(c%[1]d.sealed) <= %[2]d, c%[1]d.sealed, NULL)", i, small)
		if i > 0 {
			joins += fmt.Sprintf("LEFT JOIN contents c%d ON c%[1]d.id = c%d.base ", i, i-1)
		}
	}
	return columns, joins
}

// textOf asks for a content and its links, and textsOf for a version and those of its text, by how
// many these are.
var (
	textOf = sync.OnceValue(func() string {
		columns, joins := links(stride)
		return "SELECT c0.id" + columns + " FROM contents c0 " + joins + "WHERE c0.id = ?"
	})
	textsOf = sync.OnceValue(func() (all [stride + 1]string) {
		for n := range all {
			columns, joins := links(n)
			all[n] = versionColumns + columns + versionTables + joins
		}
		return all
	})
)

// linked asks for one row that begins with the columns of into, and goes on with links. The chain
// is as it is at one moment: what is packed anew meanwhile would not fit together. It is nil where
// not all of it is there.
func (q *Q) linked(ctx context.Context, into any, n int, query string, args ...any) (map[string]sealed, error) {
	rows, err := q.often().QueryxContext(ctx, query, args...)
	if err != nil {
		return nil, plain(err)
	}
	defer rows.Close()
	if !rows.Next() {
		return nil, plain(cmp.Or(rows.Err(), ErrNotFound))
	}
	columns, err := rows.Columns()
	if err != nil {
		return nil, plain(err)
	}
	row := make([]struct {
		id, base            sql.NullString
		size, format, depth sql.NullInt64
		sealed              []byte
	}, n)
	own := reflect.ValueOf(into)
	var to []any
	for _, at := range rows.Mapper.TraversalsByName(own.Type(), columns[:len(columns)-6*n]) {
		to = append(to, reflectx.FieldByIndexes(own, at).Addr().Interface())
	}
	for i := range row {
		l := &row[i]
		to = append(to, &l.id, &l.size, &l.format, &l.base, &l.depth, &l.sealed)
	}
	if err := errors.Join(rows.Scan(to...), rows.Close()); err != nil {
		return nil, plain(err)
	}
	by := map[string]sealed{}
	for _, l := range row {
		if l.sealed == nil { // too long, or gone
			break
		}
		by[l.id.String] = sealed{ID: l.id.String, Size: int(l.size.Int64), Format: int(l.format.Int64), Base: l.base.String, Depth: int(l.depth.Int64), Sealed: l.sealed}
		if l.base.String == "" {
			return by, nil
		}
	}
	return nil, nil
}

// VersionText returns the version that is picked, and its text. Of one whose text is too large it
// returns the version, and ErrLarge.
func (q *Q) VersionText(ctx context.Context, p Pick) (v core.Version, text []byte, err error) {
	var by map[string]sealed
	if 0 < p.steps && p.steps <= stride {
		by, err = q.linked(ctx, &v, p.steps, textsOf()[p.steps]+p.where, p.args...)
	} else {
		v, err = q.Version(ctx, p)
	}
	if err != nil {
		return v, nil, err
	}
	if by == nil {
		text, err = q.Content(ctx, v.ContentID)
	} else {
		text, err = q.opened(ctx, by, v.ContentID)
	}
	return v, text, err
}

// chain is a content and all that it is packed against, as far as that is there.
func (q *Q) chain(ctx context.Context, id string) (map[string]sealed, error) {
	by, err := q.linked(ctx, &struct{ ID string }{}, stride, textOf(), id)
	if err != nil || by != nil {
		return by, err
	}
	// Ids alone go through the recursion: with texts in it, it would be made on disk.
	chain, err := list[sealed](ctx, q.ext, `WITH RECURSIVE chain AS (SELECT id, base FROM contents WHERE id = ? UNION ALL SELECT c.id, c.base FROM contents c JOIN chain ON c.id = chain.base)
		SELECT c.id, c.size, c.format, c.base, c.depth, c.sealed FROM chain JOIN contents c ON c.id = chain.id`, id)
	by = map[string]sealed{}
	for _, c := range chain {
		by[c.ID] = c
	}
	if _, there := by[id]; err == nil && !there {
		err = ErrNotFound
	}
	return by, err
}

// unpacked gives a content of a chain back.
func (q *Q) unpacked(by map[string]sealed, id string) ([]byte, error) {
	var chain [][]byte // the last is packed against the one before
	for more := true; more; {
		c, ok := by[id]
		if !ok || len(chain) > pack.Most {
			return nil, fmt.Errorf("%w: what it builds on is gone", ErrDamaged)
		}
		packed, err := q.keys.Open("content", contentSubject(id, c.Format, c.Base), c.Sealed)
		if err != nil {
			return nil, fmt.Errorf("%w: its seal is broken", ErrDamaged)
		}
		chain = append(chain, packed)
		id, more = c.Base, c.Format == delta
	}
	slices.Reverse(chain)
	content, err := pack.UnpackChain(chain)
	if err != nil {
		return nil, fmt.Errorf("%w: it cannot be unpacked", ErrDamaged)
	}
	return content, nil
}

// DropContents removes those of some contents that no version has any more; what builds on one
// is packed anew first. It returns how many went and the bytes that they took.
func (q *Q) DropContents(ctx context.Context, ids []string) (n int, bytes int64, err error) {
	for _, id := range ids {
		// Locked first and counted then: who keeps a version of it meanwhile holds the row (see hold).
		gone, err := get[sealed](ctx, q.ext, `SELECT id, size, format, base, depth, sealed FROM contents WHERE id = ? FOR UPDATE`, id)
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return n, bytes, err
		}
		used, err := get[int](ctx, q.ext, `SELECT COUNT(*) FROM versions WHERE content_id = ?`, id)
		if err != nil {
			return n, bytes, err
		}
		if used > 0 {
			continue
		}
		if err := q.rebase(ctx, gone); err != nil {
			return n, bytes, err
		}
		if gone.Format == chunked {
			more, err := q.dropPieces(ctx, id)
			if err != nil {
				return n, bytes, err
			}
			bytes += more
		}
		if _, err := q.exec(ctx, `DELETE FROM contents WHERE id = ?`, id); err != nil {
			return n, bytes, err
		}
		if _, err := q.exec(ctx, `DELETE FROM damage WHERE content_id = ?`, id); err != nil {
			return n, bytes, err
		}
		n, bytes = n+1, bytes+int64(len(gone.Sealed))
	}
	return n, bytes, nil
}

// Dangling lists versions whose content is not there, at most so many: there must be none.
func (q *Q) Dangling(ctx context.Context, most int) ([]core.Version, error) {
	return list[core.Version](ctx, q.ext, `SELECT v.id, d.name AS device, p.name AS part, v.number, v.content_id FROM versions v JOIN parts p ON p.id = v.part_id JOIN devices d ON d.id = p.device_id
		WHERE NOT EXISTS (SELECT 1 FROM contents c WHERE c.id = v.content_id) ORDER BY d.name, p.name, v.number LIMIT ?`, most)
}

// rebase packs what builds on a content against what that builds on itself, or alone. One that
// cannot be read any more stays as it is: it is damaged, and a scrub names it.
func (q *Q) rebase(ctx context.Context, gone sealed) error {
	above, err := list[sealed](ctx, q.ext, `SELECT id, size, format, base, depth, sealed FROM contents WHERE base = ? FOR UPDATE`, gone.ID)
	if err != nil || len(above) == 0 {
		return err
	}
	var base sealed
	var text []byte
	if gone.Base != "" {
		if base, err = get[sealed](ctx, q.ext, `SELECT id, size, format, base, depth, '' AS sealed FROM contents WHERE id = ? FOR UPDATE`, gone.Base); err == nil {
			text, err = q.Content(ctx, gone.Base)
		}
		if errors.Is(err, ErrDamaged) || errors.Is(err, ErrNotFound) {
			base, text, err = sealed{}, nil, nil
		}
		if err != nil {
			return err
		}
	}
	for _, a := range above {
		content, err := q.Content(ctx, a.ID)
		if errors.Is(err, ErrDamaged) {
			continue
		}
		if err != nil {
			return err
		}
		if err := q.repack(ctx, a, q.packed(a.ID, content, base, text)); err != nil {
			return err
		}
	}
	return nil
}

// repack puts another form of a content in the place of one.
func (q *Q) repack(ctx context.Context, was, is sealed) error {
	if err := q.touch(ctx, is.Base); err != nil {
		return err
	}
	_, err := q.exec(ctx, `UPDATE contents SET format = ?, base = ?, depth = ?, sealed = ?, bytes = LENGTH(sealed) WHERE id = ? AND format = ? AND base = ?`, is.Format, is.Base, is.Depth, is.Sealed, was.ID, was.Format, was.Base)
	return err
}

// Loose lists contents of versions that stand alone and need not: those of a part's numbers
// that are packed against another, beyond a version's id, in their order.
func (q *Q) Loose(ctx context.Context, after string, limit int) ([]core.Version, error) {
	query, args, err := in(`SELECT v.id, v.part_id, v.number, v.content_id FROM versions v JOIN contents c ON c.id = v.content_id
		WHERE v.id > ? AND c.format = 1 AND v.number NOT IN (?) ORDER BY v.id LIMIT ?`, after, pack.Alones(), limit)
	if err != nil {
		return nil, err
	}
	return list[core.Version](ctx, q.ext, query, args...)
}

// Tighten packs the content of a version against an earlier one, where that makes it smaller.
// It tells by how many bytes.
func (q *Q) Tighten(ctx context.Context, v core.Version) (saved int, err error) {
	was, err := get[sealed](ctx, q.ext, `SELECT id, size, format, base, depth, sealed FROM contents WHERE id = ? FOR UPDATE`, v.ContentID)
	if errors.Is(err, ErrNotFound) || err == nil && was.Format != whole {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	content, err := q.Content(ctx, v.ContentID)
	if errors.Is(err, ErrDamaged) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	base, text, err := q.baseOf(ctx, v.PartID, v.Number)
	if err != nil {
		return 0, err
	}
	// What it would build on must not build on it.
	for at := base; at.Base != ""; {
		if at.Base == was.ID {
			return 0, nil
		}
		if at, err = get[sealed](ctx, q.ext, `SELECT id, size, format, base, depth, '' AS sealed FROM contents WHERE id = ?`, at.Base); err != nil {
			return 0, err
		}
	}
	above, err := get[int](ctx, q.ext, `SELECT COUNT(*) FROM contents WHERE base = ?`, was.ID)
	if err != nil || above > 0 { // the steps of those above would be more than they say
		return 0, err
	}
	is := q.packed(was.ID, content, base, text)
	if is.Format != delta {
		return 0, nil
	}
	return len(was.Sealed) - len(is.Sealed), q.repack(ctx, was, is)
}

// MendContent puts a text in the place of one that does not read back. It stands alone from then
// on; what builds on it reads back again, too. Copies that were left out for it are made.
func (q *Q) MendContent(ctx context.Context, id string, content []byte) error {
	if q.keys.Hash("content", content) != id {
		return fmt.Errorf("content %.12s: %w", id, ErrDamaged)
	}
	x := q.packed(id, content, sealed{}, nil)
	n, err := q.exec(ctx, `UPDATE contents SET size = ?, format = ?, base = ?, depth = ?, sealed = ?, bytes = LENGTH(sealed) WHERE id = ?`, x.Size, x.Format, x.Base, x.Depth, x.Sealed, id)
	if err == nil && n == 0 {
		err = fmt.Errorf("content %.12s: %w", id, ErrNotFound)
	}
	if err == nil {
		_, err = q.exec(ctx, `DELETE FROM damage WHERE content_id = ?`, id)
	}
	if err == nil {
		err = q.CopyReadable(ctx)
	}
	return err
}
