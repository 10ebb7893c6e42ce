package api

import "time"

// User may sign in, or was invited to.
type User struct {
	ID         string      `json:"id"`
	Name       string      `json:"name"`
	Email      string      `json:"email"`
	Grants     []RoleGrant `json:"grants" doc:"What they may be, and where"`
	PersonID   string      `json:"personId,omitempty" doc:"Who of the register they are: they teach and learn as it says"`
	State      string      `json:"state" enum:"active,invited" doc:"invited: they cannot sign in yet"`
	InvitedBy  string      `json:"invitedBy,omitempty"`
	CreatedAt  time.Time   `json:"createdAt"`
	SignedInAt *time.Time  `json:"signedInAt,omitempty" doc:"The last time"`
	Providers  []string    `json:"providers,omitempty" doc:"At which they sign in"`
	Codes      bool        `json:"codes,omitempty" doc:"Signs in with one-time codes besides the password"`
}

// NewUser invites somebody.
type NewUser struct {
	Name     string        `json:"name,omitempty" doc:"As the register has it when absent, of somebody of the register"`
	Email    string        `json:"email,omitempty" doc:"As the register has it when absent, of somebody of the register"`
	PersonID string        `json:"personId,omitempty" doc:"Who of the register they are: they teach and learn as it says"`
	Grant    *NewRoleGrant `json:"grant,omitempty" doc:"What they may be; needed unless they are somebody of the register"`
}

// Role is a role, what it allows and where it can be had.
type Role struct {
	Role    string   `json:"role"`
	Scopes  []string `json:"scopes" doc:"Where it can be had, the widest first: institution, organisation, course, section; taught and self are what the register says"`
	May     []string `json:"may" doc:"The acts that it allows in the whole institution"`
	MayPart []string `json:"mayPart" doc:"The acts that it allows in a part of it"`
	Given   bool     `json:"given" doc:"Whether somebody gives it; the others come from the register"`
	Token   bool     `json:"token" doc:"Whether a token of yours can be held to it: it allows no more than you may"`
}

// RoleGrant is a role that somebody has in a scope.
type RoleGrant struct {
	ID        string `json:"id"`
	Role      string `json:"role" enum:"administrator,operator,support,reader,awarder"`
	Scope     string `json:"scope" enum:"institution,organisation,course,section"`
	ScopeID   string `json:"scopeId,omitempty"`
	ScopeName string `json:"scopeName,omitempty" doc:"Absent when the register has it no more"`
	IssuerID  string `json:"issuerId,omitempty" doc:"Whose badges may be awarded; all when absent"`
	Issuer    string `json:"issuer,omitempty"`
	Provider  string `json:"provider,omitempty" doc:"Whose claims give it; each sign-in there gives it anew"`
}

// NewRoleGrant gives a role in a scope, at most what you may do yourself.
type NewRoleGrant struct {
	Role     string `json:"role" enum:"administrator,operator,support,reader,awarder"`
	Scope    string `json:"scope,omitempty" enum:"institution,organisation,course,section" default:"institution" doc:"An organisation is meant with all below it"`
	ScopeID  string `json:"scopeId,omitempty" doc:"Of the organisation, course or section"`
	IssuerID string `json:"issuerId,omitempty" doc:"For an awarder: whose badges; all when absent"`
}

// EditUser changes somebody; what is absent stays.
type EditUser struct {
	Name     *string `json:"name,omitempty"`
	Email    *string `json:"email,omitempty"`
	PersonID *string `json:"personId,omitempty" doc:"Who of the register they are; empty for nobody"`
	Role     *string `json:"role,omitempty" enum:"administrator,operator,support,reader,awarder" doc:"In the whole institution, in place of those that they have there"`
}

// Invitation is what came of inviting somebody.
type Invitation struct {
	User   User   `json:"user"`
	Mailed bool   `json:"mailed" doc:"The link was taken by the mail server"`
	Link   string `json:"link,omitempty" doc:"To hand over when it was not mailed; shown once, works once, for a week"`
	Why    string `json:"why,omitempty" doc:"It was not mailed"`
}

// AcceptInvitation chooses the password of somebody who was invited.
type AcceptInvitation struct {
	Secret   string `json:"secret" doc:"From the link"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty" doc:"A one-time code or a recovery code, of whoever has them"`
}

// NewPassword is another password for whoever is signed in.
type NewPassword struct {
	Old      string `json:"old"`
	Password string `json:"password"`
}
