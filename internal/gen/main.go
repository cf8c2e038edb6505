// Command gen writes what is derived from other sources: the API's description,
// from the table of operations and the types of package client. The console's types
// derive from that in turn. With -check it writes nothing, and tells whether what
// stands there differs.
package main

import (
	"flag"
	"fmt"
	"os"

	"magpie/internal/api"
)

func main() {
	check := flag.Bool("check", false, "tell whether what stands there differs")
	flag.Parse()
	for file, make := range map[string]func() ([]byte, error){
		"internal/api/openapi.yaml": func() ([]byte, error) { return api.Describe(api.Kinds()) },
	} {
		if err := write(file, make, *check); err != nil {
			fmt.Fprintln(os.Stderr, "gen:", err)
			os.Exit(1)
		}
	}
}

func write(file string, make func() ([]byte, error), check bool) error {
	raw, err := make()
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	old, err := os.ReadFile(file)
	switch diff := api.Differs(old, raw); {
	case err == nil && diff == "":
		return nil
	case check:
		return fmt.Errorf("%s is not what its sources say, %s; run: make build", file, diff)
	}
	return os.WriteFile(file, raw, 0o644)
}
