package service

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/demo"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// play is a long row of acts of many people on one service, each picked by chance.
type play struct {
	*Service
	by      *rand.Rand
	agreed  map[string]string // by whom, of each draft
	author  map[string]string
	asker   map[string]string // of each request
	devices []policy.DeviceID
	users   []policy.UserID
	at      time.Time
}

func one[T any](p *play, of ...T) T { return of[p.by.IntN(len(of))] }

// edit is one change of the policy, of those by which people come to rights, lose them, or come to give them.
func (p *play) edit() wire.Edit {
	user := string(one(p, p.users[:4]...)) // the others stay as they are, so that there always are two to agree
	group := one(p, "few", "bridge-crew", "duty-officers", "border-arm-staff")
	record := func(kind, id, text string) wire.Edit {
		return wire.Edit{Op: "put", Type: kind, ID: id, Record: json.RawMessage(text)}
	}
	switch p.by.IntN(9) {
	case 0:
		return wire.Edit{Op: "add", Type: "user_groups", ID: group, List: "members", Value: user}
	case 1:
		return wire.Edit{Op: "drop", Type: "user_groups", ID: group, List: "members", Value: user}
	case 2:
		id := one(p, "g1", "g2")
		return record("grants", id, fmt.Sprintf(`{"id":%q,"name":%q,"effect":%q,"to":{%s},"lines":[{"rights":[%q],"on":{"devices":[%q]}}]}`, id, id, one(p, "allow", "allow", "deny"),
			one(p, fmt.Sprintf(`"users":[%q]`, user), fmt.Sprintf(`"groups":[%q]`, group)), one(p, "view", "control"), one(p, p.devices...)))
	case 3:
		return wire.Edit{Op: "remove", Type: "grants", ID: one(p, "g1", "g2")}
	case 4:
		id := one(p, "m1", "m2")
		return record("mandates", id, fmt.Sprintf(`{"id":%q,"name":%q,"role":%q,"to":{"users":[%q]}}`, id, id, one(p, "owner", "auditor"), user))
	case 5:
		return wire.Edit{Op: "remove", Type: "mandates", ID: one(p, "m1", "m2", "owners", "auditors")}
	case 6:
		return wire.Edit{Op: "patch", Type: "users", ID: user, Record: json.RawMessage(fmt.Sprintf(`{"status":%q}`, one(p, "active", "suspended")))}
	case 7:
		return wire.Edit{Op: "patch", Type: "user_groups", ID: group, Record: json.RawMessage(fmt.Sprintf(`{"enabled":%t}`, p.by.IntN(2) == 0))}
	default:
		return wire.Edit{Op: "patch", Type: "grants", ID: one(p, "g1", "g2"), Record: json.RawMessage(fmt.Sprintf(`{"enabled":%t}`, p.by.IntN(2) == 0))}
	}
}

// controls is who may control what at some moments, asked of the decisions one by one: not of the survey, which the second person goes by.
func (p *play) controls() map[string]bool {
	out := map[string]bool{}
	c := p.State().Compiled
	for _, u := range p.users {
		for _, d := range p.devices {
			for _, after := range []time.Duration{0, 5 * time.Hour, 30 * time.Hour} {
				q := decision.Question{User: u, Right: policy.Control, Device: d, At: demo.Written.Add(after), Context: decision.Context{StrongSignIn: decision.True, Attended: decision.True}}
				if c.Decide(&q).Allowed {
					out[fmt.Sprint(u, " ", d, " ", after)] = true
				}
			}
		}
	}
	return out
}

// step does one act, and tells whether two people had a part in it.
func (p *play) step() (what string, two bool, err error) {
	ctx := context.Background()
	who := one(p, "ines.carvalho", "ines.carvalho", "bram.okafor", "bram.okafor", "marta.solis", "noor.haddad", "tomas.field")
	c := Caller{User: policy.UserID(who), Via: string(store.KindConsole)}
	draftOf := func() string {
		if len(p.author) == 0 {
			return "none"
		}
		var ids []string
		for id := range p.author {
			ids = append(ids, id)
		}
		slices.Sort(ids)
		return ids[p.by.IntN(len(ids))]
	}
	if len(p.author) > 4 {
		delete(p.author, draftOf()) // it is left lying
	}
	switch p.by.IntN(10) {
	case 0, 1, 2:
		e := p.edit()
		_, err = p.Edit(ctx, c, wire.Edits{Changes: []wire.Edit{e}}, EditOptions{})
		return fmt.Sprintf("%s edits %s %s/%s %s %s %s", who, e.Op, e.Type, e.ID, e.List, e.Value, e.Record), false, err
	case 3:
		var d wire.Draft
		edits := []wire.Edit{p.edit(), p.edit()}
		if d, err = p.NewDraft(ctx, c, wire.NewDraft{Name: "Play", Changes: edits}); err == nil {
			p.author[d.ID] = who
		}
		return who + " drafts", false, err
	case 4:
		id := draftOf()
		var d wire.Draft
		if d, err = p.Draft(ctx, c, id); err == nil {
			if _, err = p.Approve(ctx, c, id, wire.Approve{Digest: d.Digest}); err == nil {
				p.agreed[id] = who
			}
		}
		return who + " agrees to " + id, false, err
	case 5, 6:
		id := draftOf()
		_, err = p.ApplyDraft(ctx, c, id, wire.ApplyDraft{})
		by := p.agreed[id]
		if err == nil {
			defer delete(p.author, id)
		}
		return fmt.Sprintf("%s applies %s of %s, agreed to by %q", who, id, p.author[id], by), by != "" && by != p.author[id], err
	case 7:
		number := max(1, p.State().Revision.Number-uint64(p.by.IntN(6)))
		_, err = p.Undo(ctx, c, []uint64{number}, EditOptions{})
		return fmt.Sprintf("%s takes back revision %d", who, number), false, err
	case 8:
		var r wire.Request
		if p.by.IntN(2) == 0 {
			r, err = p.JoinGroup(ctx, c, wire.JoinGroup{Group: one(p, "bridge-crew", "duty-officers", "few"), Minutes: 30, Reason: "play"})
		} else {
			r, err = p.AskFor(ctx, c, wire.AskFor{Right: "control", Device: string(one(p, p.devices...)), Until: p.at.Add(20 * time.Hour).Format(time.RFC3339), Reason: "play"})
		}
		if err == nil {
			p.asker[r.ID] = who
		}
		return who + " asks", true, err // whom a group lets in was agreed to when it came to let people in
	default:
		if len(p.asker) == 0 {
			return "nothing", false, nil
		}
		var ids []string
		for id := range p.asker {
			ids = append(ids, id)
		}
		slices.Sort(ids)
		id := ids[p.by.IntN(len(ids))]
		var edits []wire.Edit
		if p.by.IntN(2) == 0 {
			edits = []wire.Edit{p.edit()}
		}
		_, err = p.AnswerRequest(ctx, c, id, wire.AnswerRequest{Agree: true, Edits: edits})
		// What is granted beyond what was asked for is a change of who answers alone.
		return fmt.Sprintf("%s answers %s of %s with %+v", who, id, p.asker[id], edits), p.asker[id] != who && len(edits) == 0, err
	}
}

// TestPlay has people do what comes to them, thousands of times: nobody ever comes to control anything by one person alone, an owner always lasts, and at the end all
// that is kept is what was written. SENTIER_PLAY is how many acts.
func TestPlay(t *testing.T) {
	t.Parallel()
	acts := 600
	if n, err := strconv.Atoi(os.Getenv("SENTIER_PLAY")); err == nil {
		acts = n
	}
	p := &play{by: rand.New(rand.NewPCG(30, 1)), agreed: map[string]string{}, author: map[string]string{}, asker: map[string]string{}, at: demo.Written,
		users: []policy.UserID{"noor.haddad", "elin.berg", "tomas.field", "julia.moreno", "bram.okafor", "marta.solis"}, devices: []policy.DeviceID{"mill-bridge", "alder-pump-1", "estuary-gate-1"}}
	now := demo.Written
	p.Service, _ = on(t, func() time.Time { return now })
	owner := Caller{User: "ines.carvalho", Via: "test"}
	if _, err := p.Put(t.Context(), owner, "user_groups", "few", []byte(`{"name":"Few","members":["noor.haddad"]}`), EditOptions{}); err != nil {
		t.Fatal(err)
	}
	set := p.settings.Load().ServiceSettings
	set.Approval = wire.ApprovalRules{Control: true, Mandates: true}
	p.setSettings(set)
	before := p.controls()
	done, refused, gained := 0, 0, 0
	for i := range acts {
		now = now.Add(time.Second)
		p.at = now
		what, both, err := p.step()
		after := p.controls()
		if err != nil {
			refused++
		} else {
			done++
		}
		for k := range after {
			if before[k] {
				continue
			}
			gained++
			switch {
			case err != nil:
				t.Fatalf("act %d, which was refused (%v), gave %s: %s", i, err, k, what)
			case !both:
				t.Fatalf("act %d of one person gave %s: %s", i, k, what)
			}
		}
		if !slices.Contains(p.State().Compiled.LastingOwners(now), owner.User) {
			t.Fatalf("act %d left no owner who can sign in: %s", i, what)
		}
		before = after
	}
	if found, err := p.Verify(t.Context(), owner); err != nil || found.Wrong != "" {
		t.Errorf("what is kept: %+v %v", found, err)
	}
	dumped(t, p.Service)
	t.Logf("%d acts done, %d refused, control gained %d times, by two people each", done, refused, gained)
	if done < acts/20 || gained == 0 {
		t.Errorf("%d done, %d refused, %d gained: this shows nothing", done, refused, gained)
	}
}
