package identity

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
)

// TestASecondFactorIsAskedForAndIsGoodOnce sets one up, signs in with it, and tries what somebody would who has the password alone.
func TestASecondFactorIsAskedForAndIsGoodOnce(t *testing.T) {
	ctx := t.Context()
	r, kept, now, _ := registry(t)
	if err := r.SetPassword(ctx, "ana", longPassword, false); err != nil {
		t.Fatal(err)
	}
	_, _, err := r.Begin(ctx, "ana", "192.0.2.1", false, false)
	if err != nil {
		t.Fatal(err)
	}
	session := kept.tokens[0].ID
	if _, err := r.ConfirmFactor(ctx, "ana", session, "telephone", "000000", "192.0.2.1"); err == nil {
		t.Error("a code was taken of nothing that is being set up")
	}
	begun, err := r.BeginFactor("ana", session)
	if err != nil {
		t.Fatal(err)
	}
	if len(begun.Drawn) < 21 || len(begun.Drawn[0]) != len(begun.Drawn) || !strings.HasPrefix(begun.URI, "otpauth://totp/Sentier:ana?") {
		t.Errorf("what is drawn is %d rows, the address is %s", len(begun.Drawn), begun.URI)
	}
	code := func() string {
		t.Helper()
		c, err := totp.GenerateCode(begun.Secret, *now)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	wrong := func(c string) string { // another code than the right one
		return map[bool]string{true: "111111", false: "000000"}[c == "000000"]
	}
	if _, err := r.ConfirmFactor(ctx, "ana", session, "telephone", wrong(code()), "192.0.2.1"); err == nil {
		t.Error("a wrong code was taken")
	}
	if _, err := r.ConfirmFactor(ctx, "ana", "another session", "telephone", code(), "192.0.2.1"); err == nil {
		t.Error("a code was taken in another session than the one that began")
	}
	recovery, err := r.ConfirmFactor(ctx, "ana", session, "telephone", code(), "192.0.2.1")
	if err != nil || len(recovery) != recoveryCodes || !r.HasFactor("ana") || !kept.tokens[0].Strong {
		t.Fatalf("%v, %d recovery codes, strong %v", err, len(recovery), kept.tokens[0].Strong)
	}
	prove := func(c string) error {
		strong, err := r.Prove(ctx, "ana", longPassword, c, "192.0.2.1")
		if err == nil && !strong {
			t.Errorf("with %q the sign-in is not strong", c)
		}
		return err
	}
	for what, c := range map[string]string{"no code": "", "the code that set it up": code(), "a wrong one": wrong(code()), "an empty recovery code": "----------------", "half of one": recovery[0][:9]} {
		if err := prove(c); !errors.Is(err, ErrCode) {
			t.Errorf("%s: %v", what, err)
		}
	}
	*now = now.Add(30 * time.Second)
	old := code()
	*now = now.Add(25 * time.Second)
	if err := prove(old[:3] + " " + old[3:]); err != nil { // as programs show it, and a step late
		t.Errorf("the code of the step before: %v", err)
	}
	if err := prove(old); !errors.Is(err, ErrCode) {
		t.Errorf("the same again: %v", err)
	}
	*now = now.Add(5 * time.Minute)
	if err := prove(old); !errors.Is(err, ErrCode) {
		t.Errorf("an old code: %v", err)
	}
	if err := prove(strings.ToLower(recovery[3])); err != nil {
		t.Errorf("a recovery code: %v", err)
	}
	if err := prove(recovery[3]); !errors.Is(err, ErrCode) {
		t.Errorf("the same again: %v", err)
	}
	again, err := Open(ctx, r.Around)
	if err != nil || !again.HasFactor("ana") || again.HasFactor("ben") {
		t.Errorf("after a restart the second factor is not known: %v", err)
	}
	if err := r.DropFactor(ctx, "ben", kept.factors[0].ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("somebody else took it away: %v", err)
	}
	if err := r.DropFactor(ctx, "ana", ""); err != nil || r.HasFactor("ana") {
		t.Errorf("taken away: %v", err)
	}
	if strong, err := r.Prove(ctx, "ana", longPassword, "", "192.0.2.1"); err != nil || strong {
		t.Errorf("without one: %v, strong %v", err, strong)
	}
}
