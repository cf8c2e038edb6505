// Command gen writes what is derived from other sources: the API's description,
// from the table of operations and the types of package client (the console's types
// derive from that in turn); and what describes the dialect language, its JSON Schema
// and the tables of its reference, from the types of package dialect; and the manual page, from
// the commands. With -check it writes nothing, and tells whether what
// stands there differs.
package main

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"

	docs "github.com/urfave/cli-docs/v3"

	"magpie/internal/api"
	"magpie/internal/cli"
	"magpie/internal/job"
)

func main() {
	check := flag.Bool("check", false, "tell whether what stands there differs")
	flag.Parse()
	tongue, err := readLanguage()
	if err != nil {
		fmt.Fprintln(os.Stderr, "gen:", err)
		os.Exit(1)
	}
	for file, make := range derived(tongue) {
		if err := write(file, make, *check); err != nil {
			fmt.Fprintln(os.Stderr, "gen:", err)
			os.Exit(1)
		}
	}
}

// derived is what is made of other sources, by file.
func derived(tongue *language) map[string]func() ([]byte, error) {
	return map[string]func() ([]byte, error){
		"internal/api/openapi.yaml":    func() ([]byte, error) { return api.Describe(api.Kinds()) },
		"docs/api.md":                  func() ([]byte, error) { return kinds("docs/api.md") },
		"internal/dialect/schema.json": tongue.schema,
		"internal/cli/magpie.1": func() ([]byte, error) {
			page, err := docs.ToManWithSection(cli.Commands(), 1)
			return []byte(page), err
		},
		"docs/dialects.md": func() ([]byte, error) { return tongue.reference("docs/dialects.md") },
	}
}

// kinds puts the table of job kinds into a guide, between its marks.
func kinds(file string) ([]byte, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	const begins, ends = "<!-- kinds of jobs -->\n", "<!-- /kinds of jobs -->"
	before, rest, ok := strings.Cut(string(raw), begins)
	_, after, ok2 := strings.Cut(rest, ends)
	if !ok || !ok2 {
		return nil, fmt.Errorf("the marks %q and %q are not there", begins, ends)
	}
	table := "| kind | what it does | takes | waits for (answered by) |\n| --- | --- | --- | --- |\n"
	all := api.Kinds()
	slices.SortFunc(all, func(a, b job.Kind) int { return strings.Compare(a.Name, b.Name) })
	for _, k := range all {
		var waits []string
		for _, w := range k.Awaits {
			var words []string
			for _, x := range w.Words {
				words = append(words, "`"+x.Say+"`")
			}
			waits = append(waits, fmt.Sprintf("%s (%s)", w.Means, strings.Join(words, ", ")))
		}
		table += fmt.Sprintf("| `%s` | %s | %s | %s |\n", k.Name, k.Does, k.Role, strings.Join(waits, "; "))
	}
	return []byte(before + begins + table + ends + after), nil
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
