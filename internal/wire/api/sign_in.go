package api

import "time"

// SignInSettings are what holds for everybody who signs in.
type SignInSettings struct {
	CodesRequired []string `json:"codesRequired" doc:"Roles that need one-time codes besides the password: administrator, operator, support, reader, awarder, teacher, learner"`
}

// Codes says how it stands with somebody's one-time codes (RFC 6238).
type Codes struct {
	OnSince      *time.Time `json:"onSince,omitempty" doc:"Absent while they are off"`
	RecoveryLeft int        `json:"recoveryLeft" doc:"Recovery codes that were not used"`
	Required     bool       `json:"required" doc:"A role needs them"`
}

// BeginCodes begins to set up one-time codes.
type BeginCodes struct {
	Password string `json:"password"`
}

// NewCodes is what an app is told that shows one-time codes.
type NewCodes struct {
	Secret  string `json:"secret" doc:"In base32, for typing in"`
	Address string `json:"address" doc:"otpauth://totp/…"`
	Picture string `json:"picture" doc:"The address as a QR code: a data: address of a PNG"`
}

// Code is a one-time code, or a recovery code where one is taken.
type Code struct {
	Code string `json:"code"`
}

// RecoveryCodes let somebody in who has lost the app; each works once.
type RecoveryCodes struct {
	Codes []string `json:"codes" doc:"Shown once"`
}

// Reset asks for a link by which a new password is chosen.
type Reset struct {
	Email string `json:"email"`
}

// WaysIn says how people can sign in.
type WaysIn struct {
	Mails bool `json:"mails" doc:"A link to choose a new password by can be mailed"`
}
