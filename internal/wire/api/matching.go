package api

// AccountChoice says whose account it is, or is not.
type AccountChoice struct {
	AccountID string `json:"accountId" minLength:"1"`
	Not       bool   `json:"not,omitempty" doc:"It is not this person's"`
}

// Touched is somebody for whom a change would make a difference.
type Touched struct {
	PersonID string `json:"personId"`
	Name     string `json:"name"`
	Role     string `json:"role"`
	Section  string `json:"section"`
	Effect   string `json:"effect" doc:"What would be different"`
}

// Candidate is an account that could be somebody's.
type Candidate struct {
	AccountID string   `json:"accountId"`
	Name      string   `json:"name"`
	UserName  string   `json:"userName"`
	Email     string   `json:"email"`
	Active    bool     `json:"active"`
	Evidence  []string `json:"evidence" doc:"What speaks for it: equal identifier, address, user name or name"`
	Stored    bool     `json:"stored" doc:"Kanban takes it for this person's now"`
	Denied    bool     `json:"denied" doc:"Somebody said that it is not this person's"`
}
