package cli

import (
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// groups are the groups of options in the order in which one thinks of them.
var groups = []string{"what", "how", "safety", "when", "where"}

// optionsByGroup stands in the place of the library's list, which sorts the groups
// by their names.
const optionsByGroup = `{{range byGroup .}}
   {{if .Name}}{{.Name}}

   {{end}}{{$n := len .Flags}}{{range $i, $e := .Flags}}{{if eq (subtract $n $i) 1}}{{$e}}
{{else}}{{$e}}
   {{end}}{{end}}{{end}}`

// printHelp prints a command's help, its options by groups in their order, those
// of none, such as --help, at the end.
func printHelp(w io.Writer, text string, of any, more map[string]any) {
	funcs := map[string]any{"byGroup": byGroup}
	for name, f := range more {
		funcs[name] = f
	}
	cli.DefaultPrintHelpCustom(w, strings.ReplaceAll(text, `{{template "visibleFlagCategoryTemplate" .}}`, optionsByGroup), of, funcs)
}

func byGroup(c *cli.Command) []cli.VisibleFlagCategory {
	all := c.VisibleFlagCategories()
	place := func(g cli.VisibleFlagCategory) int {
		if i := slices.Index(groups, g.Name()); i >= 0 {
			return i
		}
		return len(groups)
	}
	slices.SortStableFunc(all, func(a, b cli.VisibleFlagCategory) int { return place(a) - place(b) })
	return all
}
