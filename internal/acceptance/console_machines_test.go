package acceptance

import (
	"slices"
	"testing"

	"sentier/internal/wire"
)

// TestMachinesInTheConsole are seen as they stand, admitted by the key that they print, and taken away; one that is behind is told, and a change says how far it
// has come.
func TestMachinesInTheConsole(t *testing.T) {
	t.Parallel()
	servers := startLogServers(t, 1)
	w := startMachines(t, servers)
	w.follower(servers, "estuary", t.TempDir(), nil)
	_, _, stop := w.follower(servers, "twin-bridges", t.TempDir(), nil)
	b := w.console()
	b.open("/service/machines")
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
	b.open("/records/devices/twin-mast/edit")
	b.fill("Name", "Twin mast, new")
	b.click("Save")
	b.see("2 of 3 machines have it; not yet: twin-bridges")
	b.open("/service/machines")
	b.see("2 of 3 machines answer from revision 2.")
	b.see("1 revision behind")
	b.screenshot("machines")
	w.must("PATCH", "/api/v1/service", `{"behind_minutes":0}`)
	w.soon("a machine that has stopped is silent", func() bool {
		return slices.ContainsFunc(w.machines().List, func(m wire.Machine) bool { return m.State == "silent" || m.State == "behind" })
	})
	b.open("/")
	b.see("Machines that are behind, or not heard of")
	b.open("/service/machines")
	b.press("take twin-bridges away", `//button[@aria-label="Take away: twin-bridges"]`)
	b.see("What it records from now on")
	b.clickLast("Take away")
	b.see("All 2 machines answer from revision 2.")
}
