package answers

import (
	"context"
	"slices"
	"strings"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// Review is a review as a whole, as far as the caller sees it, with what each thing that is held comes to.
func (s Service) Review(ctx context.Context, c service.Caller, id string) (wire.Review, error) {
	out, err := s.Service.Review(ctx, c, id)
	if err == nil {
		s.gives(c, &out)
	}
	return out, err
}

// NewReview begins a review of what is held now.
func (s Service) NewReview(ctx context.Context, c service.Caller, in wire.NewReview) (wire.Review, error) {
	out, err := s.Service.NewReview(ctx, c, in)
	if err == nil {
		s.gives(c, &out)
	}
	return out, err
}

// gives says what each thing that is held comes to.
func (s Service) gives(c service.Caller, out *wire.Review) {
	st, words := s.State(), wording.Accepted(c.Language)
	lines := map[policy.GrantID][]*decision.Line{}
	for i := range st.Compiled.Lines {
		l := &st.Compiled.Lines[i]
		lines[l.Grant.ID] = append(lines[l.Grant.ID], l)
	}
	known := map[string]string{}
	for i := range out.Items {
		item := &out.Items[i]
		key := item.Type + "/" + item.Record.ID
		text, ok := known[key]
		if !ok {
			var of amounts
			if m, ok := policy.Find[*policy.Mandate](st.Policy, item.Record.ID); ok && item.Type == policy.Mandates.String() {
				item.Gives = words.Say("console.mandate." + string(m.Role))
				continue
			}
			if item.Type == policy.UserGroups.String() {
				of = s.amount(st, policy.UserGroupID(item.Record.ID))
			} else {
				of = covered(st.Compiled, lines[policy.GrantID(item.Record.ID)])
			}
			text = of.in(words)
			known[key] = text
		}
		item.Gives = text
	}
}

// amounts are on how many devices something gives a right that controls, view and nothing else, or something else.
type amounts struct{ control, view, other int }

// count counts devices on which some rights are given, by their numbers in a policy.
func (a *amounts) count(c *decision.Compiled, rights decision.RightSet, devices int) {
	controls, other := false, false
	for n := range c.RightList {
		if rights.Has(n) {
			controls = controls || c.RightList[n].Controls
			other = other || c.RightList[n].ID != policy.View
		}
	}
	switch {
	case controls:
		a.control += devices
	case other:
		a.other += devices
	default:
		a.view += devices
	}
}

// amount counts the devices on which a group can do anything at some time.
func (s Service) amount(st *service.State, group policy.UserGroupID) (out amounts) {
	found, _ := survey.Of(st.Compiled).DevicesOfGroup(group, survey.Circumstances{At: s.Now(), Degrees: survey.AllDegrees})
	if found == nil {
		return out
	}
	for _, d := range found.Devices("", found.DeviceTotal()) {
		rights := make(decision.RightSet, len(st.Compiled.RightList)/64+1)
		for _, p := range d.Rights {
			if n, ok := st.Compiled.Right(p.Right); ok {
				rights.Add(n)
			}
		}
		out.count(st.Compiled, rights, 1)
	}
	return out
}

// covered counts the devices that some lines cover.
func covered(c *decision.Compiled, lines []*decision.Line) (out amounts) {
	rights := map[int32]decision.RightSet{} // by class of devices
	for _, l := range lines {
		for _, t := range l.On {
			for _, n := range c.Covered(t) {
				if rights[n] == nil {
					rights[n] = make(decision.RightSet, len(c.RightList)/64+1)
				}
				for right := range c.RightList {
					if l.Rights.Has(right) && c.RightList[right].For(c.Devices.Classes.At(n).Facts.Kind) {
						rights[n].Add(right)
					}
				}
			}
		}
	}
	for n, of := range rights {
		if slices.ContainsFunc(of, func(word uint64) bool { return word != 0 }) {
			out.count(c, of, c.Devices.Members.At(n).Size)
		}
	}
	return out
}

// in says in words on how many devices something is given.
func (a amounts) in(words wording.Catalogue) string {
	var out []string
	for _, part := range []struct {
		word  string
		count int
	}{{"review.control", a.control}, {"review.view", a.view}, {"review.other", a.other}} {
		if part.count > 0 {
			out = append(out, words.Counted(part.word, part.count))
		}
	}
	if len(out) == 0 {
		return words.Say("review.nothing")
	}
	return strings.Join(out, ", ")
}
