package service

import "slices"

// Step is one of the steps that a change goes through; see [steps].
type Step string

// The steps, in their order.
const (
	StepRead         Step = "read"         // the change is worked out on the policy as it is
	StepPermit       Step = "permit"       // whoever makes it may do what it does
	StepKept         Step = "sources"      // it changes nothing that a source keeps
	StepApproval     Step = "approval"     // a second person agreed, where the settings ask for one
	StepExpectations Step = "expectations" // what is expected of the policy still holds
	StepSave         Step = "save"         // the revision is written, and a lasting owner is left
	StepRecord       Step = "record"       // it is entered in the audit log
	StepPublish      Step = "publish"      // the next question is answered by it
	StepTell         Step = "tell"         // whoever follows is told
)

// Way is a way in: how a change comes to the policy.
type Way string

// The ways in. Each is a row of [ways].
const (
	WayRecord    Way = "record"
	WayBatch     Way = "batch"
	WayAccess    Way = "access"
	WayDocument  Way = "document"
	WaySheet     Way = "sheet"
	WayIntoDraft Way = "into a draft"
	WayDraft     Way = "draft"
	WayDraftHour Way = "draft at its hour"
	WayDraftEnd  Way = "end of a draft"
	WayUndo      Way = "undo"
	WayRequest   Way = "request"
	WayJoin      Way = "join"
	WayGiveBack  Way = "give back"
	WayComeIn    Way = "come in"
	WaySource    Way = "source"
	WayContent   Way = "content"
	WaySCIM      Way = "scim"
	WaySignOn    Way = "sign-on"
	WayReview    Way = "review"
	WayReviewEnd Way = "end of a review"
	WayRecovery  Way = "recovery"
)

// wayIn is what is particular to a way in. What a row does not say is as for every other: all steps are taken.
type wayIn struct {
	what   string                                // that comes by it
	as     string                                // as whom it is judged
	leaves map[Step]string                       // the steps that it leaves out, and why
	via    string                                // what the revision says it came by; empty: what the caller came by
	agreed func(m *making, rules []string) error // looks up that a second person agreed; nil: whoever comes this way is alone
}

const (
	caller   = "whoever asks"
	setter   = "whoever set the source up, by the mandate that was named for it"
	noSource = "what a source keeps is changed by that source"
	laid     = "what it gives was weighed when it was laid ready, as if everybody who may use it had"
)

// ways are all ways in. Who wants to know by which way what is judged reads this table and [steps]; nothing else leaves a step out.
var ways map[Way]wayIn

func init() { // as what looks up an agreement comes back to the table
	ways = map[Way]wayIn{
		WayRecord:    {what: "one object, put, changed or removed", as: caller},
		WayBatch:     {what: "several edits, all or none; the fix of a finding is one", as: caller},
		WayAccess:    {what: "access that is given to people or groups, or taken from them", as: caller},
		WayDocument:  {what: "a policy document that replaces the policy", as: caller},
		WaySheet:     {what: "a sheet of rows", as: caller},
		WayIntoDraft: {what: "an edit that is put into a draft", as: caller},
		WayDraft:     {what: "a draft that is applied now", as: caller, agreed: (*making).draftAgreed},
		WayDraftHour: {what: "a draft whose hour has come", as: "whoever set the hour, by the mandate that they had chosen", via: viaDraft, agreed: (*making).draftAgreed},
		WayDraftEnd: {what: "what a draft gave for a time ends", as: "the service itself", via: viaDraft, leaves: map[Step]string{
			StepPermit:       "no mandate holds an end up",
			StepKept:         "a source that keeps it by now brings it again at its next reading",
			StepApproval:     "no approval holds an end up: the end was agreed to with the beginning",
			StepExpectations: "no expectation holds an end up",
		}},
		WayUndo:    {what: "what revisions did is taken back", as: caller},
		WayRequest: {what: "what somebody asked for is granted", as: "whoever answers", agreed: (*making).requestAgreed},
		WayJoin: {what: "somebody joins a group for a time", as: "the one who joins, by the group's own rule", leaves: map[Step]string{
			StepPermit:   "the group says who may join: no mandate is needed",
			StepApproval: laid,
		}},
		WayGiveBack: {what: "somebody gives back what is theirs", as: "the one who gives it back", leaves: map[Step]string{
			StepPermit: "everybody may end what is their own; nobody gains by it, which is looked at before",
		}},
		WayComeIn: {what: "somebody who is invited comes in by their link", as: "the one who comes in", leaves: map[Step]string{
			StepPermit:   "the link is what permits it, which holds only while its maker may still make it",
			StepApproval: laid,
		}},
		WaySource:    {what: "a source that is read", as: setter, via: viaSource, leaves: map[Step]string{StepKept: noSource}, agreed: (*making).sourceAgreed},
		WayContent:   {what: "content that somebody brought to a source", as: setter, via: viaSource, leaves: map[Step]string{StepKept: noSource}, agreed: (*making).sourceAgreed},
		WaySCIM:      {what: "people and groups that a provider pushes by SCIM", as: setter, via: viaSource, leaves: map[Step]string{StepKept: noSource}},
		WaySignOn:    {what: "somebody who signs in at a provider", as: setter, via: viaSource, leaves: map[Step]string{StepKept: noSource}},
		WayReview:    {what: "access that a review takes away", as: caller},
		WayReviewEnd: {what: "what becomes of items that nobody answered by the end of a review", as: "whoever began the review, by the mandate that they had chosen", via: viaReview},
		WayRecovery: {what: "an owner is made by whoever holds the files", as: "whoever holds the files", leaves: map[Step]string{
			StepPermit:       "whoever holds the files can do anything: what they do is on record",
			StepKept:         "no source is read while the service is stopped",
			StepApproval:     "it is for when nobody can agree",
			StepExpectations: "it is for when nothing else is left",
			StepPublish:      "no service runs that could be told",
			StepTell:         "no service runs that could be told",
		}},
	}
}

// steps are the steps of every change. Each is given the change as far as the steps before have made it; an error ends it, and nothing has
// changed unless the step is one after StepSave.
var steps = []struct {
	step Step
	take func(*making) error
}{
	{StepRead, (*making).read},
	{StepPermit, (*making).permit},
	{StepKept, (*making).keptElsewhere},
	{StepApproval, (*making).secondPerson},
	{StepExpectations, (*making).expectations},
	{StepSave, (*making).save},
	{StepRecord, (*making).record},
	{StepPublish, (*making).publish},
	{StepTell, (*making).tell},
}

// leaves tells whether the way of a change leaves a step out. What comes by no row of the table leaves none out.
func (o *EditOptions) leaves(step Step) bool {
	_, leaves := ways[o.way].leaves[step]
	return leaves
}

// take takes some of the steps that the way does not leave out.
func (m *making) take(some ...Step) error {
	for _, s := range steps {
		if !slices.Contains(some, s.step) || m.o.leaves(s.step) {
			continue
		}
		if err := s.take(m); err != nil {
			return err
		}
	}
	return nil
}
