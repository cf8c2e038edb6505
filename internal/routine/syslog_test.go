package routine

import (
	"bufio"
	"strings"
	"testing"
)

// TestMessage reads what a message says, of either RFC and of none.
func TestMessage(t *testing.T) {
	for raw, want := range map[string]string{
		"<190>1 2026-11-26T10:00:00Z quay-r1 chart - - - amended by mwilks":                                 "chart: amended by mwilks",
		"<190>1 2026-11-26T10:00:00.123+01:00 quay-r1 chart 77 CHG [x@1 a=\"b\"] \ufeffamended by mwilks\n": "chart: amended by mwilks",
		"<190>Nov 26 10:00:00 quay-r1 chart: amended by mwilks":                                             "chart: amended by mwilks",
		"<190>Nov  6 10:00:00 quay-r1 chart[77]: amended by mwilks\r\n":                                     "chart: amended by mwilks",
		"<190>chart: amended by mwilks":                                                                     "chart: amended by mwilks",
		"chart: amended by mwilks":                                                                          "chart: amended by mwilks",
		"":                                                                                                  "",
	} {
		if got := message([]byte(raw)); got != want {
			t.Errorf("%q says %q, expected %q", raw, got, want)
		}
	}
}

// TestFrame takes messages out of a stream, counted and by lines, and gives up on what is
// neither.
func TestFrame(t *testing.T) {
	long := strings.Repeat("x", 2*mostMessage)
	in := bufio.NewReaderSize(strings.NewReader("11 <1>counted!<2>a line\n5 <3>ab<4>"+long+"\n<5>after\n20000 <6>"+strings.Repeat("y", 20000-3)+"<7>last"), mostMessage)
	for _, want := range []string{"<1>counted!", "<2>a line\n", "<3>ab", "<4>x", "<5>after\n", "<6>y", "<7>last"} {
		got, err := frame(in)
		if err != nil || !strings.HasPrefix(string(got), want) || len(got) > mostMessage {
			t.Fatalf("%d bytes, %.20q, %v; expected %q", len(got), got, err, want)
		}
	}
	for _, bad := range []string{"", "12345678 x", "9x <1>", "7 <1>"} {
		if got, err := frame(bufio.NewReaderSize(strings.NewReader(bad), mostMessage)); err == nil {
			t.Errorf("%q gives %q", bad, got)
		}
	}
}

// FuzzFrame: no stream and no message breaks the reader.
func FuzzFrame(f *testing.F) {
	f.Add([]byte("11 <1>counted!<190>1 2026-11-26T10:00:00Z r chart - - - amended\n"))
	f.Add([]byte("<190>Nov 26 10:00:00 quay-r1 chart: amended by mwilks\n9 "))
	f.Fuzz(func(t *testing.T, raw []byte) {
		in := bufio.NewReaderSize(strings.NewReader(string(raw)), mostMessage)
		for {
			got, err := frame(in)
			if err != nil {
				return
			}
			if len(got) > mostMessage {
				t.Fatalf("%d bytes", len(got))
			}
			message(got)
		}
	})
}
