package api

import "time"

// User may sign in, or was invited to.
type User struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Email      string     `json:"email"`
	Role       string     `json:"role" enum:"administrator,operator,support,reader"`
	State      string     `json:"state" enum:"active,invited" doc:"invited: they have not chosen a password yet"`
	InvitedBy  string     `json:"invitedBy,omitempty"`
	CreatedAt  time.Time  `json:"createdAt"`
	SignedInAt *time.Time `json:"signedInAt,omitempty" doc:"The last time with the password"`
}

// NewUser invites somebody.
type NewUser struct {
	Name  string `json:"name"`
	Email string `json:"email"`
	Role  string `json:"role" enum:"administrator,operator,support,reader" doc:"At most what you may do yourself"`
}

// EditUser changes somebody; what is absent stays.
type EditUser struct {
	Name  *string `json:"name,omitempty"`
	Email *string `json:"email,omitempty"`
	Role  *string `json:"role,omitempty" enum:"administrator,operator,support,reader"`
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
}

// NewPassword is another password for whoever is signed in.
type NewPassword struct {
	Old      string `json:"old"`
	Password string `json:"password"`
}
