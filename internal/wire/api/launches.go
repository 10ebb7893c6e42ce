package api

import "time"

// RegistrationAddress is an address that the administrator of a course platform pastes there, once.
type RegistrationAddress struct {
	ID          string     `json:"id"`
	Name        string     `json:"name" doc:"Of the connection that is made"`
	Address     string     `json:"address,omitempty" doc:"Shown once, when it is made"`
	MadeBy      string     `json:"madeBy"`
	CreatedAt   time.Time  `json:"createdAt"`
	ExpiresAt   time.Time  `json:"expiresAt"`
	UsedAt      *time.Time `json:"usedAt,omitempty"`
	InterfaceID string     `json:"interfaceId,omitempty" doc:"Of the platform that has joined by it"`
}

// NewRegistrationAddress asks for one.
type NewRegistrationAddress struct {
	Name string `json:"name" minLength:"1" maxLength:"200" doc:"By which people know the platform"`
}

// ToolAddresses are what somebody enters at a platform that is joined by hand.
type ToolAddresses struct {
	Login  string            `json:"login" doc:"Where launches begin (initiate login URL)"`
	Launch string            `json:"launch" doc:"Where links lead and browsers come back to (target link URL, redirect URL)"`
	Keys   string            `json:"keys" doc:"Where the keys of this installation can be read (public keyset URL, JWKS)"`
	Custom map[string]string `json:"custom" doc:"Custom parameters, with the variables that the platform replaces"`
}

// Deployment is by what a platform opens links.
type Deployment struct {
	ID         string     `json:"id"`
	Deployment string     `json:"deployment" doc:"As the platform calls it"`
	Admitted   bool       `json:"admitted" doc:"Its links open pages"`
	AdmittedBy string     `json:"admittedBy,omitempty"`
	AdmittedAt *time.Time `json:"admittedAt,omitempty"`
	FirstAt    time.Time  `json:"firstAt"`
	LatestAt   time.Time  `json:"latestAt"`
	Courses    int        `json:"courses" doc:"Course pages in which links were opened"`
}

// Admission says whether a deployment's links open pages.
type Admission struct {
	Admitted bool `json:"admitted"`
}

// CoursePage is a course of a platform in which links were opened.
type CoursePage struct {
	ID        string       `json:"id"`
	Label     string       `json:"label" doc:"As the platform calls it"`
	Title     string       `json:"title"`
	Sections  []SectionRef `json:"sections" doc:"That it is about; none where that is not known"`
	DecidedBy string       `json:"decidedBy,omitempty" doc:"Who said so; absent where the platform's own ids say it"`
	FirstAt   time.Time    `json:"firstAt"`
	LatestAt  time.Time    `json:"latestAt"`
	People    int          `json:"people" doc:"Who opened it"`
}

// CoursePageSections says which sections a course page is about.
type CoursePageSections struct {
	Sections []string `json:"sections" maxItems:"50" doc:"Ids; none lets the platform's own ids say it again"`
}

// PageOpening is how often somebody opened a course page.
type PageOpening struct {
	PersonID string     `json:"personId"`
	Name     string     `json:"name"`
	Role     string     `json:"role" doc:"In the register"`
	Times    int64      `json:"times" doc:"0 when they never did"`
	FirstAt  *time.Time `json:"firstAt,omitempty"`
	LatestAt *time.Time `json:"latestAt,omitempty"`
}

// Unrecognised is somebody who opened a link and is nobody of the register.
type Unrecognised struct {
	ID         string    `json:"id"`
	Subject    string    `json:"subject" doc:"As the platform calls them"`
	Name       string    `json:"name,omitempty"`
	Email      string    `json:"email,omitempty"`
	Identifier string    `json:"identifier,omitempty" doc:"The register's, as far as the platform says it"`
	Why        string    `json:"why" doc:"Nobody was recognised"`
	LatestAt   time.Time `json:"latestAt"`
}

// WhoItIs says who of the register somebody is.
type WhoItIs struct {
	PersonID string `json:"personId" minLength:"1"`
}

// CoursePageCandidate is a section that a course page could be about, with what speaks for it.
type CoursePageCandidate struct {
	Section SectionRef `json:"section"`
	Shared  int        `json:"shared" doc:"Who opened the page and is in the section"`
	Opened  int        `json:"opened" doc:"Who opened it and was recognised"`
	Similar int        `json:"similar" doc:"How similar both are called, of 100"`
}
