// Package dialect reads dialect files: data that says how one family of
// devices is spoken to. A dialect holds no code; its patterns are RE2, so none
// can hang the service.
package dialect

import (
	"regexp"
	"strings"
	"time"

	"magpie/internal/core/change"
	"magpie/internal/core/diff"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
)

// File is a dialect file as written. See schema.json for what each key means.
type File struct {
	Dialect  string          `yaml:"dialect"`
	Title    string          `yaml:"title"`
	Kind     string          `yaml:"kind"`
	Reach    Reach           `yaml:"reach"`
	Converse Converse        `yaml:"converse"`
	Refusals []Refusal       `yaml:"refusals"`
	Identity Identity        `yaml:"identity"`
	Parts    map[string]Part `yaml:"parts"`
	Grammar  Grammar         `yaml:"grammar"`
	Rules    []Rule          `yaml:"rules"`
	Change   Change          `yaml:"change"`
}

// Reach says where and how a device listens.
type Reach struct {
	Transport string   `yaml:"transport"`
	Port      int      `yaml:"port"`
	Timeouts  Timeouts `yaml:"timeouts"`
}

// Timeouts are how long is waited for what, as written ("20s").
type Timeouts struct {
	Connect string `yaml:"connect"`
	Answer  string `yaml:"answer"`
	Idle    string `yaml:"idle"`
	Whole   string `yaml:"whole"`
}

// Converse says how to hold a conversation.
type Converse struct {
	Host    string          `yaml:"host"`
	Starts  string          `yaml:"starts"`
	Modes   map[string]Mode `yaml:"modes"`
	Pager   *Pager          `yaml:"pager"`
	Prepare []string        `yaml:"prepare"`
	Goodbye string          `yaml:"goodbye"`
}

// Mode is a state of the command line with a prompt of its own.
type Mode struct {
	Prompt string `yaml:"prompt"`
	From   string `yaml:"from"`
	Enter  string `yaml:"enter"`
	Asks   string `yaml:"asks"`
	Leave  string `yaml:"leave"`
}

// Pager is what stands at the end of a page and the key that goes on.
type Pager struct {
	Shows  string `yaml:"shows"`
	Answer string `yaml:"answer"`
}

// Refusal is what a refusing answer looks like.
type Refusal struct {
	Pattern string `yaml:"pattern"`
	Means   string `yaml:"means"`
}

// Identity is how a device tells who it is.
type Identity struct {
	Mode    string `yaml:"mode"`
	Command string `yaml:"command"`
	Host    string `yaml:"host"`
	Model   string `yaml:"model"`
	Serial  string `yaml:"serial"`
	Release string `yaml:"release"`
}

// Part is how a part is fetched and what proves that it is whole.
type Part struct {
	Mode    string `yaml:"mode"`
	Command string `yaml:"command"`
	Absent  string `yaml:"absent"`
	Author  string `yaml:"author"`
	Whole   Whole  `yaml:"whole"`
}

// Whole is what proves that a part was fetched whole.
type Whole struct {
	First []string `yaml:"first"`
	Last  string   `yaml:"last"`
	Has   []string `yaml:"has"`
}

// Grammar is how the text is built.
type Grammar struct {
	Form      string   `yaml:"form"`
	Indent    int      `yaml:"indent"`
	Comments  []string `yaml:"comments"`
	Delimited []struct {
		Opens  string `yaml:"opens"`
		Closes string `yaml:"closes"`
	} `yaml:"delimited"`
}

// Rule is a row of the table of path patterns; see rules.Rule.
type Rule struct {
	Path       string            `yaml:"path"`
	Ordered    bool              `yaml:"ordered"`
	Overwrites bool              `yaml:"overwrites"`
	Permanent  bool              `yaml:"permanent"`
	Volatile   bool              `yaml:"volatile"`
	Default    string            `yaml:"default"`
	Writes     []string          `yaml:"writes"`
	Defines    string            `yaml:"defines"`
	Uses       map[string]string `yaml:"uses"`
	Secret     []string          `yaml:"secret"`
	Hostname   string            `yaml:"hostname"`
}

// Change is how a configuration is changed.
type Change struct {
	Mode    string   `yaml:"mode"`
	Remove  string   `yaml:"remove"`
	Leave   string   `yaml:"leave"`
	Methods []string `yaml:"methods"`
	Save    *Save    `yaml:"save"`
}

// Save is how running becomes startup.
type Save struct {
	Mode    string `yaml:"mode"`
	Command string `yaml:"command"`
	Done    string `yaml:"done"`
}

// Dialect is a checked dialect, compiled to what core and link work with.
type Dialect struct {
	File
	Source   string // the file's text
	Revision int    // given by the store; 0 before that

	Blocks   *grammar.Blocks
	Table    *rules.Table
	Language *change.Language
	Connect  time.Duration
	Answer   time.Duration
	Idle     time.Duration
	Whole    time.Duration

	patterns map[string]*regexp.Regexp
}

// Pattern returns a pattern of the file compiled. It panics on one that was
// never in the file.
func (d *Dialect) Pattern(source string) *regexp.Regexp {
	re := d.patterns[source]
	if re == nil {
		panic("dialect " + d.Dialect + " has no pattern " + source)
	}
	return re
}

// Prompt compiles a mode's prompt for the host names that may stand in it. No
// names means any.
func (d *Dialect) Prompt(mode string, hosts ...string) *regexp.Regexp {
	host := "(?P<host>" + d.Converse.Host + ")"
	if len(hosts) > 0 {
		quoted := make([]string, len(hosts))
		for i, h := range hosts {
			quoted[i] = regexp.QuoteMeta(h)
		}
		host = "(?P<host>" + strings.Join(quoted, "|") + ")"
	}
	return regexp.MustCompile("^(?:" + strings.ReplaceAll(d.Converse.Modes[mode].Prompt, "{host}", host) + ")$")
}

// Refused tells what an answer's line means as a refusal, or "" when it is
// none, and the device's own words.
func (d *Dialect) Refused(line string) (means, words string) {
	for _, r := range d.Refusals {
		if m := d.Pattern(r.Pattern).FindStringSubmatch(line); m != nil {
			if len(m) > 1 {
				return r.Means, m[1]
			}
			return r.Means, line
		}
	}
	return "", ""
}

// Parse reads configuration text as the dialect's grammar says and returns
// both the tree and what it means.
func (d *Dialect) Parse(src string) (*grammar.Node, *rules.Item, error) {
	root, err := d.Blocks.Parse(src)
	if err != nil {
		return nil, nil, err
	}
	return root, d.Table.Resolve(root), nil
}

// Settled returns text without comments and lines that change by themselves:
// texts that agree in it are unchanged. Text the grammar cannot read is
// returned as it is.
func (d *Dialect) Settled(src string) string {
	lines := text.Lines(src)
	var out []string
	for i, says := range d.SettledLines(src) {
		if says {
			out = append(out, lines[i])
		}
	}
	return text.Join(out)
}

// SettledLines tells of each line whether Settled keeps it.
func (d *Dialect) SettledLines(src string) []bool {
	n := len(text.Lines(src))
	if root, err := d.Blocks.Parse(src); err == nil {
		return d.Table.Settled(n, root)
	}
	all := make([]bool, n)
	for i := range all {
		all[i] = true
	}
	return all
}

// Split makes a text ready to be compared: lines of different blocks are kept
// apart.
func (d *Dialect) Split(src string) diff.Text {
	t := diff.Split(src)
	if root, err := d.Blocks.Parse(src); err == nil {
		t.Within = grammar.Enclosing(root, len(t.Lines))[1:]
	}
	return t
}
