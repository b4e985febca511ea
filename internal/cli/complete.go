package cli

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// mostOffered is how many ids a shell is given to choose from; a letter more narrows them down.
const mostOffered = 100

// completionTime is how long a shell waits for the ids at most.
const completionTime = 2 * time.Second

// complete lets shells complete what arguments and flags take: ids, from the service; formats, languages and other words that are known.
func (a *app) complete(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		a.complete(sub)
	}
	if takes := argumentsOf(cmd.Use); cmd.Runnable() && len(takes) > 0 && cmd.ValidArgsFunction == nil {
		cmd.ValidArgsFunction = func(cmd *cobra.Command, before []string, word string) ([]string, cobra.ShellCompDirective) {
			n := len(before)
			if n >= len(takes) {
				if !strings.HasSuffix(takes[len(takes)-1], "…") {
					return nil, cobra.ShellCompDirectiveNoFileComp
				}
				n = len(takes) - 1
			}
			return a.offer(cmd, strings.TrimSuffix(takes[n], "…"), word)
		}
	}
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if _, there := cmd.GetFlagCompletionFunc(f.Name); there {
			return
		}
		must(cmd.RegisterFlagCompletionFunc(f.Name, func(cmd *cobra.Command, _ []string, word string) ([]string, cobra.ShellCompDirective) {
			return a.offerValue(cmd, f, word)
		}))
	})
}

// argumentsOf are what a command takes, as its first line of use calls them: USER, RIGHT, DEVICE[/POINT].
func argumentsOf(use string) []string {
	use, _, _ = strings.Cut(use, " | ")
	var out []string
	for _, w := range strings.Fields(use)[1:] {
		w = strings.Trim(w, "[]")
		w, _, _ = strings.Cut(w, "[")
		if strings.HasPrefix(w, "-") || w != strings.ToUpper(w) {
			break
		}
		out = append(out, w)
	}
	return out
}

// offer completes one thing, by what help calls it.
func (a *app) offer(cmd *cobra.Command, takes, word string) ([]string, cobra.ShellCompDirective) {
	types := []policy.Type{}
	switch takes {
	case "ID", "GROUP":
		for _, n := range allNouns {
			if cmd.HasParent() && cmd.Parent().Name() == n.word {
				types = append(types, n.typ)
			}
		}
		if len(types) == 0 && takes == "GROUP" {
			types = append(types, policy.UserGroups)
		}
	case "SHEET":
		return sheetNames(), cobra.ShellCompDirectiveNoFileComp
	case "FILE":
		return nil, cobra.ShellCompDirectiveDefault
	default:
		if t, ok := typeTaken(takes); ok {
			types = append(types, t)
		}
	}
	if len(types) == 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return a.offerIDs(cmd.Context(), types[0], word), cobra.ShellCompDirectiveNoFileComp
}

// typeTaken is the type of record whose id is meant by USER or DEVICE-GROUP.
func typeTaken(takes string) (policy.Type, bool) {
	for _, t := range policy.Types() {
		if strings.ToUpper(strings.ReplaceAll(t.Noun(), " ", "-")) == takes {
			return t, true
		}
	}
	return 0, false
}

// offerValue completes what a flag takes; of several by commas, the last.
func (a *app) offerValue(cmd *cobra.Command, f *pflag.Flag, word string) ([]string, cobra.ShellCompDirective) {
	takes, many := strings.CutSuffix(f.Value.Type(), ",...")
	before := ""
	if i := strings.LastIndex(word, ","); many && i >= 0 {
		before, word = word[:i+1], word[i+1:]
	}
	var out []string
	switch {
	case strings.Contains(takes, "|"):
		out = strings.Split(takes, "|")
	case takes == "FILE":
		return nil, cobra.ShellCompDirectiveDefault
	default:
		out, _ = a.offer(cmd, takes, word)
	}
	for i := range out {
		out[i] = before + out[i]
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// offerIDs are ids that begin as a word does, each with its name. Where the service cannot be asked there are none: a shell has no place
// to say why.
func (a *app) offerIDs(ctx context.Context, t policy.Type, word string) []string {
	c, err := a.client()
	if err != nil {
		return nil
	}
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithTimeout(ctx, completionTime)
	defer cancel()
	var found wire.List[row]
	query := url.Values{"limit": {fmt.Sprint(mostOffered)}}
	if word != "" {
		query.Set("q", word)
	}
	if err := c.Do(ctx, "GET", "/api/v1/"+t.String(), query, nil, &found); err != nil {
		return nil
	}
	var out []string
	for _, item := range found.Items {
		if id := plain(item["id"]); strings.HasPrefix(id, word) {
			out = append(out, cobra.CompletionWithDesc(id, plain(item["name"])))
		}
	}
	return out
}
