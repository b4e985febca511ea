package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Acts are what is done beside the policy, and could be used to get round the second person: the settings that ask for one, what is kept and recorded,
// what brings people and access from outside, and who is told. They fall under the rule for mandates.
const (
	ActSettings     = "change_settings"
	ActAddSource    = "add_source"
	ActEditSource   = "edit_source"
	ActRemoveSource = "remove_source"
	ActLinkSource   = "link_source"
	ActAddHook      = "add_webhook"
	ActEditHook     = "edit_webhook"
	ActRemoveHook   = "remove_webhook"
)

const (
	mostActs    = 20      // of a draft
	mostActSize = 1 << 20 // bytes of all acts of a draft
)

// actKind says how an act is read and carried out.
type actKind struct {
	check func(a *wire.DraftAct) error
	do    func(ctx context.Context, s *Service, c Caller, a *wire.DraftAct) error
}

var acts map[string]actKind

func init() {
	acts = map[string]actKind{
		ActSettings: acting(func(ctx context.Context, s *Service, c Caller, _ string, in wire.ServiceChange) error {
			_, err := s.changeSettings(ctx, c, in)
			return err
		}),
		ActAddSource: acting(func(ctx context.Context, s *Service, c Caller, _ string, in wire.NewSource) error {
			_, err := s.newSource(ctx, c, in)
			return err
		}),
		ActEditSource: acting(func(ctx context.Context, s *Service, c Caller, id string, in wire.NewSource) error {
			_, err := s.changeSource(ctx, c, id, in)
			return err
		}),
		ActLinkSource: acting(func(ctx context.Context, s *Service, c Caller, id string, in wire.LinkSource) error {
			_, err := s.linkSource(ctx, c, id, in)
			return err
		}),
		ActAddHook: acting(func(ctx context.Context, s *Service, c Caller, _ string, in wire.NewHook) error {
			_, err := s.newHook(ctx, c, in)
			return err
		}),
		ActEditHook: acting(func(ctx context.Context, s *Service, c Caller, id string, in wire.NewHook) error {
			_, err := s.changeHook(ctx, c, id, in)
			return err
		}),
		ActRemoveSource: {bodiless, func(ctx context.Context, s *Service, c Caller, a *wire.DraftAct) error {
			return s.dropSource(ctx, c, a.ID)
		}},
		ActRemoveHook: {bodiless, func(ctx context.Context, s *Service, c Caller, a *wire.DraftAct) error {
			return s.dropHook(ctx, c, a.ID)
		}},
	}
}

// acting reads the body of an act, as strictly as where it is sent by itself.
func acting[T any](do func(ctx context.Context, s *Service, c Caller, id string, in T) error) actKind {
	read := func(a *wire.DraftAct) (in T, err error) { return in, document.DecodeJSON(a.Body, &in) }
	return actKind{
		check: func(a *wire.DraftAct) error {
			_, err := read(a)
			return err
		},
		do: func(ctx context.Context, s *Service, c Caller, a *wire.DraftAct) error {
			in, err := read(a)
			if err != nil {
				return err
			}
			return do(ctx, s, c, a.ID, in)
		},
	}
}

func bodiless(a *wire.DraftAct) error {
	if len(a.Body) > 0 || a.ID == "" {
		return Wrong("body", "is left out where something is removed, and id says what")
	}
	return nil
}

// alone refuses an act of one person where the settings ask for two.
func (s *Service) alone(c Caller, what, id string) error {
	if !s.settings.Load().Approval.Mandates {
		return nil
	}
	err := &ApprovalError{[]string{ruleService}}
	s.Refused(c, Refusal{What: "a second person", Route: what, About: id, Missing: err.Error()})
	return err
}

// putActs puts what is to be done beside the policy into a draft that is begun.
func (s *Service) putActs(c Caller, d *draft, list []wire.DraftAct) error {
	if len(list) == 0 {
		return nil
	}
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	for i := range list {
		kind, ok := acts[list[i].Act]
		if !ok {
			return Wrong(fmt.Sprintf("acts[%d].act", i), "%q is not known: write one of %s", policy.Clip(list[i].Act), policy.Names(slices.Sorted(maps.Keys(acts))))
		}
		if err := kind.check(&list[i]); err != nil {
			return prefixPath(err, fmt.Sprintf("acts[%d]", i), false)
		}
	}
	text, err := json.Marshal(list)
	if err != nil {
		return fmt.Errorf("write the draft %s: %w", d.ID, err)
	}
	if len(list) > mostActs || len(text) > mostActSize {
		return Wrong("acts", "are %d, of %d kB: a draft has %d at most, of %d kB", len(list), len(text)>>10, mostActs, mostActSize>>10)
	}
	d.acts, d.Acts = list, text
	return nil
}

// mayAct tells whether a caller may do what a draft does beside the policy, and somebody agreed to it where the settings ask for that.
func (s *Service) mayAct(ctx context.Context, c Caller, d *draft) error {
	now := s.State()
	if err := s.Permit(now, c, Manage, ""); err != nil {
		return err
	}
	rules := s.actRules(d, nil)
	if len(rules) == 0 {
		return nil
	}
	on, err := d.whole(now)
	if err != nil {
		return err
	}
	return s.agreed(ctx, now, d, on, rules)
}

// act does what a draft does beside the policy, where that was agreed to as the settings ask for it.
func (s *Service) act(ctx context.Context, c Caller, d *draft) error {
	for i := range d.acts {
		a := &d.acts[i]
		kind, ok := acts[a.Act]
		if !ok {
			return &DraftError{policy.Say("the draft %q does what is not known here: %s", d.Name, a.Act)}
		}
		if err := kind.do(ctx, s, c, a); err != nil {
			return err
		}
	}
	return nil
}

// actRules adds the rules by which what a draft does beside the policy needs a second person.
func (s *Service) actRules(d *draft, rules []string) []string {
	if len(d.acts) > 0 && s.settings.Load().Approval.Mandates && !slices.Contains(rules, ruleService) {
		rules = append(rules, ruleService)
	}
	return rules
}

// loosens tells whether other settings keep less, record less or ask for a second person less often than those before: what only asks for more needs nobody.
func loosens(before, after wire.ServiceSettings) bool {
	a, b := before.Approval, after.Approval
	if a.Control && !b.Control || a.Limits && !b.Limits || a.Everyone && !b.Everyone || a.Everything && !b.Everything || a.Mandates && !b.Mandates || a.MoreThan > 0 && (b.MoreThan == 0 || b.MoreThan > a.MoreThan) {
		return true
	}
	keeps := map[string]int{KeepNone: 0, KeepControl: 1, KeepAll: 2}
	lasts := func(days int) int {
		if days == 0 {
			return mostKeepDays + 1
		}
		return days
	}
	return keeps[after.Decisions] < keeps[before.Decisions] || !slices.Equal(before.DecisionsOf, after.DecisionsOf) || lasts(after.KeepDays) < lasts(before.KeepDays) ||
		before.ReasonRequired && !after.ReasonRequired
}
