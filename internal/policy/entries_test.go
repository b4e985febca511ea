package policy_test

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
)

// FuzzDiff holds the walk over two sorted lists against sets.
func FuzzDiff(f *testing.F) {
	f.Add("abc", "acd")
	f.Add("", "xyz")
	f.Add("aaaabbb", "bbbb")
	f.Fuzz(func(t *testing.T, a, b string) {
		list := func(s string) []rune {
			out := []rune(s)
			slices.Sort(out)
			return slices.Compact(out)
		}
		before, after := list(a), list(b)
		var gone, come []rune
		policy.Diff(before, after, cmp.Compare[rune], func(r rune) { gone = append(gone, r) }, func(r rune) { come = append(come, r) })
		without := func(list, of []rune) []rune {
			return slices.DeleteFunc(slices.Clone(list), func(r rune) bool { return slices.Contains(of, r) })
		}
		if !slices.Equal(gone, without(before, after)) || !slices.Equal(come, without(after, before)) {
			t.Errorf("%q to %q: %q went and %q came", before, after, gone, come)
		}
	})
}

// TestEntriesAreCheckedByThemselves: adding to a list of thousands looks at what is added, and at all of it where more changes.
func TestEntriesAreCheckedByThemselves(t *testing.T) {
	p := base(t)
	add := func(user policy.UserID) policy.Change {
		return policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: "crew", List: "members", Entry: policy.Entry{Value: string(user)}}
	}
	for name, x := range map[string]struct {
		changes []policy.Change
		fault   string
	}{
		"one who is there":              {[]policy.Change{add("ben")}, ""},
		"one who is not there":          {[]policy.Change{add("bem")}, `did you mean "ben"?`},
		"one who is added along":        {[]policy.Change{add("new"), put(&policy.User{ID: "new"})}, ""},
		"one who is removed along":      {[]policy.Change{add("ben"), remove(policy.Users, "ben")}, `there is no user "ben"`},
		"one while another is removed":  {[]policy.Change{add("ben"), remove(policy.Users, "ana")}, `there is no user "ana"`},
		"one to a group that is put":    {[]policy.Change{put(&policy.UserGroup{ID: "crew", Name: "Crew", Members: []policy.Member{{User: "gone"}}}), add("ben")}, "gone"},
		"a device that is not there":    {[]policy.Change{put(&policy.DeviceGroup{ID: "gear", Name: "Gear"}), {Op: policy.Add, Type: policy.DeviceGroups, ID: "gear", List: "devices", Entry: policy.Entry{Value: "gate-2"}}}, `"gate-1"`},
		"an entry of no list":           {[]policy.Change{{Op: policy.Add, Type: policy.UserGroups, ID: "crew", List: "friends", Entry: policy.Entry{Value: "ben"}}}, "entry by entry"},
		"dropping who is not in it":     {[]policy.Change{{Op: policy.Drop, Type: policy.UserGroups, ID: "crew", List: "members", Entry: policy.Entry{Value: "ben"}}}, ""},
		"an end before the beginning":   {[]policy.Change{{Op: policy.Add, Type: policy.UserGroups, ID: "crew", List: "members", Entry: policy.Entry{Value: "ben", From: oneDay, Until: oneDay}}}, "an end comes after"},
		"to a group that is not there":  {[]policy.Change{{Op: policy.Add, Type: policy.UserGroups, ID: "crews", List: "members", Entry: policy.Entry{Value: "ben"}}}, `did you mean "crew"?`},
		"a tag with a space at its end": {[]policy.Change{{Op: policy.Add, Type: policy.Devices, ID: "gate-1", List: "tags", Entry: policy.Entry{Value: "wet "}}}, "without spaces"},
	} {
		next, _, err := p.Apply(x.changes)
		switch {
		case x.fault == "" && err != nil:
			t.Errorf("%s: %v", name, err)
		case x.fault != "" && (err == nil || !strings.Contains(err.Error(), x.fault)):
			t.Errorf("%s: %v, want %q", name, err, x.fault)
		case err == nil && next == nil:
			t.Errorf("%s: neither a policy nor an error", name)
		}
	}
}

// TestManyChangesAreCheckedLikeFew makes so many changes that their checks go side by side, with faults of every check.
func TestManyChangesAreCheckedLikeFew(t *testing.T) {
	var r policy.Records
	for i := range 12_000 {
		r.Users = append(r.Users, policy.User{ID: policy.UserID(fmt.Sprintf("user-%05d", i)), Email: fmt.Sprintf("%05d@larkmere.example", i)})
	}
	if _, err := policy.FromRecords(&r); err != nil {
		t.Fatal(err)
	}
	r.Users[11_000].Email = r.Users[7].Email
	r.UserGroups = []policy.UserGroup{
		{ID: "a", Name: "One", Includes: []policy.UserGroupID{"b"}},
		{ID: "b", Name: "one ", Includes: []policy.UserGroupID{"a"}, Members: []policy.Member{{User: "user-99999"}}},
	}
	r.Users = append(r.Users, policy.User{ID: "user-00003"}, policy.User{ID: "User"})
	_, err := policy.FromRecords(&r)
	if err == nil {
		t.Fatal("there are no faults")
	}
	for _, want := range []string{"is taken by", "closes a circle", `there is no user "user-99999"`, "is there twice", "small letters"} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q is not among the faults:\n%v", want, err)
		}
	}
}

var oneDay = time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
