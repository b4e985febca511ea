package demo

import (
	"bytes"
	"testing"

	"sentier/internal/document"
	"sentier/internal/policy"
)

// TestGrownHasTheShapeThatTheFiguresTell: four groups a user, two listed groups a device, 20,000 lines, the same each time.
func TestGrownHasTheShapeThatTheFiguresTell(t *testing.T) {
	p, err := Grown(300, 200)
	if err != nil {
		t.Fatal(err)
	}
	own, err := Policy()
	if err != nil {
		t.Fatal(err)
	}
	if n := p.Table(policy.Users).Len() - own.Table(policy.Users).Len(); n != 300 {
		t.Errorf("%d more users", n)
	}
	if n := p.Table(policy.Devices).Len() - own.Table(policy.Devices).Len(); n != 200 {
		t.Errorf("%d more devices", n)
	}
	memberships, listings, lines := 0, 0, 0
	for g := range policy.Each[*policy.UserGroup](p) {
		if _, ok := own.Get(policy.UserGroups, g.Key()); !ok {
			memberships += len(g.Members)
		}
	}
	for g := range policy.Each[*policy.DeviceGroup](p) {
		if _, ok := own.Get(policy.DeviceGroups, g.Key()); !ok {
			listings += len(g.Devices)
		}
	}
	for g := range policy.Each[*policy.Grant](p) {
		if _, ok := own.Get(policy.Grants, g.Key()); !ok {
			lines += len(g.Lines)
		}
	}
	if memberships != 4*300 || listings != 2*200 || lines != 20_000 {
		t.Errorf("%d memberships, %d listings, %d lines", memberships, listings, lines)
	}
	again, err := Grown(300, 200)
	if err != nil {
		t.Fatal(err)
	}
	a, err := document.WritePolicy(p, document.YAML)
	if err != nil {
		t.Fatal(err)
	}
	b, err := document.WritePolicy(again, document.YAML)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(a, b) {
		t.Error("the same numbers make another policy")
	}
}
