package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"sync"
	"time"

	"github.com/restic/chunker"

	"magpie/internal/core"
	"magpie/internal/core/pack"
)

// chunked is the format of a content that is kept in pieces; its row holds how many, sealed.
const chunked = 3

// Large is how many bytes a content has at most that is kept, and read, in one piece.
const Large = 16 << 20

// Sizes of pieces: cut by a rolling hash, so that what is put in somewhere changes those around it
// only.
const (
	leastPiece = 512 << 10
	mostPiece  = 4 << 20
)

// ErrLarge is returned where a content is asked for in one piece that is too large for that.
var ErrLarge = fmt.Errorf("it has more than %d MiB, so it can be taken out as a file only", Large>>20)

// piecesOpen is how long pieces are kept that no content has yet.
const piecesOpen = 24 * time.Hour

// Sink takes a content as it comes, in constant memory, and keeps it in pieces. Nothing is known
// of it until it is put (Q.PutSunk); what is never put is cleared away in a day.
type Sink struct {
	store  *Store
	to     *io.PipeWriter
	done   chan struct{}
	err    error
	whole  hash.Hash
	pieces []string
	size   int64
	once   sync.Once
}

// Sunk is a content whose pieces are kept.
type Sunk struct {
	ID     string
	Size   int64
	pieces []string
}

// Sink begins to take a content in.
func (s *Store) Sink(ctx context.Context) *Sink {
	from, to := io.Pipe()
	k := &Sink{store: s, to: to, done: make(chan struct{}), whole: s.keys.Hasher("content")}
	go func() {
		defer close(k.done)
		k.err = k.keep(ctx, from)
		from.CloseWithError(k.err) // whoever writes hears of it
	}()
	return k
}

// Write takes more of it.
func (k *Sink) Write(p []byte) (int, error) {
	n, err := k.to.Write(p)
	k.whole.Write(p[:n])
	k.size += int64(n)
	return n, err
}

// Close ends it and tells what came; nothing is put yet.
func (k *Sink) Close() (Sunk, error) {
	k.once.Do(func() { k.to.Close() })
	<-k.done
	return Sunk{k.store.keys.Sum(k.whole), k.size, k.pieces}, k.err
}

// Drop gives it up.
func (k *Sink) Drop() {
	k.once.Do(func() { k.to.CloseWithError(errors.New("it was given up")) })
	<-k.done
}

func (k *Sink) keep(ctx context.Context, from io.Reader) error {
	cut := chunker.NewWithBoundaries(from, k.store.polynomial(), leastPiece, mostPiece)
	buf := make([]byte, mostPiece)
	for {
		c, err := cut.Next(buf)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		id := k.store.keys.Hash("chunk", c.Data)
		err = k.store.Tx(ctx, core.Actor{Name: "service"}, func(q *Q) error {
			n, err := q.exec(ctx, `UPDATE chunks SET at = ? WHERE id = ?`, q.clock().UTC(), id)
			if err != nil || n > 0 {
				return err
			}
			sealed := q.keys.Seal("chunk", id, pack.Alone(c.Data))
			_, err = q.exec(ctx, `INSERT INTO chunks (id, size, sealed, at) VALUES (?, ?, ?, ?)`, id, len(c.Data), sealed, q.clock().UTC())
			if errors.Is(err, ErrTaken) { // another content has it, too, just now
				err = nil
			}
			return err
		})
		if err != nil {
			return err
		}
		k.pieces = append(k.pieces, id)
	}
}

// polynomial is where pieces are cut: another one in each service, so that sizes of pieces tell
// nobody what is in them.
func (s *Store) polynomial() chunker.Pol {
	s.cut.once.Do(func() {
		var seed bytes.Buffer
		for i := range 64 {
			seed.WriteString(s.keys.Hash("where pieces are cut", []byte{byte(i)}))
		}
		pol, err := chunker.DerivePolynomial(&seed)
		if err != nil {
			pol = chunker.Pol(0x3DA3358B4DC173) // any will do
		}
		s.cut.pol = pol
	})
	return s.cut.pol
}

type cutting struct {
	once sync.Once
	pol  chunker.Pol
}

// PutSunk keeps a content whose pieces are kept, once, and returns its id.
func (q *Q) PutSunk(ctx context.Context, x Sunk) (string, error) {
	if there, err := q.hold(ctx, x.ID); err != nil || there { // a content that returns
		return x.ID, err
	}
	for from := 0; from < len(x.pieces); from += 500 {
		part := x.pieces[from:min(from+500, len(x.pieces))]
		// Who takes pieces away leaves those alone that were touched lately.
		query, args, err := in(`UPDATE chunks SET at = ? WHERE id IN (?)`, q.clock().UTC(), part)
		if err == nil {
			_, err = q.exec(ctx, query, args...)
		}
		if err != nil {
			return x.ID, err
		}
		if query, args, err = in(`SELECT id FROM chunks WHERE id IN (?)`, part); err != nil {
			return x.ID, err
		}
		there, err := list[string](ctx, q.ext, query, args...)
		if err != nil {
			return x.ID, err
		}
		have := map[string]bool{}
		for _, id := range there {
			have[id] = true
		}
		for i, id := range part {
			if !have[id] {
				return x.ID, fmt.Errorf("content %.12s: a piece of it was cleared away before it was whole; send it again", x.ID)
			}
			if _, err := q.exec(ctx, `INSERT INTO content_chunks (content_id, seq, chunk_id) VALUES (?, ?, ?)`, x.ID, from+i, id); err != nil && !errors.Is(err, ErrTaken) { // another visit keeps the same file
				return x.ID, err
			}
		}
	}
	sealed := q.keys.Seal("content", contentSubject(x.ID, chunked, ""), fmt.Appendf(nil, "%d", len(x.pieces)))
	_, err := q.exec(ctx, `INSERT INTO contents (id, size, format, base, depth, sealed, bytes) VALUES (?, ?, ?, '', 0, ?, LENGTH(sealed))`, x.ID, x.Size, chunked, sealed)
	if errors.Is(err, ErrTaken) {
		err = q.touch(ctx, x.ID)
	}
	return x.ID, err
}

// ContentTo writes a content out, byte for byte, in constant memory. What does not read back as
// it was kept is an error (ErrDamaged), which comes after what was written.
func (q *Q) ContentTo(ctx context.Context, id string, out io.Writer) error {
	c, err := get[sealed](ctx, q.ext, `SELECT id, size, format, base, depth, sealed FROM contents WHERE id = ?`, id)
	if err != nil {
		return fmt.Errorf("content %.12s: %w", id, err)
	}
	if c.Format != chunked {
		content, err := q.Content(ctx, id)
		if err == nil {
			_, err = out.Write(content)
		}
		return err
	}
	damaged := func(why string) error { return fmt.Errorf("content %.12s: %w: %s", id, ErrDamaged, why) }
	count, err := q.keys.Open("content", contentSubject(id, chunked, ""), c.Sealed)
	if err != nil {
		return damaged("its seal is broken")
	}
	pieces, err := list[string](ctx, q.ext, `SELECT chunk_id FROM content_chunks WHERE content_id = ? ORDER BY seq`, id)
	if err != nil {
		return err
	}
	if fmt.Sprint(len(pieces)) != string(count) {
		return damaged("a piece of it is missing")
	}
	whole := q.keys.Hasher("content")
	for i, piece := range pieces {
		data, err := q.piece(ctx, piece)
		if errors.Is(err, ErrDamaged) || errors.Is(err, ErrNotFound) {
			return damaged(fmt.Sprintf("piece %d of %d does not read back", i+1, len(pieces)))
		}
		if err != nil {
			return err
		}
		whole.Write(data)
		if _, err := out.Write(data); err != nil {
			return err
		}
	}
	if q.keys.Sum(whole) != id {
		return damaged("it is another one")
	}
	return nil
}

// piece reads one piece back.
func (q *Q) piece(ctx context.Context, id string) ([]byte, error) {
	raw, err := get[[]byte](ctx, q.ext, `SELECT sealed FROM chunks WHERE id = ?`, id)
	if err != nil {
		return nil, err
	}
	small, err := q.keys.Open("chunk", id, raw)
	if err == nil {
		raw, err = pack.Unpack(small, nil)
	}
	if err != nil || q.keys.Hash("chunk", raw) != id {
		return nil, ErrDamaged
	}
	return raw, nil
}

// MendSunk puts the pieces of a content that is kept in pieces right, after they were sent again:
// what did not read back is replaced.
func (s *Store) MendSunk(ctx context.Context, id string, from io.Reader) error {
	cut := chunker.NewWithBoundaries(from, s.polynomial(), leastPiece, mostPiece)
	buf := make([]byte, mostPiece)
	for {
		c, err := cut.Next(buf)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		piece := s.keys.Hash("chunk", c.Data)
		err = s.Tx(ctx, core.Actor{Name: "service"}, func(q *Q) error {
			if _, err := q.piece(ctx, piece); !errors.Is(err, ErrDamaged) && !errors.Is(err, ErrNotFound) {
				return err
			}
			sealed := q.keys.Seal("chunk", piece, pack.Alone(c.Data))
			_, err := q.exec(ctx, `INSERT INTO chunks (id, size, sealed, at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE sealed = VALUES(sealed), at = VALUES(at)`, piece, len(c.Data), sealed, q.clock().UTC())
			return err
		})
		if err != nil {
			return err
		}
	}
	err := s.As(core.Actor{Name: "service"}).ContentTo(ctx, id, io.Discard)
	if err == nil {
		err = s.Tx(ctx, core.Actor{Name: "service"}, func(q *Q) error {
			_, err := q.exec(ctx, `DELETE FROM damage WHERE content_id = ?`, id)
			return err
		})
	}
	return err
}

// dropPieces removes the pieces of a content that no other has.
func (q *Q) dropPieces(ctx context.Context, contentID string) (bytes int64, err error) {
	ids, err := list[string](ctx, q.ext, `SELECT DISTINCT chunk_id FROM content_chunks c WHERE c.content_id = ? AND NOT EXISTS (SELECT 1 FROM content_chunks o WHERE o.chunk_id = c.chunk_id AND o.content_id <> c.content_id)`, contentID)
	if err != nil {
		return 0, err
	}
	if _, err := q.exec(ctx, `DELETE FROM content_chunks WHERE content_id = ?`, contentID); err != nil {
		return 0, err
	}
	for from := 0; from < len(ids); from += 500 {
		part := ids[from:min(from+500, len(ids))]
		query, args, err := in(`SELECT COALESCE(SUM(LENGTH(sealed)), 0) FROM chunks WHERE id IN (?)`, part)
		if err != nil {
			return bytes, err
		}
		n, err := get[int64](ctx, q.ext, query, args...)
		if err != nil {
			return bytes, err
		}
		// One that a file that is coming just now has, too, stays.
		if query, args, err = in(`DELETE FROM chunks WHERE id IN (?) AND at < ?`, part, q.clock().UTC().Add(-time.Hour)); err != nil {
			return bytes, err
		}
		if _, err := q.exec(ctx, query, args...); err != nil {
			return bytes, err
		}
		bytes += n
	}
	return bytes, nil
}

// ContentSize is how many bytes a content has, and whether it is kept in pieces.
func (q *Q) ContentSize(ctx context.Context, id string) (size int64, pieces bool, err error) {
	type row struct {
		Size   int64 `db:"size"`
		Format int   `db:"format"`
	}
	r, err := get[row](ctx, q.ext, `SELECT size, format FROM contents WHERE id = ?`, id)
	return r.Size, r.Format == chunked, err
}
