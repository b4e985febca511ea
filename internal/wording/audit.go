package wording

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// audited is what entries of the record say beside, as far as it is put into words.
type audited struct {
	What, Missing, By, Name, Note string
	Hook, Why                     string
	Strong                        bool
	Times, All, Minutes           int
	Group, Right, Device, Reason  string
	Kind, Machine                 string
	Entry                         uint64
	Records                       []struct{ Type, ID, Did string }
	Before, After                 map[string]json.RawMessage
}

// Audited puts an entry of the record into words: what was done, beside who did it.
func (c Catalogue) Audited(p *policy.Policy, e *wire.AuditEntry) string {
	var more audited
	if len(e.More) > 0 && json.Unmarshal(e.More, &more) != nil {
		return string(e.More) // as it stands
	}
	text := c.audited(p, e, &more)
	if more.Machine != "" && e.Kind != "machine" {
		text = c.Say("audit.on_machine", "text", text, "machine", more.Machine)
	}
	return text
}

func (c Catalogue) audited(p *policy.Policy, e *wire.AuditEntry, more *audited) string {
	name := func(n *wire.Named) string {
		if n == nil {
			return ""
		}
		return n.Name
	}
	user, device := name(e.User), name(e.Device)
	if e.Point != "" {
		device = PointName(p, policy.DeviceID(e.Device.ID), policy.PointID(e.Point))
	}
	switch e.Kind {
	case "decision", "question":
		if e.Kind == "question" && e.Right == "" {
			return c.Say("audit.reach", "user", user)
		}
		answer := c.Say("audit.yes")
		if e.Outcome != "granted" {
			answer = c.Say("audit.no", "why", c.Say("code."+e.Outcome))
		}
		return c.Say("audit."+e.Kind, "user", user, "right", p.Title(policy.Rights, e.Right), "device", device, "answer", answer)
	case "change":
		return c.change(p, e, more)
	case "look":
		return c.Say("audit.look", "user", user)
	case "request":
		return c.request(p, e, more, user)
	}
	key := "audit." + e.Kind + "." + e.Outcome
	switch {
	case e.Kind == "sign_in" && more.Strong:
		key = "audit.sign_in.strong"
	case e.Kind == "second_factor" && more.What == "recovery codes":
		key = "audit.second_factor.codes"
	case e.Kind == "refusal" && more.Times > 0:
		key = "audit.refused_times"
	case e.Kind == "setting" && more.Hook != "":
		key = "audit.hook." + e.Outcome
	case e.Kind == "sign_in" && more.Missing == "":
		more.Missing = more.What
	}
	text := c.Say(key, "user", user, "name", more.Name, "machine", more.Machine, "by", c.orAsIs("audit.by.", more.By), "missing", c.orAsIs("audit.missing.", more.Missing),
		"what", c.orAsIs("audit.sessions.", c.what(more)), "entry", strconv.FormatUint(more.Entry, 10), "why", more.Why)
	if more.Times > 0 {
		text = c.Say("audit.times", "text", text, "n", strconv.Itoa(more.Times))
	}
	return text
}

// orAsIs is the sentence for a text that the service has written, or that text where there is none.
func (c Catalogue) orAsIs(group, text string) string {
	if c.Has(group + text) {
		return c.Say(group + text)
	}
	return text
}

// what is what an entry is about; of settings, those that differ.
func (c Catalogue) what(more *audited) string {
	var out []string
	for _, field := range slices.Sorted(maps.Keys(more.After)) {
		if before, after := string(more.Before[field]), string(more.After[field]); before != after {
			out = append(out, fmt.Sprintf("%s %s → %s", field, before, after))
		}
	}
	if len(out) > 0 {
		return strings.Join(out, "; ")
	}
	return more.What
}

func (c Catalogue) request(p *policy.Policy, e *wire.AuditEntry, more *audited, user string) string {
	what := c.Asked(p, more.Kind, more.Group, more.Right, more.Device, more.Minutes)
	key := "audit.request." + e.Outcome
	if e.Outcome == "done" && e.By != nil && e.User != nil && e.By.ID == e.User.ID {
		key = "audit.request.joined"
	}
	return c.Say(key, "user", user, "what", what, "reason", more.Reason)
}

func (c Catalogue) change(p *policy.Policy, e *wire.AuditEntry, more *audited) string {
	const told = 3
	var records []string
	for _, r := range more.Records[:min(len(more.Records), told)] {
		t, _ := policy.TypeNamed(r.Type)
		name := p.Title(t, r.ID)
		if r.Type == policy.SettingsType.String() {
			name = c.Say("console.type.settings")
		}
		records = append(records, c.Say("audit."+r.Did, "name", name))
	}
	if n := max(more.All, len(more.Records)) - len(records); n > 0 {
		records = append(records, c.Say("audit.more", "n", strconv.Itoa(n)))
	}
	text := c.Say("audit.change", "revision", strconv.FormatUint(e.Revision, 10), "records", strings.Join(records, ", "))
	if more.Note != "" {
		text = c.Say("audit.why", "text", text, "note", more.Note)
	}
	return text
}

// Asked says what somebody asks for: to join a group for some minutes, or a right on a device.
func (c Catalogue) Asked(p *policy.Policy, kind, group, right, device string, minutes int) string {
	if kind == "join" {
		return c.Say("audit.asked_join", "group", p.Title(policy.UserGroups, group), "minutes", strconv.Itoa(minutes))
	}
	return c.Say("audit.asked_access", "right", p.Title(policy.Rights, right), "device", p.Title(policy.Devices, device))
}
