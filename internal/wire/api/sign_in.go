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
	Mails     bool          `json:"mails" doc:"A link to choose a new password by can be mailed"`
	Providers []OwnProvider `json:"providers" doc:"At which people can sign in"`
	Refused   string        `json:"refused,omitempty" doc:"Why this browser, which came back from a provider just now, was not let in; said once"`
	Provider  string        `json:"provider,omitempty" doc:"Which that was"`
}

// DeviceAsk is what somebody is asked to allow a program.
type DeviceAsk struct {
	Code    string    `json:"code"`
	Name    string    `json:"name" doc:"What the program says it is"`
	Agent   string    `json:"agent,omitempty"`
	Address string    `json:"address" doc:"From which it asks"`
	AskedAt time.Time `json:"askedAt"`
	Days    int       `json:"days" doc:"After which its token ends"`
}

// DeviceAnswer answers a program that asks to be let in.
type DeviceAnswer struct {
	Allow bool `json:"allow"`
}

// Provider is an OpenID provider at which people sign in.
type Provider struct {
	ID          string            `json:"id"`
	Name        string            `json:"name" doc:"As the sign-in page names it"`
	Issuer      string            `json:"issuer" doc:"Its address, as it calls itself"`
	ClientID    string            `json:"clientId"`
	HasSecret   bool              `json:"hasSecret" doc:"A secret of the client is kept; it is never shown"`
	Scopes      []string          `json:"scopes"`
	On          bool              `json:"on"`
	Believes    string            `json:"believes" enum:"none,verified,all" doc:"Which addresses that it gives are taken for the person's own, so that who has one signs in as the user with it"`
	Admits      string            `json:"admits" enum:"invited,mapped" doc:"invited: users that there are already; mapped: also whoever its claims give a role, or make somebody of the register"`
	PersonClaim string            `json:"personClaim,omitempty" doc:"The claim by which somebody of the register is known"`
	PersonKey   string            `json:"personKey,omitempty" enum:"identifier,email" doc:"What that claim is in the register"`
	Mappings    []ProviderMapping `json:"mappings"`
	Users       int               `json:"users" doc:"How many sign in there"`
	BackTo      string            `json:"backTo" doc:"Enter this there as the address to which people are sent back (redirect_uri)"`
	LogoutAt    string            `json:"logoutAt" doc:"Enter this there as the address for back-channel logout"`
	SignedOut   string            `json:"signedOut" doc:"Enter this there as the address after signing out (post_logout_redirect_uri)"`
	Version     int               `json:"version"`
}

// ProviderMapping gives a role to whoever a claim says something of.
type ProviderMapping struct {
	Claim string       `json:"claim" doc:"Its name, such as groups; a path with dots where it is inside another one"`
	Value string       `json:"value,omitempty" doc:"The value, or one of those of a list; any that is there when absent"`
	Grant NewRoleGrant `json:"grant"`

	ScopeName string `json:"scopeName,omitempty" doc:"Of the organisation, course or section; not needed when a provider is changed"`
	Issuer    string `json:"issuer,omitempty" doc:"Of the badges that may be awarded; not needed when a provider is changed"`
}

// EditProvider adds a provider, or says what it is from now on.
type EditProvider struct {
	Name        string            `json:"name"`
	Issuer      string            `json:"issuer"`
	ClientID    string            `json:"clientId"`
	Secret      *string           `json:"secret,omitempty" doc:"Kept as it is when absent; empty for none"`
	Scopes      []string          `json:"scopes,omitempty" doc:"profile and email when absent; openid is always asked for"`
	On          bool              `json:"on"`
	Believes    string            `json:"believes,omitempty" enum:"none,verified,all" default:"none"`
	Admits      string            `json:"admits,omitempty" enum:"invited,mapped" default:"invited"`
	PersonClaim string            `json:"personClaim,omitempty"`
	PersonKey   string            `json:"personKey,omitempty" enum:"identifier,email"`
	Mappings    []ProviderMapping `json:"mappings,omitempty"`
}

// ProviderCheck says whether a provider can be used.
type ProviderCheck struct {
	OK      bool     `json:"ok" doc:"It answers, and what it says of itself can be used; whether it takes the client is seen when somebody signs in"`
	Trouble string   `json:"trouble,omitempty"`
	Lacks   []string `json:"lacks" doc:"Scopes that it does not say it knows"`
}

// TryClaims asks what somebody would get of whom a provider says some claims.
type TryClaims struct {
	Claims map[string]any `json:"claims" doc:"As an ID token holds them"`
}

// ClaimsTrial is what they would get.
type ClaimsTrial struct {
	Mappings []MappingTrial `json:"mappings"`
	Person   string         `json:"person,omitempty" doc:"Who of the register they are"`
	Why      string         `json:"why,omitempty" doc:"They are nobody of the register"`
	User     string         `json:"user,omitempty" doc:"As whom they would sign in"`
	New      bool           `json:"new,omitempty" doc:"That user would be made"`
	Refused  string         `json:"refused,omitempty" doc:"Why they would not be let in"`
}

// MappingTrial is what came of one mapping.
type MappingTrial struct {
	Claim string `json:"claim"`
	Value string `json:"value,omitempty"`
	Role  string `json:"role"`
	Holds bool   `json:"holds"`
	Why   string `json:"why,omitempty" doc:"It does not hold"`
}

// OwnProvider is a provider at which somebody can sign in, or does.
type OwnProvider struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Email      string     `json:"email,omitempty" doc:"As it knows you"`
	SignedInAt *time.Time `json:"signedInAt,omitempty" doc:"Absent when you do not sign in there"`
}

// SignedOut says what is left to do after signing out.
type SignedOut struct {
	Next string `json:"next,omitempty" doc:"The provider's address at which you sign out there too"`
}
