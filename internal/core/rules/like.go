package rules

import (
	"regexp"
	"strings"

	"magpie/internal/core/grammar"
)

// What looks like a secret is hidden where no rule says whether it is one: a word that names a
// password, key, hash, community or token hides what follows it on its line, and what has the
// form of a password hash hides itself. Hiding too much costs a reader a word; hiding too little
// cannot be taken back.

var (
	// named is a word that says that a secret follows.
	named = regexp.MustCompile(`(?i:^|[-_.:@/"'<(])(?i:pass(?:word|wd|phrase|code|key)?|pwd|secret|psk|key|keystring|sharedkey|privkey|community|token|hash|digest|credential|wpa\d?|wep|md5|sha-?\d*|pin|auth)(?i:e?s)?["'>:=)]*$|` +
		`(?:Password|Passwd|Passphrase|Secret|Psk|PSK|Key|Token|Hash|Digest|Community|Credential)s?["'>:=)]*$`)
	// joined is a word that names a secret and holds it: name=value, name:value.
	joined = regexp.MustCompile(`^([^=:]*[^=:\s])(?:=|:)(.+)$`)
	// hashed is the form of a password hash.
	hashed = regexp.MustCompile(`\$[0-9A-Za-z]{1,10}\$[^\s"'<>]{4,}|\{(?:S?SHA\d*|S?MD5|CRYPT|PBKDF2[^}]*)\}[^\s"'<>]+`)
	// stem is in every line that one of the above can be found in.
	stem = regexp.MustCompile(`(?i)pass|pwd|secret|psk|key|community|token|hash|digest|cred|wpa|wep|md5|sha|pin|auth|\$|\{`)
)

// likeSecret tells whether a word says that a secret follows it.
func (t *Table) likeSecret(word string) bool {
	return named.MatchString(word) || t.secretNames[strings.Trim(word, `@"'<>:=`)]
}

// likeSecretWords are the words of a line that look like secrets, by their places.
func (t *Table) likeSecretWords(words []grammar.Word) (out []int) {
	follows := false
	for i, w := range words {
		switch m := joined.FindStringSubmatch(w.Text); {
		case follows && !strings.HasPrefix(w.Text, "@"):
			out = append(out, i)
		case strings.HasPrefix(w.Text, "@"): // an option's name: of its value only
			follows = t.likeSecret(w.Text)
		case t.likeSecret(w.Text):
			follows = true
		case m != nil && t.likeSecret(m[1]), hashed.MatchString(w.Text):
			out = append(out, i)
		}
	}
	return out
}

// likeSecrets are the stretches of a line, of which nothing is known, that look like secrets.
func (t *Table) likeSecrets(line string) (out []span) {
	if strings.TrimSpace(line) == "" || !stem.MatchString(line) && !t.namesSecret(line) {
		return nil
	}
	words := t.Words(line)
	for _, i := range t.likeSecretWords(words) {
		w := words[i]
		if m := joined.FindStringSubmatchIndex(w.Text); m != nil && t.likeSecret(w.Text[m[2]:m[3]]) {
			out = append(out, span{w.Start + m[4], w.End})
			continue
		}
		out = append(out, span{w.Start, w.End})
	}
	for _, m := range hashed.FindAllStringIndex(line, -1) {
		out = append(out, span{m[0], m[1]})
	}
	return united(out)
}

// namesSecret tells whether a line holds one of the words behind which rules know secrets.
func (t *Table) namesSecret(line string) bool {
	for name := range t.secretNames {
		if strings.Contains(line, name) {
			return true
		}
	}
	return false
}

// Compile works out what follows from the rules: the words behind which they know secrets.
func (t *Table) Compile() {
	t.secretNames = map[string]bool{}
	for _, r := range t.Rules {
		seg := r.segs[len(r.segs)-1]
		for _, secret := range r.Secret {
			name := ""
			for _, tok := range seg {
				if tok.capture == secret {
					if tok.attr != "" {
						name = tok.attr
					}
					break
				}
				if tok.capture == "" && tok.attr == "" {
					name = tok.word
				}
			}
			if len(name) > 1 {
				t.secretNames[name] = true
			}
		}
	}
}
