package acceptance

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/go-ldap/ldap/v3"

	"sentier/internal/wire"
)

// directory is an LDAP server of others, on this machine, that is kept in a folder of its own.
type directory struct {
	t       *testing.T
	folder  string
	url     string // with StartTLS
	ca      string // file
	pool    *x509.CertPool
	process *exec.Cmd
}

const (
	directoryBase   = "dc=larkmere,dc=example"
	directoryAdmin  = "cn=admin," + directoryBase
	directoryReader = "cn=reader," + directoryBase
	directorySecret = "reads-and-no-more"
)

// newDirectory starts a directory with some entries.
func newDirectory(t *testing.T, ldif string) *directory {
	t.Helper()
	if _, err := os.Stat("/usr/sbin/slapd"); err != nil {
		t.Fatal("there is no slapd: make test-tools installs it")
	}
	d := &directory{t: t, folder: t.TempDir()}
	cert, key, pool := certificate(t, d.folder)
	d.ca, d.pool = cert, pool
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	d.url = "ldap://" + l.Addr().String()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(d.folder, "db"), 0o700); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(d.folder, "slapd.conf"), `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
TLSCertificateFile `+cert+`
TLSCertificateKeyFile `+key+`
sizelimit unlimited
database mdb
suffix "`+directoryBase+`"
rootdn "`+directoryAdmin+`"
rootpw admin-of-the-tests
directory `+d.folder+`/db
maxsize 1073741824
dbnosync
index objectClass eq
index entryUUID,uid,cn,member eq
limits dn.exact="`+directoryReader+`" size.soft=unlimited size.hard=unlimited size.pr=1000
access to attrs=userPassword by anonymous auth by self read by * none
access to * by dn.exact="`+directoryReader+`" read by anonymous auth by * none
`)
	base := `dn: ` + directoryBase + `
objectClass: dcObject
objectClass: organization
o: Larkmere
dc: larkmere

dn: ou=people,` + directoryBase + `
objectClass: organizationalUnit
ou: people

dn: ou=groups,` + directoryBase + `
objectClass: organizationalUnit
ou: groups

dn: ` + directoryReader + `
objectClass: organizationalRole
objectClass: simpleSecurityObject
cn: reader
userPassword: ` + directorySecret + `

`
	add := exec.Command("/usr/sbin/slapadd", "-q", "-f", filepath.Join(d.folder, "slapd.conf"))
	add.Stdin = strings.NewReader(base + ldif)
	if out, err := add.CombinedOutput(); err != nil {
		t.Fatalf("slapadd: %v: %s", err, out)
	}
	d.start()
	t.Cleanup(d.kill)
	return d
}

func (d *directory) start() {
	d.t.Helper()
	d.process = exec.Command("/usr/sbin/slapd", "-d", "0", "-f", filepath.Join(d.folder, "slapd.conf"), "-h", d.url+"/")
	var said bytes.Buffer
	d.process.Stdout, d.process.Stderr = &said, &said
	if err := d.process.Start(); err != nil {
		d.t.Fatal(err)
	}
	for range 200 {
		if c, err := net.Dial("tcp", strings.TrimPrefix(d.url, "ldap://")); err == nil {
			_ = c.Close()
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	d.t.Fatalf("slapd does not answer: %s", said.String())
}

func (d *directory) kill() {
	_ = d.process.Process.Kill() // it may be gone already
	_ = d.process.Wait()
}

// change does something to the entries, as whoever keeps them.
func (d *directory) change(do func(c *ldap.Conn) error) {
	d.t.Helper()
	c, err := ldap.DialURL(d.url)
	if err != nil {
		d.t.Fatal(err)
	}
	defer c.Close()
	if err := c.StartTLS(&tls.Config{RootCAs: d.pool, ServerName: "127.0.0.1"}); err != nil {
		d.t.Fatal(err)
	}
	if err := c.Bind(directoryAdmin, "admin-of-the-tests"); err != nil {
		d.t.Fatal(err)
	}
	if err := do(c); err != nil {
		d.t.Fatal(err)
	}
}

// member puts somebody into a group, or takes them out.
func (d *directory) member(group, uid string, in bool) {
	d.t.Helper()
	d.change(func(c *ldap.Conn) error {
		r := ldap.NewModifyRequest("cn="+group+",ou=groups,"+directoryBase, nil)
		at := []string{"uid=" + uid + ",ou=people," + directoryBase}
		if in {
			r.Add("member", at)
		} else {
			r.Delete("member", at)
		}
		return c.Modify(r)
	})
}

func personEntry(uid, name string) string {
	return fmt.Sprintf(`dn: uid=%[1]s,ou=people,%[3]s
objectClass: inetOrgPerson
uid: %[1]s
cn: %[2]s
sn: %[2]s
mail: %[1]s@larkmere.example
userPassword: the-password-of-%[1]s

`, uid, name, directoryBase)
}

func groupEntry(name string, members ...string) string {
	out := fmt.Sprintf("dn: cn=%[1]s,ou=groups,%[2]s\nobjectClass: groupOfNames\ncn: %[1]s\n", name, directoryBase)
	for _, m := range members {
		if !strings.Contains(m, "=") {
			m = "uid=" + m + ",ou=people," + directoryBase
		}
		out += "member: " + m + "\n"
	}
	return out + "\n"
}

// withDirectory is a service beside a directory, with the secret to read it in its place, and a clock that can be put forward.
func withDirectory(t *testing.T, ldif string) (*world, *directory, func(time.Duration)) {
	t.Helper()
	d := newDirectory(t, ldif)
	w, forward := shifted(t)
	w.secret("reader", directorySecret+"\n")
	return w, d, forward
}

// source sets a source up in the terminal.
func (w *world) source(d *directory, more ...string) {
	w.t.Helper()
	args := append([]string{"source", "add", "Larkmere directory", "--url", d.url, "--ca", d.ca, "--bind", directoryReader, "--secret", "reader",
		"--people", "ou=people," + directoryBase, "--groups", "ou=groups," + directoryBase}, more...)
	if code, out, errOut := w.run(args...); code != 0 {
		w.t.Fatalf("source add: %d %s %s", code, out, errOut)
	}
}

// does runs a command that has to end with a code and to say something.
func (w *world) does(want int, says string, args ...string) string {
	w.t.Helper()
	code, out, errOut := w.run(args...)
	if code != want || !strings.Contains(out+errOut, says) {
		w.t.Fatalf("sentier %s: %d, want %d and %q:\n%s%s", strings.Join(args, " "), code, want, says, out, errOut)
	}
	return out + errOut
}

// opens asks whether somebody may control the barriers of the mill bridge, which the bridge crew may at any hour.
func (w *world) opens(user string) wire.Answer {
	w.t.Helper()
	return get[wire.Answer](w, "POST", "/api/v1/check", fmt.Sprintf(`{"user":%q,"right":"control","device":"mill-bridge/barriers"}`, user))
}

// TestAnaComesFromTheDirectory: membership of the right group in the directory is enough, and its end ends it; what the directory keeps is changed there; the
// record has both, and a reading is taken back only where it is set so.
func TestAnaComesFromTheDirectory(t *testing.T) {
	t.Parallel()
	w, d, _ := withDirectory(t, personEntry("ana.lopes", "Ana Lopes")+personEntry("ben.rowe", "Ben Rowe")+groupEntry("bridge-crew", "ben.rowe")+groupEntry("office", "ana.lopes"))
	w.source(d, "--map", "Bridge Crew=bridge-crew")
	w.does(0, `there is no "Bridge Crew" there; "bridge-crew" has 1 members`, "source", "test", "larkmere-directory")
	w.does(0, "Nothing is other than it was", "source", "sync", "larkmere-directory")
	w.does(0, "", "source", "edit", "larkmere-directory", "--map", "bridge-crew=bridge-crew")
	w.does(0, "1 new", "source", "look", "larkmere-directory")
	if code, _, _ := w.run("user", "show", "ben.rowe"); code == 0 {
		t.Error("what was only looked at has counted")
	}
	w.does(0, "1 new", "source", "sync", "larkmere-directory")
	w.does(0, "Ben Rowe", "source", "find", "larkmere-directory", "bridge")

	d.member("bridge-crew", "ana.lopes", true)
	if a := w.opens("ana.lopes"); a.Allowed || a.Reason != "unknown_user" {
		t.Errorf("before the reading: %v %s", a.Allowed, a.Reason)
	}
	w.does(0, "1 new", "source", "sync", "larkmere-directory")
	a := w.opens("ana.lopes")
	if !a.Allowed || len(a.Because) == 0 {
		t.Fatalf("after the reading: %v %s", a.Allowed, a.Reason)
	}
	named := false
	for _, stop := range a.Because[0].Stops {
		named = named || stop.Type == "user_groups" && stop.ID == "bridge-crew" && stop.Source != nil && stop.Source.Name == "Larkmere directory" && strings.Contains(stop.Text, "Larkmere directory")
	}
	if !named {
		t.Errorf("the trail does not name the source: %+v", a.Because[0].Stops)
	}

	if found := get[wire.SourceFound](w, "GET", "/api/v1/sources/larkmere-directory/find?q=lopes", ""); len(found.People) != 1 || found.People[0].User == nil {
		t.Errorf("found: %+v", found)
	}
	src := get[wire.Source](w, "GET", "/api/v1/sources/larkmere-directory", "")
	set, err := json.Marshal(src.NewSource)
	if err != nil {
		t.Fatal(err)
	}
	if test := get[wire.SourceTest](w, "POST", "/api/v1/sources/test", string(set)); !test.OK || test.People != 2 {
		t.Errorf("tried: %+v", test)
	}
	get[wire.Source](w, "PUT", "/api/v1/sources/larkmere-directory", string(set))
	if status, _, _ := w.ask("PUT", "/api/v1/sources/larkmere-directory", w.token, string(set)); status != 409 {
		t.Errorf("an earlier version is put again: %d", status)
	}
	get[wire.Source](w, "POST", "/api/v1/sources/larkmere-directory/links", `{"outside":"nobody","user":"tomas.field"}`)

	// What the directory keeps is changed there, whatever the way; what is ours beside it is ours.
	kept := `the source "Larkmere directory" keeps`
	w.does(2, kept, "user", "edit", "ana.lopes", "--name", "Somebody Else")
	w.does(2, kept, "user", "remove", "ana.lopes", "--cascade")
	w.does(2, kept, "group", "drop-member", "bridge-crew", "ana.lopes")
	w.does(2, kept, "group", "remove", "bridge-crew", "--cascade")
	w.does(0, "", "user", "edit", "ana.lopes", "--user-note", "has the key of the hut")
	w.does(0, "", "group", "add-member", "lock-keepers-north", "ana.lopes")
	if status, _, text := w.ask("PATCH", "/api/v1/users/ana.lopes", w.token, `{"email":"x@larkmere.example"}`); status != 409 || !strings.Contains(text, "Larkmere directory") {
		t.Errorf("over HTTP: %d %s", status, text)
	}
	w.does(0, "From Larkmere directory, which keeps: name, email", "user", "show", "ana.lopes")
	w.does(0, "From Larkmere directory, which keeps: 2 memberships", "group", "show", "bridge-crew")
	if from := get[[]wire.Origin](w, "GET", "/api/v1/origins?type=users&ids=ana.lopes,tomas.field", ""); len(from) != 1 || from[0].ID != "ana.lopes" || from[0].Source.ID != "larkmere-directory" {
		t.Errorf("origins: %+v", from)
	}

	came := get[wire.Source](w, "GET", "/api/v1/sources/larkmere-directory", "").Runs[0].Revision
	w.does(2, "was read from the source", "history", "undo", fmt.Sprint(came))

	d.member("bridge-crew", "ana.lopes", false)
	w.does(0, "1 gone", "source", "sync", "larkmere-directory")
	if a := w.opens("ana.lopes"); a.Allowed || a.Reason != "user_suspended" {
		t.Errorf("taken out: %v %s", a.Allowed, a.Reason)
	}
	if out := w.does(0, "", "history", "list"); strings.Count(out, "Larkmere directory") < 3 {
		t.Errorf("the record does not have every reading:\n%s", out)
	}

	// Set so, a reading can be taken back until the next.
	w.does(0, "", "source", "edit", "larkmere-directory", "--undo", "until_next")
	d.member("bridge-crew", "ana.lopes", true)
	w.does(0, "1 back", "source", "sync", "larkmere-directory")
	came = get[wire.Source](w, "GET", "/api/v1/sources/larkmere-directory", "").Runs[0].Revision
	w.does(0, "", "history", "undo", fmt.Sprint(came))
	if w.opens("ana.lopes").Allowed {
		t.Error("the reading was taken back, and she may still")
	}
	w.does(0, "Revision", "source", "sync", "larkmere-directory")
	if !w.opens("ana.lopes").Allowed {
		t.Error("the next reading has not brought her again")
	}

	if status, _, text := w.ask("DELETE", "/api/v1/sources/larkmere-directory", w.token, ""); status != 204 {
		t.Errorf("taking the source away: %d %s", status, text)
	}
	w.does(0, "", "user", "edit", "ana.lopes", "--name", "Ana Lopes Reis")
}

// TestADirectoryThatFails: whatever is wrong with a directory, or with how it is reached, is told with its place, nothing is half done, and what it last said holds.
func TestADirectoryThatFails(t *testing.T) {
	t.Parallel()
	people, members := "", []string{}
	for i := range 20 {
		id := fmt.Sprintf("crew%02d", i)
		people, members = people+personEntry(id, "Crew "+id), append(members, id)
	}
	w, d, _ := withDirectory(t, people+groupEntry("bridge-crew", members...)+groupEntry("gates", "cn=gates,ou=groups,"+directoryBase, "crew00")+
		personEntry("nora.bell", "Nora Bell")+personEntry("ines.carvalho", "Somebody Else")+groupEntry("office", "nora.bell", "ines.carvalho"))
	w.source(d, "--map", "bridge-crew=bridge-crew", "--directory-sign-in")
	w.does(0, "20 new", "source", "sync", "larkmere-directory")
	crew := func() int {
		_, _, text := w.ask("GET", "/api/v1/user_groups/bridge-crew", w.token, "")
		return strings.Count(text, `"crew`)
	}
	before := crew()

	// As whom, over what and to whom it talks.
	secret := filepath.Join(w.owner.Store().Dir(), "secrets", "reader")
	if err := os.Chmod(secret, 0o644); err != nil {
		t.Fatal(err)
	}
	w.does(2, "can be read by others than the service: chmod 600", "source", "sync", "larkmere-directory")
	if err := os.WriteFile(secret, []byte("wrong"), 0o600); err != nil || os.Chmod(secret, 0o600) != nil {
		t.Fatal(err)
	}
	w.does(2, "does not let cn=reader", "source", "sync", "larkmere-directory")
	if err := os.WriteFile(secret, []byte(directorySecret), 0o600); err != nil {
		t.Fatal(err)
	}
	other, _, _ := certificate(t, t.TempDir())
	w.does(0, "", "source", "edit", "larkmere-directory", "--ca", other)
	w.does(2, "cannot be encrypted, and nothing was said over it", "source", "sync", "larkmere-directory")
	w.does(0, "", "source", "edit", "larkmere-directory", "--ca", d.ca, "--people-filter", "(objectClass=nothing)")

	// A broken search throws nobody out; whoever means it has looked, and says why.
	w.does(2, "20 of 20 people and 20 of 20 memberships", "source", "sync", "larkmere-directory")
	if crew() != before {
		t.Error("a search that finds nobody has thrown somebody out")
	}
	if said := texts(w.entries("kind=source&outcome=refused")); !strings.Contains(said, "20 of 20 people") || !strings.Contains(said, "cannot be encrypted") {
		t.Errorf("the record says\n%s", said)
	}
	look := get[wire.SourceLook](w, "POST", "/api/v1/sources/larkmere-directory/look", "")
	if look.Held == "" || look.Counts.Gone != 20 || look.Would.Impact == nil {
		t.Errorf("a look at it: %q %+v", look.Held, look.Counts)
	}
	for body, want := range map[string]int{
		`{"accept":true}`: 400, `{"accept":true,"digest":"` + look.Digest + `"}`: 400, `{"accept":true,"digest":"0","reason":"x"}`: 200, `{"digest":"` + look.Digest + `"}`: 200,
	} {
		if status, _, text := w.ask("POST", "/api/v1/sources/larkmere-directory/read", w.token, body); status != want || status == 200 && !strings.Contains(text, `"held"`) && !strings.Contains(text, `"failed"`) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	w.does(0, "20 gone", "source", "sync", "larkmere-directory", "--digest", look.Digest, "--accept", "--reason", "the crew was let go")
	w.does(0, "", "source", "edit", "larkmere-directory", "--people-filter", "(objectClass=inetOrgPerson)")
	w.does(0, "20 back", "source", "sync", "larkmere-directory")

	// People sign in with the directory's password, and with no other; nobody signs in with none.
	for password, want := range map[string]int{"the-password-of-crew03": 200, "the-password-of-crew04": 401, "": 400} {
		status, _, text := w.ask("POST", "/api/v1/session", "", fmt.Sprintf(`{"user":"crew03","password":%q}`, password))
		if status != want && !(password == "" && status == 401) {
			t.Errorf("the password %q: %d %s", password, status, text)
		}
	}
	// Whoever was here before is taken over by nobody of the same id.
	w.does(0, "", "source", "edit", "larkmere-directory", "--map", "bridge-crew=bridge-crew", "--map", "office=control-room", "--map", "gates=lock-keepers-north")
	if out := w.does(0, "1 new", "source", "sync", "larkmere-directory"); !strings.Contains(out, `there is a user "ines.carvalho" already`) || !strings.Contains(out, "gates is in itself") {
		t.Errorf("what could not be done for single people and groups is not told:\n%s", out)
	}
	if status, _, _ := w.ask("POST", "/api/v1/session", "", `{"user":"ines.carvalho","password":"the-password-of-ines.carvalho"}`); status != 401 {
		t.Errorf("somebody of the same id in the directory signs in as the owner: %d", status)
	}

	// An expectation that would break stops it.
	get[wire.Saved](w, "POST", "/api/v1/expectations", `{"id":"nora-never","name":"Nora never","who":{"users":["nora.bell"]},"rights":["control"],"on":{"devices":["mill-bridge"],"points":["mill-bridge/barriers"]},"expect":"never"}`)
	d.member("bridge-crew", "nora.bell", true)
	w.does(2, "Nora never", "source", "sync", "larkmere-directory")
	if w.opens("nora.bell").Allowed {
		t.Error("what breaks an expectation has counted")
	}
	d.member("bridge-crew", "nora.bell", false)

	d.kill()
	w.does(2, "cannot be reached", "source", "sync", "larkmere-directory")
	if status, _, text := w.ask("POST", "/api/v1/session", "", `{"user":"crew03","password":"the-password-of-crew03"}`); status != 502 || !strings.Contains(text, "does not answer") || strings.Contains(text, "127.0.0.1") {
		t.Errorf("signing in while the directory is gone: %d %s", status, text)
	}
	if crew() != before {
		t.Error("the directory is gone, and so is what it said")
	}
	d.start()
	w.does(0, "Nothing is other than it was", "source", "sync", "larkmere-directory")
}

// TestADirectoryIsReadByTheClock: at its hour, as whoever set it up if they still may; and not while it is paused.
func TestADirectoryIsReadByTheClock(t *testing.T) {
	t.Parallel()
	w, d, forward := withDirectory(t, personEntry("ana.lopes", "Ana Lopes")+groupEntry("bridge-crew", "ana.lopes"))
	w.source(d, "--map", "bridge-crew=bridge-crew", "--every", "30", "--paused")
	forward(31 * time.Minute)
	time.Sleep(1200 * time.Millisecond)
	if runs := get[wire.Source](w, "GET", "/api/v1/sources/larkmere-directory", "").Runs; len(runs) != 0 {
		t.Fatalf("it is paused, and was read: %+v", runs)
	}
	w.does(0, "", "source", "edit", "larkmere-directory", "--paused=false")
	forward(31 * time.Minute)
	w.until("the reading", func() bool { return w.opens("ana.lopes").Allowed })
	var src wire.Source
	w.until("that it is kept, after what it did", func() bool {
		src = get[wire.Source](w, "GET", "/api/v1/sources/larkmere-directory", "")
		return len(src.Runs) > 0
	})
	if len(src.Runs) != 1 || src.Runs[0].By != nil || src.Next == nil || src.Good == nil {
		t.Errorf("after the reading: %+v", src)
	}
}

// TestTenThousandFromADirectory comes through nested groups; entries that are renamed are the same people, and those that are deleted go.
func TestTenThousandFromADirectory(t *testing.T) {
	t.Parallel()
	const all = 10_000
	var ldif strings.Builder
	groups := map[int][]string{}
	for i := range all {
		id := fmt.Sprintf("p%05d", i)
		ldif.WriteString(personEntry(id, "Person "+id))
		groups[i%20] = append(groups[i%20], id)
	}
	outer := []string{}
	for g := range 20 {
		name := fmt.Sprintf("team-%02d", g)
		ldif.WriteString(groupEntry(name, groups[g]...))
		outer = append(outer, "cn="+name+",ou=groups,"+directoryBase)
	}
	ldif.WriteString(groupEntry("everyone-here", outer...))
	w, d, _ := withDirectory(t, ldif.String())
	w.source(d, "--map", "everyone-here=volunteers", "--map-prefix", "team-=team-*", "--make-groups")
	w.does(0, "10000 new, 0 changed, 0 back, 0 gone; 20000 memberships come", "source", "sync", "larkmere-directory")
	d.change(func(c *ldap.Conn) error {
		if err := c.ModifyDN(ldap.NewModifyDNRequest("uid=p00000,ou=people,"+directoryBase, "uid=renamed", true, "")); err != nil {
			return err
		}
		r := ldap.NewModifyRequest("cn=team-00,ou=groups,"+directoryBase, nil)
		r.Add("member", []string{"uid=renamed,ou=people," + directoryBase})
		r.Delete("member", []string{"uid=p00000,ou=people," + directoryBase})
		if err := c.Modify(r); err != nil {
			return err
		}
		return c.Del(ldap.NewDelRequest("uid=p00001,ou=people,"+directoryBase, nil))
	})
	w.does(0, "0 new, 0 changed, 0 back, 1 gone; 0 memberships come, 2 go", "source", "sync", "larkmere-directory")
	if got := get[wire.Source](w, "GET", "/api/v1/sources/larkmere-directory", ""); got.Users != all-1 || got.Members != 2*(all-1) || got.Groups != 20 {
		t.Errorf("%d users, %d memberships, %d groups", got.Users, got.Members, got.Groups)
	}
}

// TestASourceInTheConsole sets a directory up key by key: a name that nearly matches is told and taken, what a reading would do is seen before it counts, and what the
// directory keeps is changed there.
func TestASourceInTheConsole(t *testing.T) {
	t.Parallel()
	w, d, _ := withDirectory(t, personEntry("ana.lopes", "Ana Lopes")+personEntry("ben.rowe", "Ben Rowe")+personEntry("cleo.marsh", "Cleo Marsh")+personEntry("tomas.field", "Tomas Field")+
		groupEntry("bridge-crew", "ana.lopes", "ben.rowe", "tomas.field")+groupEntry("nav-locks-north", "cleo.marsh")+groupEntry("office", "cleo.marsh"))
	b := w.consoleAt("/people/sources")
	b.see("everything is kept here by hand")
	b.click("New source")
	b.fill("Name", "Larkmere directory")
	b.fill("Address of the directory", d.url)
	b.fill("People stand under", "ou=people,"+directoryBase)
	b.fill("Groups stand under", "ou=groups,"+directoryBase)
	b.fill("Read as", directoryReader)
	b.click("Save")
	b.see("with a name to read as goes a secret")
	b.fill("Name of the secret", "reader")
	b.click("Map a group")
	b.fill("Group there", "Bridge Crew")
	b.pick("Group here", "bridge", "Bridge crew")
	b.click("Try it")
	b.see(`there is no "Bridge Crew" there; "bridge-crew" has 3 members`)
	b.see("nothing maps it")
	b.accessible("a source that is set up")
	b.screenshot("source-mapping")
	b.click("Take bridge-crew")
	b.press("more", `//summary[contains(., "Certificate")]`)
	ca, err := os.ReadFile(d.ca)
	if err != nil {
		t.Fatal(err)
	}
	b.do("paste the certificate", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const e = document.querySelector("details textarea");
		Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(e, %q); e.dispatchEvent(new Event("input", {bubbles: true})); })()`, ca)))
	b.do("reload", chromedp.Reload())
	b.until("what was typed, after a reload", `[...document.querySelectorAll("input")].some(e => e.value === "bridge-crew")`)
	b.click("Save")
	b.see("not read yet")
	b.click("See what it would do")
	b.see("2 new, 2 memberships come")
	b.see(`there is a user "tomas.field" already (Tomas Field)`)
	b.see("gained")
	b.accessible("what a source would do")
	b.screenshot("source-look")
	b.click("Make it count")
	b.see("read as Ines Carvalho")
	b.see("2 people")
	b.fill("Some letters of a name", "tomas")
	b.click("Link")
	b.pick("Person", "tomas", "Tomas Field")
	b.clickLast("Link")
	b.see("comes with the next reading")
	b.open("/records/users/ana.lopes")
	b.see("From Larkmere directory")
	b.open("/records/users/ana.lopes/edit")
	b.see("change it there")
	if text := b.text("form"); strings.Contains(text, "E-mail") {
		t.Errorf("what the directory keeps is asked for: %s", text)
	}
	b.open("/records/user_groups/bridge-crew")
	b.see("2 memberships come from Larkmere directory")
	b.open("/check?user=ana.lopes&right=control&device=mill-bridge%2Fbarriers")
	b.see("is a member; kept by Larkmere directory")
}
