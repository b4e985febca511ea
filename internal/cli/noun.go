package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// noun is a type of record on the command line.
type noun struct {
	word    string
	typ     policy.Type
	short   string
	columns []string // of a list, after id and name: fields of the record
	example string
	more    func(a *app, n noun) []*cobra.Command
}

// typeName is the type in paths.
func (n noun) typeName() string { return n.typ.String() }

func (n noun) flags() []fieldFlag { return flagsOf(n.typ, n.word) }

// nouns are the commands of the records; where one command is asked for, the others have their names alone.
func (a *app) nouns(of string) []*cobra.Command {
	var out []*cobra.Command
	for _, n := range allNouns {
		cmd := &cobra.Command{Use: n.word, Short: n.short, Example: n.example}
		if out = append(out, cmd); of != "" && of != n.word {
			continue
		}
		cmd.AddCommand(a.nounList(n), a.nounShow(n), a.nounAdd(n), a.nounEdit(n), a.nounRemove(n), a.nounCopy(n), a.nounRename(n))
		if usedNouns[n.typeName()] {
			cmd.AddCommand(a.nounUses(n))
		}
		if n.more != nil {
			cmd.AddCommand(n.more(a, n)...)
		}
	}
	return out
}

type row = map[string]any

// each reads a list page by page. entries are how many each has in its long list, where the query asks for that.
func (a *app) each(cmd *cobra.Command, typeName string, query url.Values, limit int) (out []row, entries map[string]int, total int, err error) {
	c, err := a.client()
	if err != nil {
		return nil, nil, 0, err
	}
	entries = map[string]int{}
	query.Set("limit", fmt.Sprint(min(max(limit, 1), 1000)))
	for {
		var page wire.List[row]
		if err := c.Do(cmd.Context(), "GET", "/api/v1/"+typeName, query, nil, &page); err != nil {
			return nil, nil, 0, err
		}
		out = append(out, page.Items...)
		maps.Copy(entries, page.Entries)
		if page.Next == "" || len(out) >= limit {
			return out, entries, page.Total, nil
		}
		query.Set("cursor", page.Next)
	}
}

func (a *app) nounList(n noun) *cobra.Command {
	var search string
	var limit int
	var where []string
	cmd := &cobra.Command{
		Use: "list", Short: "List them, by id", Args: cobra.NoArgs,
		Example: fmt.Sprintf("  sentier %s list --search lock --format csv", n.word),
		RunE: func(cmd *cobra.Command, _ []string) error {
			query := url.Values{}
			if search != "" {
				query.Set("q", search)
			}
			for _, w := range where {
				name, value, ok := strings.Cut(w, "=")
				if !ok {
					return fmt.Errorf("--where %q is no filter: write field=value, such as state=maintenance", w)
				}
				query.Set(name, value)
			}
			if a.format == "table" {
				query.Set("short", "true")
			}
			items, entries, total, err := a.each(cmd, n.typeName(), query, limit)
			if err != nil {
				return err
			}
			s := n.sheet(items, entries)
			if a.format == "csv" {
				s = n.fullSheet(items)
			}
			if len(items) < total {
				fmt.Fprintf(a.Err, "%d of %d: ask for more with --limit.\n", len(items), total)
			}
			return a.print(items, s)
		},
	}
	cmd.Flags().StringVar(&search, "search", "", "only those that hold a word in id, name or other texts")
	cmd.Flags().StringArrayVar(&where, "where", nil, "only those with field=value")
	cmd.Flags().IntVar(&limit, "limit", 1000, "how many at most")
	return cmd
}

// sheet has the columns by which records of a type are told apart. Long lists are counted.
func (n noun) sheet(items []row, entries map[string]int) sheet {
	s := sheet{head: []string{"ID", "NAME"}}
	for _, c := range n.columns {
		s.head = append(s.head, strings.ToUpper(strings.ReplaceAll(c, "_", " ")))
	}
	for _, item := range items {
		cells := []string{plain(item["id"]), plain(item["name"])}
		for _, c := range n.columns {
			list, isList := item[c].([]any)
			switch {
			case c == policy.Describe(n.typ).LongList:
				cells = append(cells, fmt.Sprint(entries[plain(item["id"])]))
			case isList && c == "points":
				cells = append(cells, fmt.Sprint(len(list)))
			default:
				cells = append(cells, plain(item[c]))
			}
		}
		s.rows = append(s.rows, cells)
	}
	return s
}

// fullSheet has a column for every field, called as in the API, with _ between a field and one inside it. Entries of one cell are parted
// as in the sheets; what is an object in a list is written as JSON.
func (n noun) fullSheet(items []row) sheet {
	var s sheet
	var paths [][]string
	var walk func(fields []policy.Field)
	walk = func(fields []policy.Field) {
		for _, f := range fields {
			if f.Kind == policy.ObjectField && !f.Many {
				walk(f.Fields)
				continue
			}
			paths = append(paths, strings.Split(f.Path, "."))
			s.head = append(s.head, strings.ReplaceAll(f.Path, ".", "_"))
		}
	}
	walk(policy.Describe(n.typ).Fields)
	for _, item := range items {
		var cells []string
		for _, path := range paths {
			var v any = item
			for _, name := range path {
				inner, _ := v.(row)
				v = inner[name]
			}
			cells = append(cells, cell(v))
		}
		s.rows = append(s.rows, cells)
	}
	return s
}

// cell writes a value into one cell of a sheet.
func cell(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case []any:
		if slices.ContainsFunc(v, func(e any) bool { _, object := e.(row); return object }) {
			break
		}
		parts := make([]string, len(v))
		for i, e := range v {
			parts[i] = cell(e)
		}
		return strings.Join(parts, "|")
	case row:
	default:
		return fmt.Sprint(v)
	}
	out, err := json.Marshal(v)
	must(err)
	return string(out)
}

// plain writes a field for people: lists by commas, objects by their fields, long lists by their count.
func plain(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case []any:
		const many = 8
		if len(v) > many {
			return fmt.Sprintf("%d", len(v))
		}
		parts := make([]string, len(v))
		for i, e := range v {
			parts[i] = plain(e)
		}
		return strings.Join(parts, ", ")
	case row:
		if id, ok := v["id"]; ok {
			return plain(id)
		}
		if from, to := v["from"], v["to"]; from != nil && to != nil {
			return strings.TrimSpace(strings.ReplaceAll(plain(v["days"]), ", ", " ") + " " + plain(from) + "–" + plain(to) + " " + plain(v["name"]))
		}
		if date := v["date"]; date != nil {
			return strings.TrimSpace(plain(date) + " " + plain(v["name"]))
		}
		var parts []string
		for _, k := range sortedKeys(v) {
			parts = append(parts, k+": "+plain(v[k]))
		}
		return strings.Join(parts, "; ")
	}
	return fmt.Sprint(v)
}

// editing are the options of commands that change records.
type editing struct {
	dryRun bool
	note   string
	draft  string   // id of the draft that it is put into; empty: it is saved
	over   []string // ids of expectations that would not hold any more
	match  string   // entity tag that what is changed must have; empty: any
}

func (e *editing) flags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&e.dryRun, "dry-run", false, "change nothing, and say what it would change")
	e.why(cmd)
}

// why are the options of what is shown before it is done anyway.
func (e *editing) why(cmd *cobra.Command) {
	cmd.Flags().StringVar(&e.note, "note", "", "why, for the record")
	cmd.Flags().StringVar(&e.draft, "draft", "", "put it into this draft: nothing counts until that is applied")
	cmd.Flags().StringSliceVar(&e.over, "override", nil, "though these expectations would not hold any more; say why with --note")
}

// query is how a change is asked for.
func (e *editing) query() url.Values {
	out := url.Values{}
	if e.note != "" {
		out.Set("note", e.note)
	}
	if e.draft != "" {
		out.Set("draft", e.draft)
	}
	if len(e.over) > 0 {
		out["override"] = e.over
	}
	return out
}

// look is how it is asked for what a change would do.
func (e *editing) look() url.Values {
	out := e.query()
	out.Set("dry_run", "true")
	out.Set("impact", "true")
	return out
}

// post sends a change, or looks at what it would do. Whoever reads what a change did is told who gained and lost by it.
func (a *app) post(cmd *cobra.Command, e editing, path string, body any) (saved wire.Saved, err error) {
	c, err := a.client()
	if err != nil {
		return saved, err
	}
	var looked wire.Saved
	if e.dryRun || a.format == "table" {
		if err := c.IfTag(e.match).Do(cmd.Context(), "POST", path, e.look(), body, &looked); e.dryRun || err != nil {
			return looked, err
		}
	}
	err = c.IfTag(e.match).Do(cmd.Context(), "POST", path, e.query(), body, &saved)
	if saved.Revision == looked.Revision+1 || saved.Draft != "" { // otherwise others changed something in between, and it may be another
		saved.Impact = looked.Impact
	}
	return saved, err
}

// send makes changes, all or none, and prints what they did.
func (a *app) send(cmd *cobra.Command, e editing, edits ...wire.Edit) error {
	saved, err := a.post(cmd, e, "/api/v1/changes", wire.Edits{Changes: edits})
	if err != nil {
		return err
	}
	return a.tellSaved(e, saved)
}

// tellSaved says what a change did or would do.
func (a *app) tellSaved(e editing, saved wire.Saved) error {
	switch {
	case len(saved.Changes) == 0:
		fmt.Fprintf(a.Err, "Nothing to change: it is so already, at revision %d.\n", saved.Revision)
	case e.dryRun:
		fmt.Fprintf(a.Err, "Nothing was changed. This would change %d:\n", len(saved.Changes))
	default:
		a.printWhere(saved.Revision, saved.Draft)
	}
	return a.printSaved(saved)
}

// printWhere says of what was changed that it is a revision, or where it waits for that.
func (a *app) printWhere(revision uint64, draft string) {
	if draft != "" {
		fmt.Fprintf(a.Err, "In the draft %s: nothing counts until that is applied.\n", draft)
		return
	}
	fmt.Fprintf(a.Err, "Revision %d.\n", revision)
}

// printSaved prints what a change did or would do and, where it was looked at, who gains and loses what.
func (a *app) printSaved(saved wire.Saved) error {
	if err := a.printChanges(saved); err != nil {
		return err
	}
	a.printImpact(saved.Impact)
	a.printUnmet(saved.Unmet)
	return nil
}

// printUnmet says which expectations do not hold.
func (a *app) printUnmet(list []wire.Unmet) {
	for _, u := range list {
		fmt.Fprintf(a.Err, "! %s\n", u.Text)
	}
}

// ids are the arguments, or the lines of standard input for "-".
func (a *app) ids(args []string) ([]string, error) {
	var out []string
	for _, arg := range args {
		if arg != "-" {
			out = append(out, arg)
			continue
		}
		lines := bufio.NewScanner(a.In)
		for lines.Scan() {
			if id := strings.TrimSpace(lines.Text()); id != "" {
				out = append(out, id)
			}
		}
		if err := lines.Err(); err != nil {
			return nil, fmt.Errorf("read the ids: %w", err)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("no id was given")
	}
	return out, nil
}

func (a *app) nounAdd(n noun) *cobra.Command {
	var e editing
	var body bodyFlags
	use, args := "add [ID]", cobra.MaximumNArgs(1)
	if n.typeName() == "device_groups" {
		use, args = "add [ID] | add GROUP DEVICE…", cobra.ArbitraryArgs
	}
	cmd := &cobra.Command{
		Use: use, Short: "Add one; an id is made from its name where none is given", Args: args,
		Example: fmt.Sprintf("  sentier %s add --name \"A name\"", n.word),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return a.entries(cmd, e, "add", n, "devices", args, wire.Edit{})
			}
			record, err := body.patch(a, cmd, n.flags())
			if err != nil {
				return err
			}
			if len(args) == 1 {
				record["id"] = args[0]
			}
			return a.addRecord(cmd, e, n, record)
		},
	}
	e.flags(cmd)
	body.flags(cmd, n.flags())
	return cmd
}

func (a *app) addRecord(cmd *cobra.Command, e editing, n noun, record row) error {
	saved, err := a.post(cmd, e, "/api/v1/"+n.typeName(), record)
	if err != nil {
		return err
	}
	if e.dryRun {
		fmt.Fprintf(a.Err, "Nothing was changed. This would add %s %s.\n", n.word, saved.ID)
	} else {
		fmt.Fprintf(a.Err, "Added %s %s, revision %d.\n", n.word, saved.ID, saved.Revision)
	}
	return a.printSaved(saved)
}

func (a *app) nounEdit(n noun) *cobra.Command {
	var e editing
	var body bodyFlags
	cmd := &cobra.Command{
		Use: "edit ID…", Short: "Change fields of one or more; “-” reads ids from standard input", Args: cobra.MinimumNArgs(1),
		Example: fmt.Sprintf("  sentier %s edit ID --name \"Another name\"", n.word),
		RunE: func(cmd *cobra.Command, args []string) error {
			patch, err := body.patch(a, cmd, n.flags())
			if err != nil {
				return err
			}
			if len(patch) == 0 {
				return fmt.Errorf("nothing to change was given: see “sentier %s edit --help” for the fields", n.word)
			}
			return a.patchAll(cmd, e, n, args, patch)
		},
	}
	e.flags(cmd)
	body.flags(cmd, n.flags())
	return cmd
}

// patchAll changes the same fields of many records.
func (a *app) patchAll(cmd *cobra.Command, e editing, n noun, args []string, patch row) error {
	ids, err := a.ids(args)
	if err != nil {
		return err
	}
	record, err := json.Marshal(patch)
	if err != nil {
		return err
	}
	var edits []wire.Edit
	for _, id := range ids {
		edits = append(edits, wire.Edit{Op: "patch", Type: n.typeName(), ID: id, Record: record})
	}
	return a.send(cmd, e, edits...)
}

func (a *app) nounRemove(n noun) *cobra.Command {
	var e editing
	var cascade, accept bool
	cmd := &cobra.Command{
		Use: "remove ID…", Short: "Remove one or more; “-” reads ids from standard input", Args: cobra.MinimumNArgs(1),
		Long:    "Remove records. Where others mention them it is refused, unless --cascade takes the mentions along;\n--dry-run shows what would go. Where somebody would gain rights by that it is refused, unless\n--accept-gains says that it may be so.",
		Example: fmt.Sprintf("  sentier %s remove ID --cascade --dry-run", n.word),
		RunE: func(cmd *cobra.Command, args []string) error {
			ids, err := a.ids(args)
			if err != nil {
				return err
			}
			var edits []wire.Edit
			for _, id := range ids {
				edits = append(edits, wire.Edit{Op: "remove", Type: n.typeName(), ID: id, Cascade: cascade, Accept: accept})
			}
			return a.send(cmd, e, edits...)
		},
	}
	cmd.Flags().BoolVar(&cascade, "cascade", false, "take every mention of it along")
	cmd.Flags().BoolVar(&accept, "accept-gains", false, "with --cascade: though somebody would gain rights by it")
	e.flags(cmd)
	return cmd
}

func (a *app) nounCopy(n noun) *cobra.Command {
	var e editing
	var name string
	var with []string
	standard := map[string][]string{"users": {"groups"}}[n.typeName()]
	cmd := &cobra.Command{
		Use: "copy ID [NEW-ID]", Short: "Make one like another", Args: cobra.RangeArgs(1, 2),
		Long:    "Make a record like another. --with says what comes along: for a user groups and grants,\nfor a group members and grants.",
		Example: fmt.Sprintf("  sentier %s copy ID --name \"The new one\"", n.word),
		RunE: func(cmd *cobra.Command, args []string) error {
			edit := wire.Edit{Op: "copy", Type: n.typeName(), ID: args[0], Name: name, With: with}
			if len(args) == 2 {
				edit.To = args[1]
			}
			return a.send(cmd, e, edit)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "name of the copy")
	cmd.Flags().StringSliceVar(&with, "with", standard, "what comes along: members, groups, grants, own_grants (grants of its own, like those of its model)")
	e.flags(cmd)
	return cmd
}

func (a *app) nounRename(n noun) *cobra.Command {
	var e editing
	cmd := &cobra.Command{
		Use: "rename ID NAME", Short: "Give it another name; its id stays", Args: exactly("ID", "NAME"),
		Example: fmt.Sprintf("  sentier %s rename ID \"Another name\"", n.word),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.patchAll(cmd, e, n, args[:1], row{"name": args[1]})
		},
	}
	e.flags(cmd)
	return cmd
}

// entries adds entries to a list of a record, or drops them.
func (a *app) entries(cmd *cobra.Command, e editing, op string, n noun, list string, args []string, like wire.Edit) error {
	ids, err := a.ids(args[1:])
	if err != nil {
		return err
	}
	var edits []wire.Edit
	for _, id := range ids {
		edit := like
		edit.Op, edit.Type, edit.ID, edit.List, edit.Value = op, n.typeName(), args[0], list, id
		edits = append(edits, edit)
	}
	return a.send(cmd, e, edits...)
}
