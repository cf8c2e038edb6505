package link

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/internal/dialect"
)

// hostDialect speaks to a machine that nobody here designed: Debian's own
// shell, with its line editor, behind OpenSSH. What is kept is a file of its
// settings, in the form of interfaces(5).
const hostDialect = `
dialect: host
title: a Debian machine's shell
kind: other
reach: {transport: ssh, port: 22, timeouts: {connect: 10s, answer: 10s, idle: 5s}}
converse:
  host: '[A-Za-z0-9.-]+'
  initial_mode: shell
  modes: {shell: {prompt: '\S+@{host}:\S+[#$] '}}
  logout: exit
errors:
  - {pattern: '^(?:bash|cat|sed): (.*)$', means: refused}
identity:
  mode: shell
  command: hostname | sed 's/^/name /'; sed 's/-//g; s/^/id /' /proc/sys/kernel/random/boot_id; sed -n 's/^VERSION_ID="\(.*\)"/release \1/p' /etc/os-release
  host: '^name (\S+)$'
  serial: '^id (\S+)$'
  release: '^release (\S+)$'
parts:
  running:
    mode: shell
    command: cat FILE; echo "# $(grep -c '' FILE) lines"
    complete: {last: '^# (?P<lines>\d+) lines$', has: ['^iface lo inet loopback$']}
grammar: {form: blocks, indent: 4, comments: ['#']}
rules:
  - {path: 'auto {name}'}
  - {path: 'iface {name} {family} <method>', overwrites: true}
  - {path: 'iface {name} {family} <method> / address <address>', overwrites: true}
change:
  mode: shell
  methods: [replace]
  remove: "sed -i '/^{identity}/d' FILE"
`

// TestAShellNobodyHereDesigned pulls from an interactive bash: escape sequences,
// echo, long lines that the editor wraps, and a prompt that shows where one is.
func TestAShellNobodyHereDesigned(t *testing.T) {
	dir := openDir(t)
	var text strings.Builder
	text.WriteString("auto lo\niface lo inet loopback\n")
	for i := range 300 {
		fmt.Fprintf(&text, "auto quay%d\niface quay%[1]d inet static\n    address 10.%d.%d.1/24\n    description root@not-a-prompt:~# %s\n", i, i/200, i%200, strings.Repeat("x", i%150))
	}
	file := write(t, filepath.Join(dir, "interfaces"), text.String(), 0o644)
	shell := write(t, filepath.Join(dir, "shell"), "#!/bin/sh\nexport HOME="+dir+" TERM=xterm\ncd; exec bash --noprofile --rcfile "+
		write(t, filepath.Join(dir, "rc"), `PS1='\u@\h:\w\$ '`+"\n", 0o644)+" -i\n", 0o755)
	private, public := newKey(t)
	target := sshdFor(t, shell, public)
	d, err := dialect.Load("host.yaml", []byte(strings.ReplaceAll(hostDialect, "FILE", file)))
	if err != nil {
		t.Fatal(err)
	}
	s, err := Open(context.Background(), Call{Dialect: d, Target: target, Credential: Credential{User: "root", Key: private}, Guard: ok})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	id, err := s.Identity()
	name, _ := os.Hostname()
	if err != nil || id.Host != name || len(id.Serial) != 32 {
		t.Fatalf("%+v, %v", id, err)
	}
	p, err := s.Fetch("running")
	if err != nil || strings.TrimSuffix(p.Text, "# 1202 lines\n") != text.String() {
		t.Fatalf("%v\n%s", err, p.Text)
	}
	// What the shell refuses is told, and a file cut short is no part.
	if err := os.Rename(file, file+".gone"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Fetch("running"); err == nil || !strings.Contains(err.Error(), "No such file") {
		t.Errorf("%v", err)
	}
	if err := os.WriteFile(file, []byte("auto lo\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Fetch("running"); err == nil || !strings.Contains(err.Error(), "not complete") {
		t.Errorf("%v", err)
	}
}
