package client

import "time"

// Found is a line, or a block, that a search found in what runs now.
type Found struct {
	Ref     string    `json:"ref" column:"2 version"`
	Device  string    `json:"device" column:"1 device"`
	Part    string    `json:"part"`
	TakenAt time.Time `json:"taken_at"` // when that version was taken
	Line    int       `json:"line"`
	Path    string    `json:"path,omitempty" column:"3 in"` // the blocks around it, or what it is about
	Text    string    `json:"text" column:"4 line"`         // with its secrets hidden, if not asked for
	Origin  *Origin   `json:"origin,omitempty"`             // which version brought it in, where that was asked for
}

// SearchPage is a page of what was found.
type SearchPage struct {
	Items    []Found `json:"items"`
	Next     string  `json:"next,omitempty"`
	Texts    int     `json:"texts"`    // so many were searched
	Unread   int     `json:"unread"`   // opaque parts and texts that no dialect reads, which were not
	Distinct int     `json:"distinct"` // different lines of all texts
}

// Past is a line, or a block, as long as it was there.
type Past struct {
	Device string  `json:"device" column:"1 device"`
	Part   string  `json:"part"`
	Path   string  `json:"path,omitempty" column:"2 in"`
	Text   string  `json:"text" column:"3 line"` // with its secrets hidden, if not asked for
	From   Origin  `json:"from"`                 // the version that brought it in
	Gone   *Origin `json:"gone,omitempty"`       // the first that has it no longer
	Last   string  `json:"last"`                 // the last version that has it
}

// PastPage is what was found in all versions of some parts.
type PastPage struct {
	Items    []Past `json:"items"`
	Next     string `json:"next,omitempty"` // where to go on
	Parts    int    `json:"parts"`          // that were looked at
	Versions int    `json:"versions"`
	Unread   int    `json:"unread"` // parts that are no text, or that no dialect reads
}

// NewSearch is a search that is kept: never with secrets.
type NewSearch struct {
	Line     string   `json:"line,omitempty"`
	In       string   `json:"in,omitempty"`
	Lacks    string   `json:"lacks,omitempty"`
	Regexp   bool     `json:"regexp,omitempty"`
	Selector []string `json:"selector,omitempty"`
	AllParts bool     `json:"all_parts,omitempty"`
	History  bool     `json:"history,omitempty"` // in all versions
}

// SavedSearch is a search by its name.
type SavedSearch struct {
	Name string `json:"name" column:"1 search"`
	NewSearch
	By string    `json:"by" column:"2 by"`
	At time.Time `json:"at" column:"3 kept"`
}

// Search is what is looked for.
type Search struct {
	Line     string   // lines that have it
	In       string   // only in blocks that begin with it
	Lacks    string   // blocks of that name which have no line with it
	Regexp   bool     // all of these are expressions (RE2)
	Selector []string // of these devices only
	Part     string   // of this part only
	AllParts bool     // also of parts that follow others, as startup follows running
	Secrets  bool     // texts as they are: takes the right to see secrets, and is written down
	Since    bool     // tell which version brought each line in
}
