package cli

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"

	"sentier/internal/client"
	"sentier/internal/policy"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

func (a *app) nounShow(n noun) *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show one: what it is for, what it is made of, what happened to it last", Args: exactly("ID"),
		Example: fmt.Sprintf("  sentier %s show ID\n  sentier %s show ID --format yaml", n.word, n.word),
		Long:    "Show a record as its page in the console does. With --format json or yaml: the record as it is kept.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			shown := page{app: a, cmd: cmd, client: c, noun: n, id: args[0]}
			var raw []byte
			if err := shown.get("", "", nil, &raw); err != nil {
				return err
			}
			var item row
			if err := json.Unmarshal(raw, &item); err != nil {
				return err
			}
			order, err := fieldOrder(raw)
			if err != nil {
				return err
			}
			s := sheet{head: []string{"FIELD", "VALUE"}}
			for _, name := range order {
				s.rows = append(s.rows, fieldRows(name, item[name])...)
			}
			if a.format != "table" {
				return a.print(item, s)
			}
			return shown.write(item, s)
		},
	}
}

// page is what is shown of one record.
type page struct {
	app    *app
	cmd    *cobra.Command
	client *client.Client
	noun   noun
	id     string
	at     time.Time // what the service's clock showed when it was asked what is reached
}

// get asks something about the record: what is about records of its type stands in the path before it.
func (p *page) get(about, after string, query url.Values, into any) error {
	return p.client.Do(p.cmd.Context(), "GET", "/api/v1/"+about+p.noun.typeName()+"/"+url.PathEscape(p.id)+after, query, nil, into)
}

// part writes a part of the page under its head; one that has nothing in it says so.
func (p *page) part(head, empty string, s sheet) error {
	out := p.app.Out
	if _, err := lipgloss.Fprintf(out, "\n%s\n", headStyle.Render(head)); err != nil {
		return err
	}
	if len(s.rows) == 0 {
		_, err := fmt.Fprintln(out, empty)
		return err
	}
	return s.table(out, p.app.width())
}

// write begins with what a record is for, as the console does; its fields come after, and what happened to it last.
func (p *page) write(item row, fields sheet) error {
	name := plain(item["name"])
	if _, err := lipgloss.Fprintf(p.app.Out, "%s  %s\n", headStyle.Render(name), p.id); err != nil {
		return err
	}
	if err := p.origins(); err != nil {
		return err
	}
	parts := []func() error{}
	switch p.noun.typ {
	case policy.Users:
		parts = append(parts, p.reached("What they reach", "devices"), p.belongs("Groups"))
	case policy.Devices:
		parts = append(parts, p.reached("Who reaches it", "users"), p.belongs("Device groups"))
	case policy.UserGroups:
		parts = append(parts, p.members(item), p.reached("What the group amounts to", "devices"))
		fields.rows = slices.DeleteFunc(fields.rows, func(r []string) bool { return strings.HasPrefix(r[0], "members") })
	}
	if usedNouns[p.noun.typeName()] {
		parts = append(parts, p.uses)
	}
	parts = append(parts, p.mentions, func() error { return p.part("Fields", "none", fields) }, p.happened)
	for _, part := range parts {
		if err := part(); err != nil {
			return err
		}
	}
	return nil
}

// origins says from which source the record comes, and what of it is changed there: as it is now, for nobody changes what was.
func (p *page) origins() error {
	if p.app.asOf != "" || !slices.Contains([]policy.Type{policy.Users, policy.UserGroups, policy.Calendars, policy.Devices, policy.Sites}, p.noun.typ) {
		return nil
	}
	var list []wire.Origin
	query := url.Values{"type": {p.noun.typ.String()}, "ids": {p.id}}
	if err := p.client.Do(p.cmd.Context(), "GET", "/api/v1/origins", query, nil, &list); err != nil {
		return err
	}
	for _, o := range list {
		what := strings.Join(o.Fields, ", ")
		if len(o.Members) > 0 {
			what = fmt.Sprintf("%d memberships", len(o.Members))
		}
		text := fmt.Sprintf("From %s, which keeps: %s\n", o.Source.Name, what)
		if o.Gone {
			text = fmt.Sprintf("From %s, where it is no longer\n", o.Source.Name)
		}
		if _, err := fmt.Fprint(p.app.Out, text); err != nil {
			return err
		}
	}
	return nil
}

// reached folds a reach by its reasons: all that is had in the same way, for the same time, through the same grant is told once.
func (p *page) reached(head, many string) func() error {
	return func() error {
		var r wire.Reach
		if err := p.get("reach/", "", url.Values{"limit": {"1000"}}, &r); err != nil {
			return err
		}
		if r.Barred != "" {
			return p.part(head, "Nothing: "+wording.English.Say("code."+r.Barred)+".", sheet{})
		}
		p.at = r.At
		names := map[string][]string{}
		var order []*reachRow
		var keys []string
		for _, item := range r.Items {
			for _, w := range waysOf(item, r.Zone) {
				key := fmt.Sprint(*w)
				if names[key] == nil {
					order, keys = append(order, w), append(keys, key)
				}
				names[key] = append(names[key], item.Name)
			}
		}
		if len(r.Items) < r.Total {
			head += fmt.Sprintf(" (the first %d of %d; all: “sentier reach %s %s --all”)", len(r.Items), r.Total, p.noun.word, p.id)
		}
		if err := p.part(head, totalsText(r.Totals), sheet{}); err != nil {
			return err
		}
		for _, degree := range degreeOrder {
			for i, w := range order {
				if w.how != degree {
					continue
				}
				if err := p.reason(w, names[keys[i]], many); err != nil {
					return err
				}
			}
		}
		return nil
	}
}

// reason tells one way in which some are reached: with which rights and when, through what, and who or what they are.
func (p *page) reason(w *reachRow, names []string, many string) error {
	said := strings.Join(w.rights, ", ")
	for _, more := range []string{w.when, w.text} {
		if more != "" {
			said += "; " + more
		}
	}
	who := names[0]
	if len(names) > 1 {
		who = fmt.Sprintf("%d %s: %s", len(names), many, strings.Join(names, ", "))
	}
	for i, line := range []string{fmt.Sprintf("%-6s %s", w.how, said), "       " + who, "       through " + w.through} {
		if width := p.app.width(); width > 0 && i == 1 {
			line = cut(line, width)
		} else if width > 0 {
			line = strings.TrimPrefix(wrap(line[6:], "       ", width-7), "      ")
			if i == 0 {
				line = fmt.Sprintf("%-6s", w.how) + line
			} else {
				line = "      " + line
			}
		}
		if _, err := fmt.Fprintln(p.app.Out, line); err != nil {
			return err
		}
	}
	return nil
}

// mostMembers is how many members of a group are shown one by one.
const mostMembers = 40

// members are those of a group, with the ends of their memberships.
func (p *page) members(item row) func() error {
	return func() error {
		list, _ := item["members"].([]any)
		s := sheet{head: []string{"ID", "FROM", "UNTIL"}}
		for _, m := range list[:min(len(list), mostMembers)] {
			if entry, ok := m.(row); ok {
				s.rows = append(s.rows, []string{plain(entry["user"]), timeText(entry["from"]), timeText(entry["until"])})
				continue
			}
			s.rows = append(s.rows, []string{plain(m), "", ""})
		}
		head := "Members"
		if len(list) > mostMembers {
			head += fmt.Sprintf(" (the first %d of %d; all: --format yaml)", mostMembers, len(list))
		}
		return p.part(head, "none", s)
	}
}

// belongs lists the groups of a user or a device, and why they are in each.
func (p *page) belongs(head string) func() error {
	return func() error {
		var groups []wire.Belongs
		if err := p.get("groups/", "", nil, &groups); err != nil {
			return err
		}
		s := sheet{head: []string{"ID", "NAME", "WHY", "FROM", "UNTIL"}}
		for _, b := range groups {
			why := map[string]string{"listed": "listed", "rule": "by the group's rule", "within": "in a group below", "includes": "by a group that it includes"}[b.Why]
			if b.Through != nil {
				why += ": " + b.Through.Name
			}
			if !b.Enabled {
				why += " (the group is switched off)"
			}
			cells := []string{b.Group.ID, b.Group.Name, why, "", ""}
			if b.From != nil && b.From.After(p.at) { // what has begun is only told when it ends
				cells[3] = wording.Time(*b.From, "UTC")
			}
			if b.Until != nil {
				cells[4] = wording.Time(*b.Until, "UTC")
			}
			s.rows = append(s.rows, cells)
		}
		return p.part(head, "none", s)
	}
}

func (p *page) uses() error {
	var uses []wire.Use
	if err := p.get("uses/", "", nil, &uses); err != nil {
		return err
	}
	return p.part("What it is for", "No line of a grant makes use of it.", usesSheet(uses))
}

func (p *page) mentions() error {
	var mentions []wire.Mention
	if err := p.get("", "/mentions", nil, &mentions); err != nil {
		return err
	}
	s := sheet{head: []string{"TYPE", "ID", "NAME", "FIELD"}}
	for _, m := range mentions {
		if (p.noun.typ == policy.Users && m.Type == "user_groups") || (p.noun.typ == policy.Devices && m.Type == "device_groups") {
			continue // which stand among the groups
		}
		s.rows = append(s.rows, []string{m.Type, m.ID, m.Name, placeText(m.Field)})
	}
	return p.part("Mentioned by", "nothing else", s)
}

// timeText writes an instant of a record for people.
func timeText(v any) string {
	t, err := time.Parse(time.RFC3339, plain(v))
	if err != nil { // there is none
		return ""
	}
	return wording.Time(t, "UTC")
}

var lineOf = regexp.MustCompile(`^lines\[(\d+)\]\.(\w+)(\.\w+)?.*$`)

// placeText says where a record is mentioned: in which line of a grant, counted from 1 as people do.
func placeText(field string) string {
	m := lineOf.FindStringSubmatch(field)
	if m == nil {
		return field
	}
	n, err := strconv.Atoi(m[1])
	must(err)
	return fmt.Sprintf("line %d, %s", n+1, m[2])
}

func (p *page) happened() error {
	var last []wire.Happened
	if err := p.get("history/", "", nil, &last); err != nil {
		return err
	}
	s := sheet{head: []string{"REVISION", "AT", "BY", "NOTE"}}
	for _, h := range last {
		s.rows = append(s.rows, []string{fmt.Sprint(h.Revision), wording.Time(h.At, "UTC"), h.By.Name, h.Note})
	}
	return p.part("Last changes", "none", s)
}

// fieldOrder lists the fields of an object in the order in which they stand.
func fieldOrder(raw []byte) ([]string, error) {
	d := json.NewDecoder(strings.NewReader(string(raw)))
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	var out []string
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return nil, err
		}
		out = append(out, fmt.Sprint(key))
		var skip json.RawMessage
		if err := d.Decode(&skip); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// fieldRows writes a field, a list of objects in a row each.
func fieldRows(name string, v any) [][]string {
	items, ok := v.([]any)
	if !ok || len(items) == 0 {
		return [][]string{{name, plain(v)}}
	}
	if _, objects := items[0].(row); !objects && len(items) <= 6 {
		return [][]string{{name, plain(v)}}
	}
	var out [][]string
	for i, item := range items {
		text := plain(item)
		if m, ok := item.(row); ok && len(m) > 1 && name != "points" {
			delete(m, "id")
			text = plain(m)
		}
		out = append(out, []string{fmt.Sprintf("%s[%d]", name, i), text})
	}
	return out
}
