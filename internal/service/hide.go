package service

import (
	"errors"
	"reflect"

	"sentier/internal/authority"
	"sentier/internal/policy"
)

// hide keeps what is wrong with a change from telling of records that its author may not see.
func hide(now *State, v authority.View, err error) error {
	if err == nil || v.Whole() {
		return err
	}
	var faults policy.Faults
	if errors.As(err, &faults) {
		out := make(policy.Faults, len(faults))
		for i, f := range faults {
			if out[i] = f; unseen(now, v, f.Type, f.ID) {
				out[i] = policy.Fault{Index: -1, Type: policy.SettingsType, Problem: inTheWay}
			} else if tells(now, v, f.Problem) {
				out[i].Problem = inTheWay
			}
		}
		return out
	}
	var conflict *ConflictError
	if errors.As(err, &conflict) && conflict.Current != nil && !v.Sees(conflict.Current) {
		return ErrNotFound
	}
	var unmet *UnmetError
	if errors.As(err, &unmet) {
		return &UnmetError{}
	}
	var later *LaterError
	var gains *GainsError
	if errors.As(err, &later) || errors.As(err, &gains) {
		return &ForbiddenError{Missing: policy.Say("a mandate for all that it is about")}
	}
	return err
}

var inTheWay = policy.Say("something that you may not see stands in the way: ask an owner")

func unseen(now *State, v authority.View, t policy.Type, id string) bool {
	r, ok := now.Policy.Get(t, id)
	return ok && !v.Sees(r)
}

// tells whether a sentence names a record that may not be seen.
func tells(now *State, v authority.View, said policy.Said) bool {
	for _, arg := range said.Args {
		if inner, ok := arg.(policy.Said); ok {
			if tells(now, v, inner) {
				return true
			}
			continue
		}
		id := reflect.ValueOf(arg)
		for _, t := range policy.Types() {
			if id.Kind() == reflect.String && unseen(now, v, t, id.String()) {
				return true
			}
		}
	}
	return false
}
