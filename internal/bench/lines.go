package main

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"io"
	"net"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/dialects"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/curlew"
)

// far is how long a byte takes to a device, and back, in the race of lines.
const far = 20 * time.Millisecond

// sendingLines races lines that are typed ahead against the same lines typed one at a
// time, at a device that is far away.
func sendingLines(string) error {
	const lines = 1000
	fmt.Printf("Typing %d lines at a device %s away and back, each held to its echo and answer.\n", lines, 2*far)
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return err
	}
	src, err := dialects.Files.ReadFile("curlew.yaml")
	if err != nil {
		return err
	}
	var ours time.Duration
	for i, way := range []string{"ahead, as the dialect allows", "one at a time"} {
		dia, err := dialect.Load("curlew.yaml", src)
		if err != nil {
			return err
		}
		if i == 1 {
			dia.Converse.Ahead = 0
		}
		d, err := curlew.New("far-c1", "02-5e-00-00-00-01", []string{"call far-c1", "keeper magpie word w"})
		if err != nil {
			return err
		}
		stop, err := d.Serve(box.Env{Address: fmt.Sprintf("127.77.1.%d", i+1), HostKey: signer, Clock: time.Now, Changed: func() {}, Restarted: func() {}})
		if err != nil {
			return err
		}
		defer stop()
		port, closeProxy, err := away(fmt.Sprintf("127.77.1.%d:%d", i+1, box.SSH))
		if err != nil {
			return err
		}
		defer closeProxy()
		took, err := typeLines(dia, port, lines)
		if err != nil {
			return fmt.Errorf("%s: %w", way, err)
		}
		if ours == 0 {
			ours = took
		}
		fmt.Printf("%-30s %9.1fs %9.1f times ours\n", way, took.Seconds(), float64(took)/float64(ours))
	}
	return nil
}

func typeLines(dia *dialect.Dialect, port, lines int) (time.Duration, error) {
	at := link.Target{Address: "127.0.0.1", Port: port, Transport: dialect.SSH}
	var err error
	if at.HostKey, _, err = link.Probe(context.Background(), at, 10*time.Second); err != nil {
		return 0, err
	}
	s, err := link.Open(context.Background(), link.Call{Dialect: dia, Target: at, Credential: link.Credential{User: "magpie", Password: "w"}, Guard: func() error { return nil }})
	if err != nil {
		return 0, err
	}
	defer s.Close()
	if err := s.Begin(); err != nil {
		return 0, err
	}
	var texts []string
	var all []link.Change
	for i := range lines {
		l := fmt.Sprintf("path 10.%d.%d.0/24 cost 1 over 10.12.2.254", i/250, i%250)
		texts, all = append(texts, l), append(all, link.Change{Kind: "line", Lines: []string{l}})
	}
	began := time.Now()
	for at := 0; at < lines; {
		n, err := s.SendLines(all[at : at+s.Ahead(texts[at:])])
		if err != nil {
			return 0, err
		}
		at += n
	}
	return time.Since(began), nil
}

// away stands between a client and a device, and holds every byte for a while.
func away(to string) (port int, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	hold := func(dst io.WriteCloser, src io.Reader) {
		defer dst.Close()
		type piece struct {
			at  time.Time
			raw []byte
		}
		pieces := make(chan piece, 1000)
		go func() {
			defer close(pieces)
			for {
				buf := make([]byte, 32<<10)
				n, err := src.Read(buf)
				if err != nil {
					return
				}
				pieces <- piece{time.Now().Add(far), buf[:n]}
			}
		}()
		for p := range pieces {
			time.Sleep(time.Until(p.at))
			if _, err := dst.Write(p.raw); err != nil {
				return
			}
		}
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			d, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			go hold(d, c)
			go hold(c, d)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, func() { l.Close() }, nil
}
