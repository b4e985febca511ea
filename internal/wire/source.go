package wire

import (
	"time"

	"sentier/internal/policy"
	"sentier/internal/source"
)

// NewSource is a source of users and groups, as it is set up.
type NewSource struct {
	Name string `json:"name" sentier:"required" description:"by which people know it; its id is made of it"`
	Kind string `json:"kind" sentier:"required" enum:"directory,scim,scim_read,sign_on,calendar,inventory" description:"directory: people and groups are read by LDAP; calendar: closures and special days are read from iCalendar; inventory: devices and sites are read from a list; scim: they are brought by SCIM 2.0, at /scim/v2, with a token of the source; scim_read: they are read from another service by SCIM 2.0; sign_on: people sign in at a provider of OpenID Connect"`

	Directory *source.Directory    `json:"directory,omitempty" description:"of a directory: where it is, and how it keeps people and groups"`
	SignOn    *source.SignOn       `json:"sign_on,omitempty" description:"of a provider of sign-on: where it is, and what is taken of what it says"`
	Calendar  *source.CalendarFeed `json:"calendar,omitempty" description:"of a calendar: where it is, and how its events become days"`
	SCIM      *source.Feed         `json:"scim,omitempty" description:"of another service that speaks SCIM: its address up to /scim/v2, and the token as whose bearer it is read"`
	Inventory *source.Inventory    `json:"inventory,omitempty" description:"of an inventory: where the list is, and how it is written"`
	Bring     source.Intake        `json:"bring,omitzero" description:"what comes of what it holds"`
	Every     int                  `json:"every,omitempty" description:"after how many minutes it is read again; 0: only when somebody asks for it"`
	Paused    bool                 `json:"paused,omitempty" description:"it is not read by itself, for the time being"`
	Version   uint64               `json:"version,omitempty" description:"when it is changed: that which was looked at"`
}

// Source is a source with its state.
type Source struct {
	ID string `json:"id"`
	NewSource
	Author   Named       `json:"author" description:"as whom it is read by itself, if they still may"`
	Next     *time.Time  `json:"next,omitempty" description:"when it is read next"`
	Good     *time.Time  `json:"good,omitempty" description:"when it was last read in full; what it says is as old"`
	Users    int         `json:"users" description:"who come from it"`
	Groups   int         `json:"groups" description:"user groups that were made by it"`
	Members  int         `json:"members" description:"memberships that it has brought"`
	Devices  int         `json:"devices" description:"that come from it"`
	Sites    int         `json:"sites" description:"that come from it"`
	Vanished []Vanished  `json:"vanished,omitempty" description:"devices and sites that are no longer in its list: they stay here until somebody removes them"`
	Keeps    []Named     `json:"keeps,omitempty" description:"calendars of ours whose days it keeps"`
	Content  *time.Time  `json:"content,omitempty" description:"when that was brought which is read, where it has no address"`
	Last     *SourceRun  `json:"last,omitempty" description:"what became of the last reading"`
	Runs     []SourceRun `json:"runs,omitempty" description:"of the last readings, newest first; of one source alone"`
}

// Vanished is a device or a site that is no longer in the list that it came from.
type Vanished struct {
	Type string `json:"type" enum:"devices,sites"`
	Named
	Outside string `json:"outside" description:"its id there"`
}

// SourceRun is what became of one reading of a source.
type SourceRun struct {
	Number   uint64          `json:"number"`
	At       time.Time       `json:"at"`
	Took     float64         `json:"took" description:"seconds"`
	By       *Named          `json:"by,omitempty" description:"who had it read; left out: the clock"`
	Outcome  string          `json:"outcome" enum:"done,same,held,failed" description:"held: somebody has to look at it before it counts"`
	Revision uint64          `json:"revision,omitempty" description:"that it made"`
	Why      string          `json:"why,omitempty" description:"why it was held, or failed"`
	Counts   SourceCounts    `json:"counts"`
	Problems []SourceProblem `json:"problems" description:"the first of what could not be done for single people and groups"`
	More     int             `json:"more,omitempty" description:"how many other problems there are"`
	Missing  []SourceMatch   `json:"missing" description:"groups that are mapped, and are not there"`
}

// SourceCounts are what a reading comes to.
type SourceCounts struct {
	People  int `json:"people" description:"who come"`
	New     int `json:"new"`
	Changed int `json:"changed"`
	Back    int `json:"back" description:"who had gone, and are there again"`
	Gone    int `json:"gone"`
	Joined  int `json:"joined" description:"memberships that come"`
	Left    int `json:"left" description:"memberships that go"`

	NewDays  int `json:"new_days" description:"of calendars, that come"`
	GoneDays int `json:"gone_days" description:"of calendars, that go"`

	Things        int `json:"things" description:"devices and sites that are in the list"`
	NewThings     int `json:"new_things"`
	ChangedThings int `json:"changed_things"`
	GoneThings    int `json:"gone_things" description:"that are in the list no more: they stay here"`
}

// SourceProblem is what could not be done for one thing of a source.
type SourceProblem struct {
	Place string `json:"place" description:"where it stands there"`
	Text  string `json:"text"`
}

// SourceMatch is a group of a source, and the group of ours that it feeds.
type SourceMatch struct {
	Outside  string `json:"outside"`
	Place    string `json:"place,omitempty"`
	Group    *Named `json:"group,omitempty" description:"ours; left out: nothing maps it"`
	Calendar *Named `json:"calendar,omitempty" description:"of events: the calendar of ours that they give days"`
	Rule     bool   `json:"rule,omitempty" description:"by a rule"`
	Make     bool   `json:"make,omitempty" description:"the rule makes it"`
	Found    bool   `json:"found"`
	Members  int    `json:"members"`
	Text     string `json:"text,omitempty" description:"why it feeds nothing, and what was probably meant"`
	Near     string `json:"near,omitempty" description:"the group there that was probably meant"`
}

// SourceLook is what a reading would do, before it counts.
type SourceLook struct {
	At        time.Time       `json:"at" description:"when the source was read for it"`
	Digest    string          `json:"digest" description:"of what it would change: give it with the reading, and nothing else counts"`
	Counts    SourceCounts    `json:"counts"`
	Held      string          `json:"held,omitempty" description:"why it does not count by itself, but when somebody agrees who has looked at it"`
	Calendars []SourceDays    `json:"calendars,omitempty" description:"of a calendar: the days as they would be"`
	Matched   []SourceMatch   `json:"matched" description:"the mapping: what does not match comes first"`
	Loose     []SourceMatch   `json:"loose" description:"groups of the source that nothing maps"`
	Problems  []SourceProblem `json:"problems"`
	More      int             `json:"more,omitempty" description:"how many other problems there are"`
	Would     Saved           `json:"would" description:"what it would change, and who would gain and lose what"`
}

// SourceDays are the days of one of our calendars as a source would have them.
type SourceDays struct {
	Calendar Named                `json:"calendar"`
	Events   int                  `json:"events" description:"that give it days"`
	Days     []policy.CalendarDay `json:"days" description:"in order, of the next 400 days and the month before"`
	Comes    []policy.Date        `json:"comes" description:"days that were none before"`
	Goes     []policy.CalendarDay `json:"goes" description:"days that would be none any more"`
}

// BroughtContent is that something was brought to a source.
type BroughtContent struct {
	Bytes int `json:"bytes"`
}

// SourceTest is whether a source can be read.
type SourceTest struct {
	OK       bool            `json:"ok"`
	Why      string          `json:"why,omitempty" description:"what stands in the way"`
	Took     float64         `json:"took" description:"seconds"`
	People   int             `json:"people"`
	Groups   int             `json:"groups"`
	Things   int             `json:"things" description:"devices and sites of a list"`
	Events   int             `json:"events" description:"of a calendar, in the next 400 days"`
	Matched  []SourceMatch   `json:"matched"`
	Loose    []SourceMatch   `json:"loose"`
	Problems []SourceProblem `json:"problems"`
	More     int             `json:"more,omitempty"`
}

// SourceFound is who and what was found at a source by some letters.
type SourceFound struct {
	At     time.Time      `json:"at" description:"when the source was read for it"`
	People []SourcePerson `json:"people"`
	Groups []SourceGroup  `json:"groups"`
}

// SourcePerson is somebody as a source knows them.
type SourcePerson struct {
	Outside string `json:"outside" description:"the id there"`
	Place   string `json:"place"`
	ID      string `json:"id"`
	Name    string `json:"name"`
	Email   string `json:"email,omitempty"`
	User    *Named `json:"user,omitempty" description:"who they are here"`
}

// SourceGroup is a group as a source knows it.
type SourceGroup struct {
	Outside string         `json:"outside"`
	Place   string         `json:"place"`
	Name    string         `json:"name"`
	Count   int            `json:"count" description:"of the people in it, those in groups within it among them"`
	Members []SourcePerson `json:"members" description:"the first of them"`
}

// ReadSource is how a source is read.
type ReadSource struct {
	Digest   string   `json:"digest,omitempty" description:"of what was looked at: where it would be something else, nothing is done"`
	Accept   bool     `json:"accept,omitempty" description:"more may go at once than the settings let; with a digest and a reason"`
	Override []string `json:"override,omitempty" description:"ids of expectations in spite of which it is done; with a reason"`
	Reason   string   `json:"reason,omitempty" description:"for the record"`
}

// LinkSource says that somebody of a source is a user who was here before.
type LinkSource struct {
	Outside string `json:"outside" sentier:"required" description:"the id there"`
	User    string `json:"user,omitempty" description:"id of the user; empty: the link is taken back"`
}

// Origin is from where a record comes.
type Origin struct {
	ID      string   `json:"id" description:"of the record"`
	Source  Named    `json:"source"`
	Outside string   `json:"outside,omitempty" description:"its id there"`
	Place   string   `json:"place,omitempty" description:"where it stands there"`
	Fields  []string `json:"fields" description:"what the source keeps of it: that is changed there"`
	Gone    bool     `json:"gone,omitempty" description:"it is there no more"`
	Members []string `json:"members,omitempty" description:"of a user group: ids of the users whose memberships come from the source"`
}

// NewSourceToken is a token that a source is to be given.
type NewSourceToken struct {
	Name     string   `json:"name,omitempty" description:"what it is for; left out: the name of the source"`
	Days     int      `json:"days,omitempty" description:"for how long; left out: 90"`
	Networks []string `json:"networks,omitempty" description:"that it is good from; left out: any"`
}

// SignOnProvider is a provider at which people may sign in.
type SignOnProvider struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}
