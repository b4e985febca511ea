package service

import (
	"errors"
	"fmt"
	"strings"

	"sentier/internal/translate"
)

// The errors that callers tell apart.
var (
	// ErrNoOwner is that no policy is there yet, and so nobody who could sign in.
	ErrNoOwner = errors.New("there is no owner yet: make the first one with “sentier init --data DIR --owner USER”")
	// ErrNotFound is that a thing is not there, or that the caller may not see it.
	ErrNotFound = errors.New("there is no such thing")
	// ErrSignIn is that a user and a password do not go together; it does not say which is wrong.
	ErrSignIn = errors.New("the user or the password is wrong")
	// ErrTooMany is that sign-ins come too fast.
	ErrTooMany = errors.New("too many sign-ins: wait a minute, then try again")
	// ErrCredential is that a request carries no credential that holds.
	ErrCredential = errors.New("sign in, or send a token that holds, as “Authorization: Bearer …”")
)

// ForbiddenError is that a caller may not do a thing; Missing says what would let them.
type ForbiddenError struct{ Missing string }

func (e *ForbiddenError) Error() string { return "you may not do this: it takes " + e.Missing }

// LastOwnerError is that a change would leave no owner who can sign in.
type LastOwnerError struct{ Owners []string }

func (e *LastOwnerError) Error() string {
	return fmt.Sprintf("this would leave no owner who can sign in: %s must stay, active, valid and with a mandate of role owner",
		strings.Join(e.Owners, " or "))
}

// InputError is that a request cannot be understood; see [translate.InputError].
type InputError = translate.InputError
