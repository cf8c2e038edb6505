package dialect_test

import (
	"bytes"
	"strings"
	"testing"

	"magpie/dialects"
	"magpie/internal/dialect"
)

// TestDefaultsByMode holds a document's defaults to the server's mode (RFC 6243 §2): only where
// a value at its default is the same set or not, a rule lets it go.
func TestDefaultsByMode(t *testing.T) {
	src, err := dialects.Files.ReadFile("gannet.yaml")
	if err != nil {
		t.Fatal(err)
	}
	const with = `<mast xmlns="urn:brindle:mast"><name>a</name><beat>60</beat></mast>`
	without := strings.Replace(with, "<beat>60</beat>", "", 1)
	for mode, same := range map[string]bool{"trim": true, "report-all": true, "explicit": false, "": false} {
		said := "  defaults: " + mode + "\n"
		if mode == "" {
			said = ""
		}
		d, err := dialect.Load("gannet.yaml", []byte(strings.Replace(string(src), "  defaults: trim\n", said, 1)))
		if err != nil {
			t.Fatal(err)
		}
		if idle := strings.Contains(d.Doubts.Error(), "lets nothing go"); idle == same {
			t.Errorf("%q: the check says %q", mode, d.Doubts)
		}
		if got := d.Doc("running").Equivalent(with, without); got != same {
			t.Errorf("%q: equivalent is %v", mode, got)
		}
	}
	tern, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	tern = bytes.Replace(tern, []byte("grammar:\n"), []byte("grammar:\n  defaults: trim\n"), 1)
	if _, err := dialect.Load("tern.yaml", tern); err == nil || !strings.Contains(err.Error(), "XML and JSON only") {
		t.Errorf("a dialect of lines with defaults: %v", err)
	}
}
