// Package refusal is how a use case says that a request cannot be carried out:
// what kind of refusal it is, which field it is about, and what to do next.
//
//	return refusal.Invalid("email", "%q is not an e-mail address", email)
package refusal

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"kanban/internal/core/finding"
)

// Kind of refusal.
type Kind string

// The kinds.
const (
	KindInvalid   Kind = "invalid"   // a value is missing or wrong
	KindConflict  Kind = "conflict"  // not possible in the present state
	KindForbidden Kind = "forbidden" // not allowed to this caller
)

// Error is one refusal.
type Error struct {
	Kind   Kind
	Field  string // the request's field, empty when it is about the whole
	Detail string
	Code   finding.Code // a finding that explains more, if any
}

func (e *Error) Error() string {
	if e.Field != "" {
		return e.Field + ": " + e.Detail
	}
	return e.Detail
}

// Invalid refuses a value.
func Invalid(field, format string, args ...any) error {
	return &Error{Kind: KindInvalid, Field: field, Detail: fmt.Sprintf(format, args...)}
}

// Conflict refuses what is not possible now.
func Conflict(code finding.Code, format string, args ...any) error {
	return &Error{Kind: KindConflict, Code: code, Detail: fmt.Sprintf(format, args...)}
}

// longestReason bounds a reason, in characters.
const longestReason = 500

// Reason gives what somebody wrote as the reason of what they do, without blanks around it.
// It refuses a missing one, saying what it is for, and one of more than 500 characters.
func Reason(text, purpose string) (string, error) {
	if text = strings.TrimSpace(text); text == "" {
		return "", Invalid("reason", "is missing: %s", purpose)
	}
	if n := utf8.RuneCountInString(text); n > longestReason {
		return "", Invalid("reason", "has %d characters, more than %d", n, longestReason)
	}
	return text, nil
}

// Forbidden refuses a caller.
func Forbidden(format string, args ...any) error {
	return &Error{Kind: KindForbidden, Detail: fmt.Sprintf(format, args...)}
}

// As finds the refusal in err.
func As(err error) (*Error, bool) {
	var e *Error
	ok := errors.As(err, &e)
	return e, ok
}
