package visit

import (
	"bytes"
	"context"
	"encoding/hex"
	"hash"

	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
)

// large is an opaque part that came larger than is held in memory: it is kept in pieces as
// it comes.
type large struct {
	*store.Sink
	doc     *dialect.Doc
	settled hash.Hash // of the content without what changes by itself
	sunk    store.Sunk
	at      int64
}

// Write takes more of it.
func (l *large) Write(p []byte) (int, error) {
	l.settled.Write(l.doc.SettledBytes(bytes.Clone(p), l.at))
	l.at += int64(len(p))
	return l.Sink.Write(p)
}

// fetch gets a part. What came in pieces is whole, and kept, but no version yet.
func (s *Service) fetch(ctx context.Context, sess *link.Session, doc *dialect.Doc, part string) (link.Part, error) {
	p, err := sess.FetchLarge(part, func() link.Basin {
		return &large{Sink: s.Store.Sink(ctx), doc: doc, settled: s.Store.Keys().Hasher("fingerprint")}
	})
	if l, is := p.Basin.(*large); is && err == nil {
		l.sunk, err = l.Close()
	}
	return p, err
}

// settledOf is a part without what changes by itself, or for one kept in pieces what stands
// for that: two that agree in it are unchanged.
func settledOf(doc *dialect.Doc, p link.Part) string {
	if l, is := p.Basin.(*large); is {
		return "in pieces, " + hex.EncodeToString(l.settled.Sum(nil))
	}
	return doc.Settled(p.Text)
}

// nowhere takes what is only looked at.
type nowhere struct{}

func (nowhere) Write(p []byte) (int, error) { return len(p), nil }
func (nowhere) Drop()                       {}
