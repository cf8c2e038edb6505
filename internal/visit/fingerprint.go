package visit

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// fingerprintForm counts how fingerprints are made: it goes up when what a dialect says is read
// otherwise, so that what was worked out before is not compared with what is worked out now.
const fingerprintForm = 2

// Fingerprint stands for a text without what changes by itself: two of one dialect revision are
// equal where the texts are unchanged. It begins with the rules that it was made by, so that those
// of several revisions are never equal by accident; instances of several releases write beside each
// other during an upgrade. 64 characters: 8 for the rules, 56 hexadecimal digits of a keyed hash.
func (s *Service) Fingerprint(doc *dialect.Doc, settled string) string {
	return fmt.Sprintf("r%07x", uint32(doc.Dialect.Revision)<<8&0xfffff00|fingerprintForm) + s.Store.Keys().Hash("fingerprint", []byte(settled))[:56]
}

// signFingerprint stands for a content that is encrypted anew each time, by what the device says of
// it. It goes by no rules.
func (s *Service) signFingerprint(serial, sign string) string {
	return bySign + s.Store.Keys().Hash("fingerprint", []byte("sign "+serial+" "+sign))[:56]
}

const bySign = "sign    "

// rulesOf are the rules that a fingerprint was made by; they sort by age.
func rulesOf(fingerprint string) string {
	if len(fingerprint) < 8 {
		return ""
	}
	return fingerprint[:8]
}

// unchanged tells whether a part's newest version says the same as a text. One whose fingerprint was
// made by other rules is read once more by these, and has a fingerprint of these from then on, if
// they are the newer ones.
func (s *Service) unchanged(ctx context.Context, q *store.Q, head store.Head, doc *dialect.Doc, fingerprint string) (bool, error) {
	switch {
	case head.VersionID == "":
		return false, nil
	case head.Fingerprint == fingerprint:
		return true, nil
	case rulesOf(fingerprint) == bySign:
		return !made(head.Fingerprint) && strings.HasPrefix(head.Fingerprint, fingerprint[len(bySign):]), nil
	case rulesOf(head.Fingerprint) == rulesOf(fingerprint):
		return false, nil
	}
	kept, err := s.TextOf(ctx, q, doc, head.ContentID)
	if errors.Is(err, store.ErrDamaged) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("reading version %d of %s, to compare it: %w", head.Number, head.Name, err)
	}
	was := s.Fingerprint(doc, doc.Settled(kept))
	if rulesOf(was) > rulesOf(head.Fingerprint) || !made(head.Fingerprint) {
		err = q.SetFingerprint(ctx, head.VersionID, was)
	}
	return was == fingerprint, err
}

// made tells whether a fingerprint says by which rules it was made. Those of earlier releases do not.
func made(fingerprint string) bool {
	return strings.HasPrefix(fingerprint, "r") || strings.HasPrefix(fingerprint, bySign)
}

// Same tells whether two versions are known to say the same.
func Same(a, b core.Version) bool {
	return a.ID == b.ID || a.ContentID != "" && a.ContentID == b.ContentID || a.Fingerprint == b.Fingerprint
}
