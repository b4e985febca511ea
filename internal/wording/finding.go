package wording

import (
	"strconv"

	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// Finding puts a finding into words: what it is, and why it matters.
func (c Catalogue) Finding(p *policy.Policy, f *survey.Finding) wire.Finding {
	out := wire.Finding{Key: f.Key(), Kind: string(f.Kind), Why: c.Say("upkeep.why." + string(f.Kind)), Records: []wire.FindingOf{}, Mends: []wire.FindingMend{}}
	pairs := []string{"right", p.Title(policy.Rights, string(f.Right)), "line", strconv.Itoa(f.Line + 1), "count", strconv.Itoa(f.Count)}
	for i, of := range f.Of {
		name := p.Title(of.Type, of.ID)
		out.Records = append(out.Records, wire.FindingOf{Type: of.Type.String(), ID: of.ID, Name: name})
		pairs = append(pairs, "name"+strconv.Itoa(i+1), name)
	}
	if !f.At.IsZero() {
		at := f.At
		out.At = &at
		pairs = append(pairs, "time", c.Time(f.At, p.Settings().Zone))
	}
	key := "upkeep.found." + string(f.Kind)
	if len(f.Of) > 0 {
		if own := key + "_" + f.Of[len(f.Of)-1].Type.String(); c.Has(own) {
			key = own
		}
	}
	out.Text = c.Say(key, pairs...)
	return out
}

// MendOf names what a mend is about.
func (c Catalogue) MendOf(p *policy.Policy, m survey.Mend) string {
	for _, change := range m.Changes {
		if change.Type == m.Of.Type && change.ID == m.Of.ID && change.Record != nil {
			return change.Record.Title()
		}
	}
	return p.Title(m.Of.Type, m.Of.ID)
}
