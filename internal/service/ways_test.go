package service

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// TestEveryWayTakesItsSteps has one forbidden thing of each kind done by every way in: it is refused, unless the row of the way says why that step is left out.
func TestEveryWayTakesItsSteps(t *testing.T) {
	t.Parallel()
	control := policy.Change{Op: policy.Put, Type: policy.Grants, ID: "new", Record: &policy.Grant{ID: "new", Name: "New", Enabled: policy.On,
		To: policy.To{Users: []policy.UserID{"noor.haddad"}}, Lines: []policy.Line{{Rights: []policy.RightID{policy.Control}, On: policy.Where{Devices: []policy.DeviceID{"mill-bridge"}}}}}}
	breaks := policy.Change{Op: policy.Put, Type: policy.Grants, ID: "new", Record: &policy.Grant{ID: "new", Name: "New", Enabled: policy.On,
		To: policy.To{Users: []policy.UserID{"night-backup"}}, Lines: []policy.Line{{Rights: []policy.RightID{policy.Control}, On: policy.Where{Devices: []policy.DeviceID{"mill-bridge"}}}}}}
	harmless := policy.Change{Op: policy.Patch, Type: policy.Devices, ID: "mill-bridge", Patch: []byte(`{"note":"x"}`)}
	for way, row := range ways {
		if way == WayRecovery || way == WayIntoDraft { // the one is no change of a service that runs, and the other changes nothing yet
			continue
		}
		t.Run(string(way), func(t *testing.T) {
			t.Parallel()
			s, owner := larkmere(t)
			try := func(c Caller, o EditOptions, change policy.Change) error {
				o.way = way
				now := s.State()
				_, _, err := s.edit(t.Context(), c, &o, func(*State) ([]policy.Change, error) { return []policy.Change{change}, nil })
				if err == nil {
					if _, _, err := s.edit(t.Context(), owner, &EditOptions{way: WayDraftEnd}, func(now2 *State) ([]policy.Change, error) {
						return policy.Changes(now2.Policy.Compare(now.Policy)), nil
					}); err != nil {
						t.Fatal(err)
					}
				}
				return err
			}
			hold := func(step Step, err error, as any) {
				t.Helper()
				_, leaves := row.leaves[step]
				switch {
				case leaves && err != nil:
					t.Errorf("%s is left out by its row, and was taken: %v", step, err)
				case !leaves && !errors.As(err, as):
					t.Errorf("%s was not taken: %v", step, err)
				}
			}
			hold(StepPermit, try(Caller{User: "noor.haddad", Via: "token"}, EditOptions{}, harmless), new(*ForbiddenError))
			hold(StepExpectations, try(owner, EditOptions{}, breaks), new(*UnmetError))
			set := s.settings.Load().ServiceSettings
			set.Approval = wire.ApprovalRules{Control: true, Everyone: true, Everything: true, Mandates: true, MoreThan: 3}
			s.setSettings(set)
			hold(StepApproval, func() error {
				err := try(owner, EditOptions{digest: "made up", about: "made up"}, control)
				if errors.Is(err, ErrNotFound) || err != nil && strings.Contains(err.Error(), "not found") { // what was agreed to is looked up, and is not there
					return &ApprovalError{}
				}
				return err
			}(), new(*ApprovalError))
			none := func() error {
				o := EditOptions{way: way}
				_, _, err := s.edit(t.Context(), owner, &o, func(*State) ([]policy.Change, error) {
					return []policy.Change{{Op: policy.Remove, Type: policy.Mandates, ID: "deputy"}, {Op: policy.Remove, Type: policy.Mandates, ID: "owners"}}, nil
				})
				return err
			}()
			if !errors.As(none, new(*LastOwnerError)) {
				t.Errorf("no owner was left: %v", none)
			}
			if len(row.as) == 0 || len(row.what) == 0 || slices.Contains(slices.Collect(maps.Values(row.leaves)), "") {
				t.Error("its row does not say what comes by it, as whom, and why steps are left out")
			}
		})
	}
}

// TestNoFlagSaysThatItWasAgreedTo: what leaves a step out is the table alone.
func TestNoFlagSaysThatItWasAgreedTo(t *testing.T) {
	names, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			lit, ok := n.(*ast.CompositeLit)
			if !ok {
				return true
			}
			if name, ok := lit.Type.(*ast.Ident); !ok || name.Name != "EditOptions" {
				return true
			}
			for _, e := range lit.Elts {
				key := e.(*ast.KeyValueExpr).Key.(*ast.Ident).Name
				if slices.Contains([]string{"second", "sourced", "unsaid", "agreed"}, key) {
					t.Errorf("EditOptions is given %s", key)
				}
			}
			return true
		})
	}
}
