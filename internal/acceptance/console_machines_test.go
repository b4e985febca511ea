package acceptance

import (
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"sentier/internal/daemon"
	"sentier/internal/wire"
)

// TestMachinesInTheConsole are seen as they stand, admitted by the key that they print, and taken away; one that is behind is told, and a change says how far it
// has come.
func TestMachinesInTheConsole(t *testing.T) {
	t.Parallel()
	servers := startLogServers(t, 1)
	clock := daemon.ClockFrom(testNow(t))
	var held atomic.Pointer[time.Time] // the time that the service has, whatever it is
	w := startWith(t, alive(t), func(o *daemon.Options) {
		o.Line = daemon.Line{URL: servers.url(), Machine: "control-room"}
		o.Clock = func() time.Time {
			if at := held.Load(); at != nil {
				return *at
			}
			return clock()
		}
	})
	estuary, _, _ := w.follower(servers, "estuary", t.TempDir(), nil)
	_, _, stop := w.follower(servers, "twin-bridges", t.TempDir(), nil)
	b := w.consoleAt("/service/machines")
	b.see("One machine writes")
	b.see("not admitted")
	b.accessible("the machines")
	for _, name := range []string{"estuary", "twin-bridges"} {
		b.press("admit "+name, `//button[@aria-label="Admit `+name+`"]`)
		b.see("Admit the machine " + name)
		b.clickLast("Admit")
		b.until(name+" is admitted", `!document.querySelector('[aria-label="Admit `+name+`"]')`)
	}
	b.see("All 3 machines answer from revision 1.")
	stop()
	at := clock()
	held.Store(&at) // however long it takes here: a machine is behind after 5 seconds, and not heard of after 15
	b.open("/records/devices/twin-mast/edit")
	b.fill("Name", "Twin mast, new")
	b.click("Save")
	b.see("2 of 3 machines have it; not yet: twin-bridges")
	b.open("/service/machines")
	b.see("2 of 3 machines answer from revision 2.")
	later := at.Add(8 * time.Second)
	held.Store(&later)
	b.see("1 revision behind")
	b.screenshot("machines")
	held.Store(nil)
	w.must("PATCH", "/api/v1/service", `{"behind_minutes":0}`)
	w.soon("a machine that has stopped is silent", func() bool {
		return slices.ContainsFunc(w.machines().List, func(m wire.Machine) bool { return m.State == "silent" || m.State == "behind" })
	})
	b.open("/")
	b.see("Machines that are behind, not heard of, or tell of a problem")
	b.open("/service/machines")
	b.press("take twin-bridges away", `//button[@aria-label="Take away: twin-bridges"]`)
	b.see("What it records from now on")
	b.clickLast("Take away")
	b.see("All 2 machines answer from revision 2.")
	b.url = estuary.url // whose copy is told from what is so, where it may not be any more
	b.open("/devices")
	b.see("Answered by estuary")
	b.until("nothing is the matter", `!document.body.innerText.includes("has heard nothing")`)
	b.accessible("a machine that follows")
	servers.stop()
	time.Sleep(10 * time.Second) // it takes a while until a line is thought to be cut
	b.see("estuary has heard nothing of the one that writes since")
	b.accessible("a machine that has heard nothing")
	servers.start()
	b.until("the line is there again", `!document.body.innerText.includes("has heard nothing")`)
}

// TestAnotherMachineWritesInTheConsole: who writes is seen, and handed over with a word.
func TestAnotherMachineWritesInTheConsole(t *testing.T) {
	t.Parallel()
	p := startPeers(t, startLogServers(t, 1), "control-room", "estuary")
	w := p.world(p.of[0])
	b := w.consoleAt("/service/machines")
	b.see("stands by")
	b.see("All 2 machines answer from revision 1.")
	b.accessible("machines that may write")
	b.press("have estuary write", `//button[@aria-label="Have it write: estuary"]`)
	b.see("It writes in the place of the machine that does now")
	b.clickLast("Have it write")
	b.until("the other machine stands by", `!!document.querySelector('[aria-label="Have it write: control-room"]')`)
	b.open("/records/devices/twin-mast/edit") // at the machine that wrote, which hands it on
	b.fill("Name", "Twin mast, new")
	b.click("Save")
	b.see("All 2 machines have it.")
	for path, want := range map[string]string{"estuary": "is the machine that writes", "made-up": "has been heard of"} {
		if status, _, text := w.ask("POST", "/api/v1/machines/"+path+"/promote", p.token, ""); status != 400 || !strings.Contains(text, want) {
			t.Errorf("%s is promoted: %d %s", path, status, text)
		}
	}
	w.soon("it can be handed back", func() bool {
		status, _, _ := w.ask("POST", "/api/v1/machines/control-room/promote", p.token, "")
		return status == 204
	})
}
