// Package port chooses ports of loopback for servers that have to be told theirs.
package port

import (
	"errors"
	"math/rand/v2"
	"net"
)

// Ports below those that the system gives to a listener that asks for any
// (32768 and up on Linux, net.ipv4.ip_local_port_range): between the choice and the
// start of the server no other program is given the port by chance.
const first, count = 15000, 17000

// Free is a TCP port of loopback that is not listened at. It is not held: the server
// that is to have it listens at it itself.
func Free() (int, error) {
	var err error
	for range 100 {
		l, failed := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: first + rand.IntN(count)})
		if failed != nil {
			err = errors.Join(errors.New("no free port on loopback"), failed)
			continue
		}
		defer l.Close()
		return l.Addr().(*net.TCPAddr).Port, nil
	}
	return 0, err
}
