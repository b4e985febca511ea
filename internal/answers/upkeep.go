package answers

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"sentier/internal/authority"
	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// Upkeep lists what may not be meant as it is, as far as the caller sees all that it is about: of one kind, or of all where kind is empty; those
// that were dismissed where that is asked for.
func (s Service) Upkeep(ctx context.Context, c service.Caller, kind string, dismissed bool) (wire.Findings, error) {
	st := s.State()
	out := wire.Findings{Revision: st.Revision.Number, Items: []wire.Finding{}, Counts: map[string]int{}}
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return out, err
	}
	if kind != "" && !slices.Contains(survey.FindingKinds(), survey.FindingKind(kind)) {
		return out, service.Wrong("kind", "%q is no kind of finding", policy.Clip(kind))
	}
	list, counts, at, err := s.Findings(ctx)
	if err != nil {
		return out, err
	}
	out.At = at
	closed, err := s.Dismissed(ctx)
	if err != nil {
		return out, err
	}
	v, words := s.View(st, c), wording.Accepted(c.Language)
	if v.Whole() {
		for k, n := range counts {
			out.Counts[string(k)] = n
		}
	}
	for i := range list {
		f := &list[i]
		if !seesAll(st.Policy, v, f) {
			continue
		}
		d, isClosed := closed[f.Key()]
		if isClosed {
			out.Dismissed++
		}
		switch {
		case isClosed && v.Whole():
			out.Counts[string(f.Kind)]--
		case !isClosed && !v.Whole():
			out.Counts[string(f.Kind)]++
		}
		if isClosed != dismissed || kind != "" && string(f.Kind) != kind {
			continue
		}
		item, err := told(words, st.Policy, f)
		if err != nil {
			return out, err
		}
		if isClosed {
			item.Dismissed = &wire.FindingClosed{Reason: d.Reason, Until: d.Until, At: d.At, By: wire.Named{ID: d.By, Name: st.Policy.Title(policy.Users, d.By)}}
		}
		out.Items = append(out.Items, item)
	}
	maps.DeleteFunc(out.Counts, func(_ string, n int) bool { return n == 0 })
	return out, nil
}

func seesAll(p *policy.Policy, v authority.View, f *survey.Finding) bool {
	return v.Whole() || !slices.ContainsFunc(f.Of, func(of survey.FindingOf) bool {
		r, there := p.Get(of.Type, of.ID)
		return !there || !v.Sees(r)
	})
}

// told puts a finding into words.
func told(words wording.Catalogue, p *policy.Policy, f *survey.Finding) (wire.Finding, error) {
	out := words.Finding(p, f)
	for _, m := range f.Mends {
		text, err := json.Marshal(m.Changes)
		if err != nil {
			return out, fmt.Errorf("write the mend of %s: %w", f.Key(), err)
		}
		mend := wire.FindingMend{Text: words.Say("upkeep.mend."+m.Word, "name", words.MendOf(p, m))}
		if err := json.Unmarshal(text, &mend.Edits); err != nil { // changes have one written form
			return out, fmt.Errorf("read the mend of %s: %w", f.Key(), err)
		}
		out.Mends = append(out.Mends, mend)
	}
	return out, nil
}
