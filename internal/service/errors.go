package service

import (
	"fmt"

	"sentier/internal/identity"
	"sentier/internal/policy"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// The errors that callers tell apart.
var (
	// ErrNoOwner is that no policy is there yet, and so nobody who could sign in.
	ErrNoOwner = told("there is no owner yet: whoever has the code that the start has printed becomes the first one, in the console or with “sentier set-up”")
	// ErrNotFound is that a thing is not there, or that the caller may not see it.
	ErrNotFound = identity.ErrNotFound
	// ErrSignIn is that a user and a password do not go together; it does not say which is wrong.
	ErrSignIn = identity.ErrSignIn
	// ErrCredential is that a request carries no credential that holds.
	ErrCredential = identity.ErrCredential
	// ErrLink is that a link holds no more, or was never made.
	ErrLink = identity.ErrLink
)

// told makes an error that is one of its own, and is told as a sentence.
func told(form string) error { return fmt.Errorf("%w", policy.Say(form)) }

// TooManyError is that sign-ins come too fast; see [identity.TooManyError].
type TooManyError = identity.TooManyError

// Clip bounds what somebody else has written, for the interfaces; see [policy.Clip].
func Clip(text string) string { return policy.Clip(text) }

// mostName is how many characters the name may have of what is no record: a draft, a review, a source, a hook.
const mostName = 200

// checkName finds what is wrong with the name of what is no record.
func checkName(name string) error {
	if n := len([]rune(name)); n == 0 || n > mostName {
		return Wrong("name", "has %d characters: give it a name of 1 to %d", n, mostName)
	}
	return nil
}

// ExistsError is that a record was to be added under an id that is taken.
type ExistsError struct {
	Type policy.Type
	ID   string
}

func (e *ExistsError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *ExistsError) Unwrap() error {
	return policy.Say("there is a %s %q already: choose another id, or change that one", policy.Say(e.Type.Noun()), e.ID)
}

// GainsError is that a removal with its mentions would give somebody something: "Removing with its mentions".
type GainsError struct {
	Reasons []policy.Loosening
	Impact  *wire.Impact // who would gain what
}

func (e *GainsError) Error() string { return e.In(wording.English) }

// In says it in a language.
func (e *GainsError) In(words wording.Catalogue) string {
	return words.Say("problem.gains", "reasons", words.Loosened(e.Reasons))
}

// FullError is that the disk has no room for a change.
type FullError struct{ Dir string }

func (e *FullError) Error() string { return e.In(wording.English) }

// In says it in a language.
func (e *FullError) In(words wording.Catalogue) string {
	return words.Say("problem.full", "dir", e.Dir)
}

// UnsafeError is that the service answers, but changes nothing, as what it keeps may not be what it was.
type UnsafeError struct{ Why string }

func (e *UnsafeError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *UnsafeError) Unwrap() error { return policy.Say("nothing can be changed now: %s", e.Why) }

// LastOwnerError is that a change would leave no lasting owner.
type LastOwnerError struct{ Owners []string }

func (e *LastOwnerError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *LastOwnerError) Unwrap() error {
	return policy.Say("this would leave no lasting owner: %s must stay, active, able to sign in, and reached by a mandate of owner, all without an end", policy.Names(e.Owners))
}

// InputError is that a request cannot be understood; see [translate.InputError].
type InputError = translate.InputError

// Wrong makes an [InputError]; see [translate.Wrong].
func Wrong(field, form string, args ...any) *InputError { return translate.Wrong(field, form, args...) }
