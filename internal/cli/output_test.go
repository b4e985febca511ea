package cli

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
)

// TestColumnsAreFitted into the room that there is: the widest give way first, none is cut without need, none to nothing.
func TestColumnsAreFitted(t *testing.T) {
	for name, x := range map[string]struct {
		widths []int
		room   int
		want   []int
	}{
		"all fit":             {[]int{10, 20, 30}, 60, []int{10, 20, 30}},
		"the widest gives":    {[]int{10, 20, 30}, 50, []int{10, 20, 20}},
		"two give":            {[]int{10, 90, 30}, 50, []int{10, 20, 20}},
		"all give":            {[]int{40, 90, 60}, 30, []int{10, 10, 10}},
		"no room for a table": {[]int{40, 90}, 4, []int{6, 6}},
		"one column":          {[]int{90}, 40, []int{40}},
	} {
		got := slices.Clone(x.widths)
		if fit(got, x.room); !slices.Equal(got, x.want) {
			t.Errorf("%s: %v, not %v", name, got, x.want)
		}
	}
}

// TestTablesOfAnyWidth keep to it where six columns of a cell can, whatever letters their cells have, and say where they cut.
func TestTablesOfAnyWidth(t *testing.T) {
	s := sheet{head: []string{"ID", "NAME", "NOTE"}, rows: [][]string{
		{"mill-bridge", "Brückenwärter im Süden 橋の番人", "a note that goes on and on, as notes do"},
		{"x", "", "short"},
	}}
	for room := 30; room < 120; room++ {
		var out bytes.Buffer
		if err := s.table(&out, room); err != nil {
			t.Fatal(err)
		}
		for _, line := range strings.Split(out.String(), "\n") {
			if lipgloss.Width(line) > room {
				t.Fatalf("room %d: %q", room, line)
			}
		}
		whole := strings.Contains(out.String(), "as notes do") && strings.Contains(out.String(), "橋の番人")
		if cuts := strings.Contains(out.String(), "…"); cuts == whole {
			t.Errorf("room %d: cut %v, whole %v\n%s", room, cuts, whole, out.String())
		}
	}
}

// TestWhatCommandsTake is read off their first line of use.
func TestWhatCommandsTake(t *testing.T) {
	for use, want := range map[string]string{
		"show ID": "ID", "edit ID…": "ID…", "check USER RIGHT DEVICE[/POINT]": "USER RIGHT DEVICE", "copy ID [NEW-ID]": "ID NEW-ID",
		"move USER --to GROUP --from GROUP…": "USER", "add [ID] | add GROUP DEVICE…": "ID", "give": "", "tag DEVICE… --tag TAG": "DEVICE…",
	} {
		if got := strings.Join(argumentsOf(use), " "); got != want {
			t.Errorf("%q takes %q, not %q", use, got, want)
		}
	}
}
