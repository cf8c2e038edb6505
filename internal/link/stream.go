package link

import (
	"bytes"
	"context"
	"io"
	"time"
)

// drain reads to the end, waiting so long for the first byte and so long
// between two, and not for more than Limit. What came is returned with an error
// too.
func drain(ctx context.Context, r io.Reader, first, idle time.Duration, what string) ([]byte, error) {
	out := new(flow)
	err := pour(ctx, r, out, first, idle, what)
	return out.held.Bytes(), err
}

// pour reads to the end into something, waiting as drain does.
func pour(ctx context.Context, r io.Reader, to io.Writer, first, idle time.Duration, what string) error {
	p := newPump(ctx, r)
	defer p.stop()
	for wait := first; ; wait = idle {
		chunk, err := p.next(wait, what)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if _, err := to.Write(chunk); err != nil {
			return err
		}
	}
}

// pump reads on a goroutine of its own, so that a reader without deadlines can
// be waited for with one. The reader must be closed for the goroutine to end.
type pump struct {
	ctx    context.Context
	chunks chan []byte
	ended  error
	quit   chan struct{}
	rest   []byte // of a chunk that was not wholly taken
}

// take waits for some bytes, at most n.
func (p *pump) take(n int, wait time.Duration, what string) ([]byte, error) {
	if len(p.rest) == 0 {
		var err error
		if p.rest, err = p.next(wait, what); err != nil {
			return nil, err
		}
	}
	out := p.rest[:min(n, len(p.rest))]
	p.rest = p.rest[len(out):]
	return out, nil
}

func newPump(ctx context.Context, r io.Reader) *pump {
	p := &pump{ctx: ctx, chunks: make(chan []byte, 4), quit: make(chan struct{})}
	go func() {
		defer close(p.chunks)
		for buf := make([]byte, 16<<10); ; {
			n, err := r.Read(buf)
			if n > 0 {
				select {
				case p.chunks <- bytes.Clone(buf[:n]):
				case <-p.quit:
					p.ended = io.ErrClosedPipe
					return
				}
			}
			if err != nil {
				p.ended = err
				return
			}
		}
	}()
	return p
}

// next waits for some bytes. io.EOF is a clean end.
func (p *pump) next(wait time.Duration, what string) ([]byte, error) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case chunk, ok := <-p.chunks:
		if ok {
			return chunk, nil
		}
		if p.ended == io.EOF {
			return nil, io.EOF
		}
		return nil, ErrCut
	case <-timer.C:
		return nil, &TimeoutError{What: what, Took: wait}
	case <-p.ctx.Done():
		return nil, context.Cause(p.ctx)
	}
}

func (p *pump) stop() { close(p.quit) }
