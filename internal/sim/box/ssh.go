package box

import (
	"context"
	"io"
	"net"

	gssh "github.com/gliderlabs/ssh"
)

// ServeSSH listens for SSH and gives each session a console, on a terminal if it asked
// for one. knows tells whether a user has that password.
func (d *Base) ServeSSH(e Env, knows func(user, word string) bool, console func(ctx context.Context, rw io.ReadWriteCloser, tty bool)) (stop func(), err error) {
	return d.Listen(e, SSH, knows, &gssh.Server{
		Handler: func(s gssh.Session) {
			console(s.Context(), s, OnTerminal(s))
			_ = s.Exit(0)
		},
	})
}

// Listen has an SSH server listen at a port, for users who know their words.
func (d *Base) Listen(e Env, port int, knows func(user, word string) bool, s *gssh.Server) (stop func(), err error) {
	l, err := e.Listen(port)
	if err != nil {
		return nil, err
	}
	d.Lock()
	d.Env = e
	d.Unlock()
	s.PasswordHandler = func(ctx gssh.Context, word string) bool { return d.SignIn(knows(ctx.User(), word)) }
	s.AddHostKey(e.HostKey)
	return Serving(l, s), nil
}

// Serving has a server serve what comes in at l, until stop is called: then l is closed,
// also where the server had not begun, so that the port is free when stop returns.
func Serving(l net.Listener, s interface {
	Serve(net.Listener) error
	Close() error
}) (stop func()) {
	go func() { _ = s.Serve(l) }()
	return func() { l.Close(); s.Close() }
}

// OnTerminal tells whether a session asked for a terminal, whose changes of size are let go.
func OnTerminal(s gssh.Session) bool {
	_, resized, tty := s.Pty()
	if tty {
		go func() {
			for range resized {
			}
		}()
	}
	return tty
}
