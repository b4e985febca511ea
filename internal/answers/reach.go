package answers

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"sentier/internal/audit"
	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/schedule"
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// ReachQuery asks for a page of a reach.
type ReachQuery struct {
	At      string   // RFC 3339 or local; empty: now
	Degrees []string // now, later, if; empty: all that is possible
	Right   string   // empty: every right
	Point   string   // of a device
	Limit   int      // 0: DefaultPage
	Cursor  string
	Context wire.Context
}

// Reach tells what is possible: what a user or a user group reaches, or who reaches a device or point.
func (s Service) Reach(c service.Caller, typeName, id string, q ReachQuery) (wire.Reach, error) {
	st := s.State()
	about := policy.UserID("")
	if typeName == policy.Users.String() {
		about = policy.UserID(id)
	}
	if err := s.Permit(st, c, service.Ask, about); err != nil {
		return wire.Reach{}, err
	}
	first := q.Cursor == ""
	out, err := s.reach(st, c, typeName, id, q)
	if err == nil && first && about != "" && about != c.User {
		err = s.Looked(c, audit.Question, id, "reach")
	}
	return out, err
}

func (s Service) reach(st *service.State, c service.Caller, typeName, id string, q ReachQuery) (wire.Reach, error) {
	t, _ := policy.TypeNamed(typeName)
	r, ok := st.Policy.Get(t, id)
	if !ok {
		return wire.Reach{}, service.ErrNotFound
	}
	place := cursorOf("reach", typeName, id, q.At, q.Degrees, q.Right, q.Point, q.Context)
	after, err := place.read("cursor", q.Cursor)
	if err != nil {
		return wire.Reach{}, err
	}
	q.Cursor = after
	if q.Limit == 0 {
		q.Limit = DefaultPage
	}
	if q.Limit < 1 || q.Limit > MaxPage {
		return wire.Reach{}, pageError(q.Limit)
	}
	zone := st.Policy.Settings().Zone
	if d, ok := r.(*policy.Device); ok {
		zone = decision.SiteZone(st.Policy, d.Site)
	}
	if t == policy.Users {
		q.Context = ownContext(c, id, q.Context)
	}
	in, err := s.circumstances(st, q.At, zone, q.Context, q.Degrees)
	if err != nil {
		return wire.Reach{}, err
	}
	in.Right = policy.RightID(q.Right)
	if in.Sites = s.sites(st, c, ""); t == policy.Users {
		in.Sites = s.sites(st, c, policy.UserID(id))
	}
	if t == policy.Devices && s.beyond(st, c, policy.DeviceID(id)) {
		return wire.Reach{}, service.ErrNotFound
	}
	v := &reachView{st: st, in: in, words: wording.Accepted(c.Language), place: place, out: wire.Reach{
		Of: wire.Ref{Type: typeName, ID: id, Name: r.Title()}, At: in.At, Zone: zone, Degrees: degreesOf(in.Degrees), Revision: st.Revision.Number, Items: []wire.Reached{},
	}}
	switch t {
	case policy.Users:
		if reason, ok := st.Compiled.MaySignIn(policy.UserID(id), in.At); !ok {
			v.out.Barred = reason.String()
		}
		found, reason := survey.Of(st.Compiled).DevicesOf(policy.UserID(id), in)
		return v.devices(policy.UserID(id), found, reason, q)
	case policy.UserGroups:
		v.group = policy.UserGroupID(id)
		found, reason := survey.Of(st.Compiled).DevicesOfGroup(v.group, in)
		return v.devices("", found, reason, q)
	case policy.Devices:
		found, reason := survey.Of(st.Compiled).UsersOf(policy.DeviceID(id), policy.PointID(q.Point), in)
		return v.users(policy.DeviceID(id), policy.PointID(q.Point), found, reason, q)
	}
	return wire.Reach{}, service.ErrNotFound
}

// MaxHolders is how many devices are asked about at once by [Service.Holders].
const MaxHolders = 200

// Holders tells how many have which right on each of some devices, at most MaxHolders; devices that are not there are left out.
func (s Service) Holders(c service.Caller, ids []string, q ReachQuery) ([]wire.Held, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Ask, ""); err != nil {
		return nil, err
	}
	if len(ids) == 0 || len(ids) > MaxHolders {
		return nil, service.Wrong("id", "names %d devices: ask about 1 to %d at once", len(ids), MaxHolders)
	}
	in, err := s.circumstances(st, q.At, st.Policy.Settings().Zone, q.Context, q.Degrees)
	if err != nil {
		return nil, err
	}
	var devices []policy.DeviceID
	for _, id := range ids {
		if _, ok := st.Policy.Get(policy.Devices, id); ok && !s.beyond(st, c, policy.DeviceID(id)) {
			devices = append(devices, policy.DeviceID(id))
		}
	}
	out := []wire.Held{}
	for i, held := range survey.Of(st.Compiled).HoldersOf(devices, in) {
		of := wire.Held{ID: string(devices[i]), Rights: []wire.HeldRight{}}
		for _, h := range held {
			of.Rights = append(of.Rights, wire.HeldRight{ID: string(h.Right), Name: st.Policy.Title(policy.Rights, string(h.Right)), Totals: wording.Totals(h.Totals)})
		}
		out = append(out, of)
	}
	return out, nil
}

func pageError(limit int) error {
	return service.Wrong("limit", "%d is out of range: a page has 1 to %d records", limit, MaxPage)
}

// circumstances reads an instant, a context and which degrees are asked for.
func (s Service) circumstances(st *service.State, at, zone string, in wire.Context, degrees []string) (survey.Circumstances, error) {
	loc, err := policy.LoadZone(zone)
	if err != nil {
		return survey.Circumstances{}, service.Wrong("zone", "%v", err)
	}
	q, err := translate.Question(st.Policy, wire.Check{Context: in}, s.Now())
	if err != nil {
		return survey.Circumstances{}, err
	}
	if at != "" {
		if q.At, err = document.ParseInstant(at, s.Now(), loc); err != nil {
			return survey.Circumstances{}, service.Wrong("at", "%v", err)
		}
	}
	out := survey.Circumstances{At: q.At, Context: q.Context}
	for _, word := range degrees {
		d, ok := survey.DegreeNamed(word)
		if !ok {
			return out, service.Wrong("degree", "%q is no degree: write now, later or if", word)
		}
		out.Degrees = out.Degrees.With(d)
	}
	if len(degrees) == 0 {
		out.Degrees = survey.AllDegrees
	}
	return out, nil
}

// degreesOf lists the degrees of a set, the nearest first.
func degreesOf(set survey.Degrees) []string {
	var out []string
	for _, d := range []survey.Degree{survey.Now, survey.Later, survey.If} {
		if set.Has(d) {
			out = append(out, d.String())
		}
	}
	return out
}

// reachView fills a page of a reach with names, ends and ways.
type reachView struct {
	st    *service.State
	in    survey.Circumstances
	words wording.Catalogue
	group policy.UserGroupID // of which it is asked; empty: a user or a device
	place cursor
	out   wire.Reach

	came     *decision.Compiled // as if cameUser had come in, who is invited; nil: nobody was asked about
	cameUser policy.UserID
}

func (v *reachView) devices(user policy.UserID, found *survey.Reach[policy.DeviceID], reason decision.Reason, q ReachQuery) (wire.Reach, error) {
	if err := v.begin(found.Total, found.Totals, reason, q); err != nil {
		return v.out, err
	}
	for _, r := range found.Page(q.Cursor, q.Limit) {
		d, _ := policy.Find[*policy.Device](v.st.Policy, string(r.ID))
		item := wire.Reached{ID: r.Key(), Name: wording.PointName(v.st.Policy, r.ID, r.Point), Site: string(d.Site)}
		v.rights(&item, r.Rights, decision.Question{User: user, Device: r.ID, Point: r.Point})
		v.out.Items = append(v.out.Items, item)
	}
	v.end(q)
	return v.out, nil
}

func (v *reachView) users(device policy.DeviceID, point policy.PointID, found *survey.Reach[policy.UserID], reason decision.Reason, q ReachQuery) (wire.Reach, error) {
	if point != "" {
		v.out.Of.ID, v.out.Of.Name = string(device)+"/"+string(point), wording.PointName(v.st.Policy, device, point)
	}
	if err := v.begin(found.Total, found.Totals, reason, q); err != nil {
		return v.out, err
	}
	for _, r := range found.Page(q.Cursor, q.Limit) {
		u, _ := policy.Find[*policy.User](v.st.Policy, string(r.ID))
		item := wire.Reached{ID: string(r.ID), Name: u.Title()}
		v.rights(&item, r.Rights, decision.Question{User: r.ID, Device: device, Point: point})
		v.out.Items = append(v.out.Items, item)
	}
	v.end(q)
	return v.out, nil
}

func (v *reachView) begin(total int, totals [survey.Now + 1]int, reason decision.Reason, q ReachQuery) error {
	switch reason {
	case decision.UnknownRight:
		return service.Wrong("right", "there is no right %q", q.Right)
	case decision.UnknownPoint:
		return service.Wrong("point", "the device has no point %q", q.Point)
	}
	v.out.Total, v.out.Totals = total, wording.Totals(totals)
	return nil
}

func (v *reachView) end(q ReachQuery) {
	if n := len(v.out.Items); n == q.Limit && n > 0 {
		v.out.Next = v.place.after(v.out.Items[n-1].ID)
	}
}

// rights tells each right that is possible, and the shortest way to the nearest of them; others where theirs is another.
func (v *reachView) rights(item *wire.Reached, rights []survey.Possibility, q decision.Question) {
	item.Rights = []wire.PossibleRight{}
	best := -1
	for i, x := range rights {
		q.Right, q.At, q.Context = x.Right, x.First(), x.Given.In(v.in.Context)
		a := v.explain(q, x.Given)
		r := v.words.Possible(v.st.Policy, x, v.in.At, a.Until, a.Because[0].Times)
		r.Through = v.through(a.Because[0])
		item.Rights = append(item.Rights, r)
		if best < 0 || x.Degree > rights[best].Degree || x.Degree == rights[best].Degree && x.Right == policy.Control {
			best = i
		}
	}
	if best < 0 {
		return
	}
	item.Through = item.Rights[best].Through
	for i := range item.Rights {
		if slices.Equal(item.Rights[i].Through, item.Through) {
			item.Rights[i].Through = nil
		}
	}
}

// explain says why; of somebody who is invited, as if they had come in.
func (v *reachView) explain(q decision.Question, given *survey.Given) decision.Answer {
	if given != nil && given.ComesIn {
		if v.came == nil || v.cameUser != q.User {
			v.came, v.cameUser = came(v.st, q.User), q.User
		}
		return v.came.Explain(q)
	}
	if v.group != "" {
		return v.st.Compiled.ExplainGroup(v.group, q)
	}
	return v.st.Compiled.Explain(q)
}

// came is the policy of a state as if somebody who is invited had come in.
func came(st *service.State, user policy.UserID) *decision.Compiled {
	u, ok := policy.Find[*policy.User](st.Policy, string(user))
	if !ok {
		return st.Compiled
	}
	active := *u
	active.Status = policy.Active
	next, done, err := st.Policy.Apply([]policy.Change{{Op: policy.Put, Type: policy.Users, ID: u.Key(), Record: &active}})
	if err != nil {
		return st.Compiled // cannot be: nothing else of the record is another
	}
	return st.Compiled.Next(next, done)
}

func (v *reachView) through(t decision.Trail) []wire.Ref {
	var out []wire.Ref
	for _, id := range t.Membership.Groups {
		out = append(out, wire.Ref{Type: "user_groups", ID: string(id), Name: v.name(policy.UserGroups, string(id))})
	}
	return append(out, wire.Ref{Type: "grants", ID: string(t.Grant.ID), Name: t.Grant.Title()})
}

func (v *reachView) name(t policy.Type, id string) string { return v.st.Policy.Title(t, id) }

// Seen shows the service as a user would meet it. It is recorded, unless the user asks about themself.
func (s Service) Seen(ctx context.Context, c service.Caller, id string, q ReachQuery) (wire.Seen, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Ask, policy.UserID(id)); err != nil {
		return wire.Seen{}, err
	}
	if id != string(c.User) {
		if err := s.Permit(st, c, service.Read, ""); err != nil {
			return wire.Seen{}, err
		}
	}
	reach, err := s.reach(st, c, policy.Users.String(), id, q)
	if err != nil {
		return wire.Seen{}, err
	}
	out := wire.Seen{User: reach.Of, Reach: reach, Groups: []wire.Ref{}, Whom: []wire.Named{}}
	for _, g := range st.Compiled.Groups(policy.UserID(id), reach.At) {
		out.Groups = append(out.Groups, wire.Ref{Type: "user_groups", ID: string(g), Name: st.Policy.Title(policy.UserGroups, string(g))})
	}
	for m := range policy.Each[*policy.Mandate](st.Policy) {
		if m.Role == policy.Owner {
			for _, u := range m.To.Users {
				out.Whom = append(out.Whom, wire.Named{ID: string(u), Name: st.Policy.Title(policy.Users, string(u))})
			}
		}
	}
	u, _ := policy.Find[*policy.User](st.Policy, id)
	out.Text = wording.Accepted(c.Language).Seen(u, out)
	if id != string(c.User) {
		err = s.Looked(c, audit.Look, id, "")
	}
	return out, err
}

// Looks lists who has looked at the service as another user sees it, newest first.
func (s Service) Looks(ctx context.Context, c service.Caller) ([]wire.Look, error) {
	if err := s.Permit(s.State(), c, service.Whole, ""); err != nil {
		return nil, err
	}
	found, err := s.Record().Search(ctx, audit.Filter{Kinds: []audit.Kind{audit.Look}}, MaxPage)
	out := []wire.Look{}
	for _, l := range found.Entries {
		out = append(out, wire.Look{At: l.At, By: l.By, User: l.User})
	}
	return out, err
}

// Uses lists the lines of grants that make use of a record.
func (s Service) Uses(c service.Caller, typeName, id string, q ReachQuery) ([]wire.Use, error) {
	r, err := s.Get(c, typeName, id)
	if err != nil {
		return nil, err
	}
	st := s.State()
	in, err := s.circumstances(st, q.At, st.Policy.Settings().Zone, q.Context, q.Degrees)
	if err != nil {
		return nil, err
	}
	words, v := wording.Accepted(c.Language), s.View(st, c)
	in.Sites = v.Sites()
	out := []wire.Use{}
	for _, u := range survey.Of(st.Compiled).Uses(r.Type(), id, in) {
		if !v.Sees(u.Grant) {
			continue
		}
		use := wire.Use{Grant: wire.Named{ID: string(u.Grant.ID), Name: u.Grant.Title()}, Line: u.Line, Effect: string(u.Grant.Effect), Users: wording.Totals(u.Users), Devices: u.Devices, Rights: []string{}}
		if u.Degree != survey.Impossible {
			first := u.First()
			use.Degree, use.Until, use.Circumstances, use.Text = u.Degree.String(), &first, wording.Given(u.Given), words.Circumstances(st.Policy, u.Given, nil)
		}
		for _, right := range u.Rights {
			use.Rights = append(use.Rights, st.Policy.Title(policy.Rights, string(right)))
		}
		out = append(out, use)
	}
	return out, nil
}

// Matrix tells the rights of rows in columns.
func (s Service) Matrix(c service.Caller, q wire.MatrixQuestion) (wire.Matrix, error) {
	st := s.State()
	zone := st.Policy.Settings().Zone
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return wire.Matrix{}, err
	}
	in, err := s.circumstances(st, q.At, zone, q.Context, q.Degree)
	if err != nil {
		return wire.Matrix{}, err
	}
	out := wire.Matrix{At: in.At, Zone: zone, Revision: st.Revision.Number}
	if out.Rows, out.RowsOf, err = s.axis(c, st, q.Rows, "rows", policy.Users, policy.UserGroups); err != nil {
		return out, err
	}
	if out.Columns, out.ColsOf, err = s.axis(c, st, q.Columns, "columns", policy.Devices, policy.DeviceGroups, policy.Sites); err != nil {
		return out, err
	}
	var rows []survey.Who
	for _, r := range out.Rows {
		if q.Rows.Type == policy.Users.String() {
			rows = append(rows, survey.Who{User: policy.UserID(r.ID)})
		} else {
			rows = append(rows, survey.Who{Group: policy.UserGroupID(r.ID)})
		}
	}
	var columns []survey.What
	for _, r := range out.Columns {
		switch q.Columns.Type {
		case policy.Devices.String():
			columns = append(columns, survey.What{Device: policy.DeviceID(r.ID)})
		case policy.Sites.String():
			columns = append(columns, survey.What{Site: policy.SiteID(r.ID)})
		default:
			columns = append(columns, survey.What{Group: policy.DeviceGroupID(r.ID)})
		}
	}
	m := survey.Of(st.Compiled).Matrix(rows, columns, in)
	out.Cells, out.Kinds = m.Cells, []wire.Cell{}
	if out.Cells == nil {
		out.Cells = [][]int32{}
	}
	for _, k := range m.Kinds {
		out.Kinds = append(out.Kinds, wire.Cell{Rights: texts(k.Rights), Some: texts(k.Some), Later: texts(k.Later), If: texts(k.If)})
	}
	return out, nil
}

func texts[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = string(v)
	}
	return out
}

// axis finds the rows or columns of a matrix.
func (s Service) axis(c service.Caller, st *service.State, a wire.Axis, field string, types ...policy.Type) ([]wire.Named, int, error) {
	t, ok := policy.TypeNamed(a.Type)
	if !ok || !slices.Contains(types, t) {
		return nil, 0, service.Wrong(field+".type", "%q cannot be %s: write %v", a.Type, field, types)
	}
	records, v := []policy.Record{}, s.View(st, c)
	if len(a.IDs) > 0 {
		if len(a.IDs) > MaxPage {
			return nil, 0, service.Wrong(field+".ids", "names %d: a matrix has up to %d", len(a.IDs), MaxPage)
		}
		for i, id := range a.IDs {
			r, ok := v.Get(t, id)
			if !ok {
				return nil, 0, service.Wrong(fmt.Sprintf("%s.ids[%d]", field, i), "there is no %s %q", t.Noun(), id)
			}
			records = append(records, r)
		}
		return heads(st.Policy, records), len(records), nil
	}
	page, err := s.List(c, a.Type, Query{Limit: MaxPage, Search: a.Q, Filter: a.Filter, Sort: "name"})
	if err != nil {
		return nil, 0, err
	}
	return heads(st.Policy, page.Items), page.Total, nil
}

// heads name the rows or columns of a matrix. Of those that are called alike each says what it is in, or, in nothing, its id.
func heads(p *policy.Policy, records []policy.Record) []wire.Named {
	alike := map[string]int{}
	for _, r := range records {
		alike[r.Title()]++
	}
	out := []wire.Named{}
	for _, r := range records {
		name := r.Title()
		if alike[name] > 1 {
			name += " (" + cmp.Or(within(p, r), r.Key()) + ")"
		}
		out = append(out, wire.Named{ID: r.Key(), Name: name})
	}
	return out
}

// within names what a record lies in: a site or a group.
func within(p *policy.Policy, r policy.Record) string {
	t, id := policy.Sites, ""
	switch r := r.(type) {
	case *policy.Device:
		id = string(r.Site)
	case *policy.Site:
		id = string(r.Parent)
	case *policy.DeviceGroup:
		t, id = policy.DeviceGroups, string(r.Parent)
	}
	if id == "" {
		return ""
	}
	return p.Title(t, id)
}

// days lists the local days that a question is about: from a day, or from today, so many, or the usual number.
func (s Service) days(from, zone string, days, standard int) (*time.Location, []wire.Day, error) {
	loc, err := policy.LoadZone(zone)
	if err != nil {
		return nil, nil, service.Wrong("zone", "%v", err)
	}
	if days == 0 {
		days = standard
	}
	if days < 1 || days > 31 {
		return nil, nil, service.Wrong("days", "%d is out of range: 1 to 31 days", days)
	}
	first := s.Now().In(loc)
	if from != "" {
		if first, err = time.Parse(time.DateOnly, from); err != nil || first.Year() < 1 || first.Year() > 9990 {
			return nil, nil, service.Wrong("from", "%q is no day: write it as 2026-11-23", from)
		}
	}
	return loc, localDays(first, loc, days), nil
}

// localDays lists days by the clock of a zone from the date of first on, and where that clock changes. A date that the zone
// skips is no day.
func localDays(first time.Time, loc *time.Location, n int) []wire.Day {
	var out []wire.Day
	for i := 0; len(out) < n; i++ {
		date := time.Date(first.Year(), first.Month(), first.Day()+i, 0, 0, 0, 0, time.UTC)
		begin, end, ok := schedule.Day(policy.Date{Year: date.Year(), Month: date.Month(), Day: date.Day()}, loc)
		if !ok {
			continue
		}
		day := wire.Day{Date: date.Format(time.DateOnly), From: begin.UTC(), Until: end.UTC()}
		// A change at the very beginning of a day has put the clock forward over its midnight.
		if _, change := begin.Add(-time.Second).ZoneBounds(); !change.IsZero() && change.Before(end) {
			day.Change = &wire.ClockChange{At: change.UTC(), Before: offset(change.Add(-1)), After: offset(change.In(loc))}
		}
		out = append(out, day)
	}
	return out
}

// offset writes the offset of a local time from UTC, with its seconds where it has any.
func offset(t time.Time) string {
	if _, seconds := t.Zone(); seconds%60 != 0 {
		return t.Format("-07:00:00")
	}
	return t.Format("-07:00")
}

// Week tells how answers run over some days.
func (s Service) Week(c service.Caller, q wire.WeekQuestion) (wire.Week, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Ask, policy.UserID(q.User)); err != nil {
		return wire.Week{}, err
	}
	if (q.User == "") == (q.Group == "") {
		return wire.Week{}, service.Wrong("user", "give either a user or a group")
	}
	q.Context = ownContext(c, q.User, q.Context)
	ask, err := translate.Question(st.Policy, wire.Check{User: q.User, Right: q.Right, Device: q.Device, Context: q.Context}, s.Now())
	if err != nil {
		return wire.Week{}, err
	}
	zone := st.Policy.Settings().Zone
	_, hidden, err := s.alone(st, c, ask, q.Group)
	if err != nil {
		return wire.Week{}, err
	}
	if d, ok := policy.Find[*policy.Device](st.Policy, string(ask.Device)); ok && !hidden {
		zone = decision.SiteZone(st.Policy, d.Site)
	}
	_, days, err := s.days(q.From, zone, q.Days, 7)
	if err != nil {
		return wire.Week{}, err
	}
	out := wire.Week{Zone: zone, Days: days, Rights: []wire.WeekOfRight{}}
	ask.At = days[0].From
	end := days[len(days)-1].Until
	rights := []policy.RightID{policy.RightID(q.Right)}
	switch {
	case hidden && q.Right == "":
		rights = []policy.RightID{policy.View, policy.Control}
	case q.Right == "":
		rights = nil
		for r := range policy.Each[*policy.Right](st.Policy) {
			rights = append(rights, r.ID)
		}
	}
	for _, right := range rights {
		ask.Right = right
		if hidden {
			out.Rights = append(out.Rights, wire.WeekOfRight{Right: wire.Named{ID: string(right), Name: string(right)},
				Stretches: []wire.Stretch{{From: ask.At, Until: end, Reason: decision.NoGrant.String()}}})
			continue
		}
		list, reason := survey.Of(st.Compiled).Stretches(ask, end)
		if q.Group != "" {
			list, reason = survey.Of(st.Compiled).StretchesOfGroup(policy.UserGroupID(q.Group), ask, end)
		}
		if reason != decision.Granted {
			return out, service.Wrong(map[decision.Reason]string{decision.UnknownRight: "right", decision.UnknownUser: "user"}[reason], "is not known: %s", reason)
		}
		of := wire.WeekOfRight{Right: wire.Named{ID: string(right), Name: st.Policy.Title(policy.Rights, string(right))}}
		some := q.Right != "" || right == policy.View || right == policy.Control
		for _, x := range list {
			some = some || x.Allowed
			of.Stretches = append(of.Stretches, wire.Stretch{From: x.From, Until: x.Until, Allowed: x.Allowed, Reason: x.Reason.String()})
		}
		if some {
			out.Rights = append(out.Rights, of)
		}
	}
	return out, nil
}
