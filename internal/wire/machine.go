package wire

import "time"

// Machines are the machines on which the service runs.
type Machines struct {
	Alone bool      `json:"alone" description:"there is this machine and no other: it was started without the servers of a log"`
	Now   time.Time `json:"now"`
	List  []Machine `json:"list"`
}

// States of a machine.
const (
	MachineFine      = "fine"      // it has what the writer has
	MachineBehind    = "behind"    // it answers from an older revision
	MachineSilent    = "silent"    // nothing was heard of it for a while
	MachineUnknown   = "unknown"   // nobody has admitted it
	MachineForged    = "other_key" // it has another key than the one that was admitted
	MachineClock     = "clock"     // its clock has another time than that of the writer
	MachineUnstarted = "unstarted" // it was admitted, and has never said anything
)

// Machine is one machine on which the service runs, by its own word.
type Machine struct {
	Name     string     `json:"name"`
	State    string     `json:"state" enum:"fine,behind,silent,clock,unknown,other_key,unstarted" description:"fine: it answers from the last revision; behind: from an older one; silent: nothing was heard of it for a while; clock: its clock differs from that of the machine that writes, so that it decides as of another time; unknown: nobody has admitted it; other_key: it has another key than the one that was admitted; unstarted: it was admitted, and has not said anything yet"`
	Role     string     `json:"role,omitempty" enum:"writer,standby,follower,gate" description:"standby: it follows, and writes where the writer does not any more"`
	Version  string     `json:"version,omitempty" description:"of the program"`
	URL      string     `json:"url,omitempty" description:"where it answers"`
	Revision uint64     `json:"revision,omitempty" description:"from which it answers"`
	Behind   uint64     `json:"behind,omitempty" description:"how many revisions came since"`
	Said     *time.Time `json:"said,omitempty" description:"when it said so"`
	Since    *time.Time `json:"since,omitempty" description:"when it last knew that there was nothing newer"`
	Started  *time.Time `json:"started,omitempty"`
	Ahead    float64    `json:"clock_ahead,omitempty" description:"by how many seconds its clock was ahead of that of the machine that writes when it last heard it; less than 0: behind"`
	Asked    float64    `json:"asked" description:"questions a second, of late"`
	Waiting  uint64     `json:"waiting,omitempty" description:"entries of its record that have not come into this one yet"`
	Problem  string     `json:"problem,omitempty" description:"what it says is wrong with it, as what it has refused last of what came for it"`
	Refused  *time.Time `json:"problem_at,omitempty" description:"when that was; left out: it is so now"`
	Key      []byte     `json:"key,omitempty" description:"its public key (Ed25519)"`
	Admitted bool       `json:"admitted" description:"what it has recorded comes into this record"`
}

// AdmitMachine admits a machine by its key.
type AdmitMachine struct {
	Key string `json:"key" sentier:"required" description:"its public key, 44 characters, as it prints it when it starts"`
}

// Signed is something that a machine says, signed by it.
type Signed struct {
	Signed string `json:"signed" sentier:"required" description:"a JSON Web Signature (RFC 7515) in the compact form, with Ed25519"`
}
