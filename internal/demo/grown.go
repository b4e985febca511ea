package demo

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"sentier/internal/policy"
)

// The shape of the navigation when it has grown: every district has the same sites, device groups and crews, so that
// a person has four groups and a device some six targets, and 20,000 lines of grants lie between them.
const (
	districts       = 250
	poundsEach      = 4
	linesOfGroup    = 10
	linesOfGrant    = 5
	schedulesTotal  = 40
	inOneDivision   = 25
	oneInWithAnEnd  = 100 // people with a membership that ends
	oneInAwayOnDuty = 20  // people who stand by in a district next to their own
)

var (
	firstNames = strings.Fields("Ana Bram Clara Dario Elin Farid Greta Hugo Iris Jonas Kaya Liam Mara Noor Otto Petra Quinn Rosa Sami Tomas Uma Vera Wim Yara Zeno")
	lastNames  = strings.Fields("Alder Brook Carr Dale Elm Ford Glen Heath Isle Juniper Kell Lark Mere Nash Oxley Pike Quarry Reed Sand Thorn Underhill Vale Weir Yarrow")
	crews      = strings.Fields("keepers bridges water instruments early late night standby")
	grownKinds = strings.Fields("lock-gate sluice pump level-gauge siren towpath-light weather-mast lift-bridge")
	grownRoles = strings.Fields("lock-keeping bridge-watch water-control instrument-care look-only look-only look-only look-only")
)

// Grown is the navigation with as many more people and devices, in districts of their own: the same for the same
// numbers. It is what the figures in docs/performance.md are measured on.
func Grown(people, devices int) (*policy.Policy, error) { return GrownAt(people, devices, Written) }

// GrownAt is [Grown] as it is alive at an instant; see [At].
func GrownAt(people, devices int, at time.Time) (*policy.Policy, error) {
	p, err := At(at)
	if err != nil {
		return nil, err
	}
	g := &growth{records: p.Records(), random: rand.New(rand.NewPCG(7, 480))}
	g.schedules()
	for i := range districts {
		g.district(i)
	}
	g.devices(devices)
	g.people(people)
	return policy.FromRecords(g.records)
}

type growth struct {
	records *policy.Records
	random  *rand.Rand
	groups  []policy.UserGroup // eight a district, in the order of crews
	places  []policy.DeviceGroup
}

func (g *growth) schedules() {
	for i := range schedulesTotal {
		from := policy.Clock(15 * (i % 32))
		g.records.Schedules = append(g.records.Schedules, policy.Schedule{
			ID: scheduleID(i), Name: fmt.Sprintf("District hours %02d", i),
			Windows: []policy.Window{
				{Days: []policy.Weekday{1, 2, 3, 4, 5}, From: from, To: from + 10*60},
				{Days: []policy.Weekday{0, 6}, From: from + 60, To: from + 6*60},
			},
		})
	}
}

func scheduleID(i int) policy.ScheduleID {
	return policy.ScheduleID(fmt.Sprintf("district-hours-%02d", i))
}
func divisionID(district int) policy.SiteID {
	return policy.SiteID(fmt.Sprintf("division-%02d", district/inOneDivision))
}
func districtID(i int) policy.SiteID { return policy.SiteID(fmt.Sprintf("district-%03d", i)) }
func poundID(i, n int) policy.SiteID {
	return policy.SiteID(fmt.Sprintf("district-%03d-pound-%d", i, n))
}
func crewID(i, n int) policy.UserGroupID {
	return policy.UserGroupID(fmt.Sprintf("district-%03d-%s", i, crews[n]))
}
func gearID(i, n int) policy.DeviceGroupID {
	return policy.DeviceGroupID(fmt.Sprintf("district-%03d-gear-%d", i, n))
}

// district adds a district's sites, device groups, crews and grants.
func (g *growth) district(i int) {
	r := g.records
	if i%inOneDivision == 0 {
		r.Sites = append(r.Sites, policy.Site{ID: divisionID(i), Name: fmt.Sprintf("Division %02d", i/inOneDivision)})
	}
	r.Sites = append(r.Sites, policy.Site{ID: districtID(i), Name: fmt.Sprintf("District %03d", i), Parent: divisionID(i)})
	for n := range poundsEach {
		r.Sites = append(r.Sites, policy.Site{ID: poundID(i, n), Name: fmt.Sprintf("Pound %d", n), Parent: districtID(i)})
	}
	for n := range poundsEach {
		g.places = append(g.places, policy.DeviceGroup{ID: gearID(i, n), Name: fmt.Sprintf("District %03d gear %d", i, n)})
	}
	for n, crew := range crews {
		g.groups = append(g.groups, policy.UserGroup{ID: crewID(i, n), Name: fmt.Sprintf("District %03d %s", i, crew)})
		g.grants(i, n)
	}
}

// grants gives a crew ten lines on its district: sites and gear in turn, each at hours of its own.
func (g *growth) grants(i, n int) {
	for from := 0; from < linesOfGroup; from += linesOfGrant {
		grant := policy.Grant{
			ID:   policy.GrantID(fmt.Sprintf("%s-%d", crewID(i, n), from/linesOfGrant)),
			Name: fmt.Sprintf("District %03d %s, part %d", i, crews[n], from/linesOfGrant+1),
			To:   policy.To{Groups: []policy.UserGroupID{crewID(i, n)}},
		}
		for k := from; k < from+linesOfGrant; k++ {
			line := policy.Line{Roles: []policy.RoleID{policy.RoleID(grownRoles[(n+k)%len(grownRoles)])}, When: []policy.ScheduleID{scheduleID((i + n + k) % schedulesTotal)}}
			switch k % 3 {
			case 0:
				line.On.DeviceGroups = []policy.DeviceGroupID{gearID(i, (n+k)%poundsEach)}
			case 1:
				line.On.Sites = []policy.SiteID{poundID(i, (n+k)%poundsEach)}
			default:
				line.On.Sites = []policy.SiteID{districtID(i)}
				if k == linesOfGroup-2 {
					line.On.Sites, line.Depth = []policy.SiteID{poundID(i, n%poundsEach)}, policy.Here
				}
			}
			grant.Lines = append(grant.Lines, line)
		}
		g.records.Grants = append(g.records.Grants, grant)
	}
}

// devices spreads devices over the pounds; each is in two groups of gear.
func (g *growth) devices(n int) {
	for i := range n {
		d := g.random.IntN(districts)
		kind := grownKinds[g.random.IntN(len(grownKinds))]
		id := policy.DeviceID(fmt.Sprintf("%s-%07d", kind, i))
		pound := g.random.IntN(poundsEach)
		g.records.Devices = append(g.records.Devices, policy.Device{
			ID: id, Name: fmt.Sprintf("%s %07d", strings.ReplaceAll(kind, "-", " "), i), Kind: policy.KindID(kind), Site: poundID(d, pound),
		})
		first := g.random.IntN(poundsEach)
		for k := range 2 {
			into := &g.places[d*poundsEach+(first+k)%poundsEach]
			into.Devices = append(into.Devices, id)
		}
	}
	g.records.DeviceGroups = append(g.records.DeviceGroups, g.places...)
}

// people gives each person a trade, a shift and a stand-by duty in a district, and a second trade.
func (g *growth) people(n int) {
	for i := range n {
		first, last := firstNames[g.random.IntN(len(firstNames))], lastNames[g.random.IntN(len(lastNames))]
		id := policy.UserID(fmt.Sprintf("%s.%s.%07d", strings.ToLower(first), strings.ToLower(last), i))
		g.records.Users = append(g.records.Users, policy.User{ID: id, Name: first + " " + last, Email: string(id) + "@larkmere.example"})
		home := g.random.IntN(districts)
		away := home
		if g.random.IntN(oneInAwayOnDuty) == 0 {
			away = (home + 1) % districts
		}
		trade := g.random.IntN(4)
		for k, in := range []int{home*8 + trade, home*8 + (trade+1)%4, home*8 + 4 + g.random.IntN(3), away*8 + 7} {
			m := policy.Member{User: id}
			if k == 3 && g.random.IntN(oneInWithAnEnd) == 0 {
				m.Until = time.Date(2026, 12, 1+g.random.IntN(300), 0, 0, 0, 0, time.UTC)
			}
			g.groups[in].Members = append(g.groups[in].Members, m)
		}
	}
	g.records.UserGroups = append(g.records.UserGroups, g.groups...)
}
