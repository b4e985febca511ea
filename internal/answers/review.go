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
			var all, control int
			if m, ok := policy.Find[*policy.Mandate](st.Policy, item.Record.ID); ok && item.Type == policy.Mandates.String() {
				item.Gives = words.Say("console.mandate." + string(m.Role))
				continue
			}
			if item.Type == policy.UserGroups.String() {
				all, control = s.amount(st, policy.UserGroupID(item.Record.ID))
			} else {
				all, control = covered(st.Compiled, lines[policy.GrantID(item.Record.ID)])
			}
			text = given(words, all, control)
			known[key] = text
		}
		item.Gives = text
	}
}

// amount counts the devices on which a group can do anything at some time, and those that it can control.
func (s Service) amount(st *service.State, group policy.UserGroupID) (all, control int) {
	found, _ := survey.Of(st.Compiled).DevicesOfGroup(group, survey.Circumstances{At: s.Now(), Degrees: survey.AllDegrees})
	if found == nil {
		return 0, 0
	}
	for _, d := range found.Devices("", found.DeviceTotal()) {
		all++
		if slices.ContainsFunc(d.Rights, func(p survey.Possibility) bool {
			n, ok := st.Compiled.Right(p.Right)
			return ok && st.Compiled.RightList[n].Controls
		}) {
			control++
		}
	}
	return all, control
}

// covered counts the devices that some lines cover, and those that they cover with a right that controls.
func covered(c *decision.Compiled, lines []*decision.Line) (all, control int) {
	any, controls := decision.NewClassSet(c.Devices.Classes.Size), decision.NewClassSet(c.Devices.Classes.Size)
	for _, l := range lines {
		holds := false
		for n := range c.RightList {
			holds = holds || c.RightList[n].Controls && l.Rights.Has(n)
		}
		for _, t := range l.On {
			any.Add(c.Covered(t))
			if holds {
				controls.Add(c.Covered(t))
			}
		}
	}
	for _, n := range any.List {
		all += c.Devices.Members.At(n).Size
	}
	for _, n := range controls.List {
		control += c.Devices.Members.At(n).Size
	}
	return all, control
}

// given says in words on how many devices something is given.
func given(words wording.Catalogue, all, control int) string {
	var out []string
	if control > 0 {
		out = append(out, words.Counted("review.control", control))
	}
	if all > control {
		out = append(out, words.Counted("review.other", all-control))
	}
	if all == 0 {
		return words.Say("review.nothing")
	}
	return strings.Join(out, ", ")
}
