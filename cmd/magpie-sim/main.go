// Command magpie-sim runs the simulated fleet of Brindle Sound Ferries on
// loopback addresses until it is told to stop.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"magpie/internal/sim"
)

func main() {
	data := flag.String("data", "fleet", "folder the fleet's state is kept in")
	n := flag.Int("devices", 12, "how many devices a new fleet has")
	families := flag.String("families", "", "which families a new fleet has, comma-separated; empty: routers only")
	seed := flag.Uint64("seed", 1, "what a new fleet is made from")
	flag.Parse()
	if err := serve(*data, *n, *families, *seed); err != nil {
		fmt.Fprintln(os.Stderr, "magpie-sim:", err)
		os.Exit(2)
	}
}

func serve(data string, n int, families string, seed uint64) error {
	if n < 1 || n > 10000 {
		return fmt.Errorf("-devices is %d; it takes 1 to 10000", n)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	fleet, err := sim.Open(data, n, families, seed, time.Now())
	if err != nil {
		return err
	}
	defer fleet.Close()
	url, err := fleet.Control(ctx)
	if err != nil {
		return err
	}
	fmt.Printf("fleet of %d ready, control at %s\n", len(fleet.Units), url)
	for i, u := range fleet.Units {
		if i == 20 {
			fmt.Printf("  and %d more\n", len(fleet.Units)-i)
			break
		}
		fmt.Printf("  %-18s %-7s %s\n", u.Name, u.Family, u.Address)
	}
	<-ctx.Done()
	return nil
}
