package cli

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

// completing is how long a shell waits for the service before it offers nothing.
const completing = 2 * time.Second

// complete offers what a command's words may be: it asks the service that is signed
// in to for names of devices, versions, jobs, sets. What cannot be had is not
// offered.
func (a *app) complete(argsUsage string) cli.ShellCompleteFunc {
	return func(ctx context.Context, c *cli.Command) {
		word := ""
		if n := len(os.Args); n > 2 { // the last one asks for completion
			word = os.Args[n-2]
		}
		if strings.HasPrefix(word, "-") {
			cli.DefaultCompleteWithFlags(ctx, c)
			return
		}
		s, err := a.client(c)
		if err != nil {
			return
		}
		ctx, cancel := context.WithTimeout(ctx, completing)
		defer cancel()
		for _, offer := range offers(ctx, s, argsUsage, word) {
			if harmless.MatchString(offer) {
				fmt.Fprintln(c.Root().Writer, offer)
			}
		}
	}
}

// harmless is a word that means nothing to a shell. Shells expand what is offered to them, and names and
// tags are what anybody wrote: others are not offered.
var harmless = regexp.MustCompile(`^[A-Za-z0-9@%+=:,./_-]+$`)

// offers are the words that may stand where a command has one of these.
func offers(ctx context.Context, s *client.Client, usage, word string) (out []string) {
	switch {
	case strings.Contains(usage, "JOB"):
		page, err := s.Jobs(ctx, client.JobFilter{Limit: 50})
		if err != nil {
			return nil
		}
		for _, j := range page.Items {
			out = append(out, j.ID)
		}
	case strings.Contains(usage, "KIND"):
		kinds, _ := s.JobKinds(ctx)
		for _, k := range kinds {
			out = append(out, k.Name)
		}
	case strings.Contains(usage, "SNAPSHOT"):
		all, _ := s.Snapshots(ctx)
		for _, x := range all {
			out = append(out, x.Name)
		}
	case strings.Contains(usage, "SCHEDULE"):
		all, _ := s.Schedules(ctx)
		for _, x := range all {
			out = append(out, x.Name)
		}
	case strings.Contains(usage, "REF") && strings.Contains(word, "@"):
		device, _, _ := strings.Cut(word, "@")
		name, part, _ := strings.Cut(device, "/")
		versions, _ := s.Versions(ctx, name, part, 0, 100)
		for _, w := range ref.Keywords {
			out = append(out, device+"@"+w)
		}
		for _, v := range versions {
			if v.Name != "" {
				out = append(out, device+"@"+v.Name)
			}
			out = append(out, fmt.Sprintf("%s@%d", device, v.Number))
		}
	case strings.Contains(usage, "DEVICE"), strings.Contains(usage, "REF"), strings.Contains(usage, "SELECTOR"):
		devices, err := s.Devices(ctx, nil)
		if err != nil {
			return nil
		}
		seen := map[string]bool{}
		for _, d := range devices {
			out = append(out, d.Name)
			if strings.Contains(usage, "SELECTOR") {
				for key, v := range map[string]string{"site": d.Site, "kind": d.Kind, "dialect": d.Dialect} {
					if w := key + "=" + v; v != "" && !seen[w] {
						seen[w] = true
						out = append(out, w)
					}
				}
				for _, t := range d.Tags {
					if w := "tag=" + t; !seen[w] {
						seen[w] = true
						out = append(out, w)
					}
				}
			}
		}
	}
	fits := slices.DeleteFunc(slices.Clone(out), func(o string) bool { return !strings.HasPrefix(o, word) })
	if len(fits) == 0 { // the word is a whole one, before the one that is completed
		return out
	}
	return fits
}
