package api

import (
	"time"

	"kanban/internal/core/rule"
)

// NewOffer says to which sections something that can be bought, or a membership, gives
// access.
type NewOffer struct {
	Name        string   `json:"name"`
	InterfaceID string   `json:"interfaceId" doc:"The service that reports purchases"`
	Offer       string   `json:"offer" doc:"As the service calls it"`
	SectionIDs  []string `json:"sectionIds,omitempty"`
	CourseID    string   `json:"courseId,omitempty" doc:"Instead of sections: the one of this course with the fewest learners, in the term that termRule names"`
	TermRule    string   `json:"termRule,omitempty" enum:"current,next" doc:"With a course: of the term that runs, or of the one that begins next"`
	PlatformID  string   `json:"platformId,omitempty" doc:"The interface through which people are enrolled; nobody is when absent"`
	GraceDays   int      `json:"graceDays,omitempty" doc:"How long access outlives its end"`
	AtEnd       string   `json:"atEnd" enum:"unenrol,mark" doc:"When access has ended: take people out, or only show it"`
	OnlyBuyers  bool     `json:"onlyBuyers,omitempty" doc:"Learners in the sections without access are shown as a disagreement"`
}

// Offer is an offer with what it gives.
type Offer struct {
	NewOffer
	ID         string `json:"id"`
	On         bool   `json:"on" doc:"While it is off it gives nothing and takes nothing"`
	Active     int    `json:"active" doc:"People who have access now, those in grace among them"`
	Ended      int    `json:"ended"`
	Mismatches int    `json:"mismatches" doc:"People whose access and enrolment do not agree"`
	Version    int    `json:"version"`
}

// Access is what one purchase, one membership or somebody by hand gives one person.
type Access struct {
	ID        string     `json:"id"`
	OfferID   string     `json:"offerId,omitempty" doc:"Absent when no offer says where it leads"`
	Offer     string     `json:"offer" doc:"Name of the offer, or what the service calls it when there is none"`
	Buyer     string     `json:"buyer,omitempty" doc:"Address under which it was bought, as far as it is known"`
	Name      string     `json:"name,omitempty" doc:"Name of the buyer, as the service gave it"`
	Order     string     `json:"order,omitempty" doc:"What is different for each purchase"`
	PersonID  string     `json:"personId,omitempty" doc:"Whose it is; absent while that is not known"`
	Person    string     `json:"person,omitempty"`
	Sections  []string   `json:"sections" doc:"Titles of the sections to which it gives access now"`
	State     string     `json:"state" enum:"active,grace,ended,none" doc:"none: it gives nothing although it should, see trouble, or leads nowhere"`
	Trouble   string     `json:"trouble,omitempty" doc:"Code of a finding: why it gives nothing"`
	Why       string     `json:"why,omitempty" doc:"The same in words"`
	StartedAt *time.Time `json:"startedAt,omitempty"`
	EndsOn    *time.Time `json:"endsOn,omitempty" doc:"When it ends or ended, its grace counted in"`
	GivenBy   string     `json:"givenBy,omitempty" doc:"Who gave it by hand; absent for what was bought"`
	Reason    string     `json:"reason,omitempty" doc:"Why it was given by hand"`
}

// NewAccess gives a person by hand what an offer leads to.
type NewAccess struct {
	PersonID string     `json:"personId"`
	Until    *time.Time `json:"until,omitempty" doc:"When it ends by itself; only by hand when absent"`
	Reason   string     `json:"reason"`
}

// Whose says whose a purchase is.
type Whose struct {
	PersonID string `json:"personId"`
}

// Ending ends something for a reason.
type Ending struct {
	Reason string `json:"reason"`
}

// Side is one person in one section, as access and enrolment see it.
type Side struct {
	OfferID   string     `json:"offerId"`
	Offer     string     `json:"offer"`
	SectionID string     `json:"sectionId"`
	Section   string     `json:"section"`
	PersonID  string     `json:"personId,omitempty"`
	Person    string     `json:"person"`
	Access    string     `json:"access" enum:"active,grace,ended,none"`
	EndsOn    *time.Time `json:"endsOn,omitempty" doc:"When access ends for good, its grace counted in"`
	Enrolled  bool       `json:"enrolled"`
	Delivery  string     `json:"delivery,omitempty" doc:"The latest delivery that was to enrol them or take them out"`
	State     string     `json:"state,omitempty" doc:"State of that delivery"`
	Verdict   string     `json:"verdict" enum:"agrees,on-its-way,marked,access-without-enrolment,enrolment-without-access"`
	Since     time.Time  `json:"since"`
}

// Unmapped is something that was bought and for which there is no offer.
type Unmapped struct {
	InterfaceID string    `json:"interfaceId"`
	Interface   string    `json:"interface"`
	Offer       string    `json:"offer"`
	Buyers      int       `json:"buyers"`
	Latest      time.Time `json:"latest"`
}

// MeaningTry are expressions to try on what a service reported.
type MeaningTry struct {
	Values map[string]string `json:"values,omitempty" doc:"By name: person, starts, ends, offer, order, buyerName, scores. Those that are absent stay as they are"`
}

// Meaning is what expressions make of the latest events of a service.
type Meaning struct {
	Mapping  map[string]string `json:"mapping" doc:"The expressions that were tried, by name"`
	Wrong    map[string]string `json:"wrong" doc:"Why an expression cannot be used at all, by name"`
	Examples []MeaningExample  `json:"examples" doc:"The latest events, the newest first"`
}

// MeaningExample is an event that a service reported, and what is made of it.
type MeaningExample struct {
	EventID  string            `json:"eventId"`
	At       time.Time         `json:"at"`
	Reported string            `json:"reported" doc:"The type that the service gave it"`
	Means    string            `json:"means" enum:"starts,ends,nothing,unclear" doc:"unclear when it would both start and end access, which is taken for neither"`
	Values   map[string]string `json:"values" doc:"What each expression gives"`
	Problems map[string]string `json:"problems" doc:"Why one gives nothing"`
	Known    string            `json:"known" doc:"Name of whom it is about, when the register knows them"`
	Leads    string            `json:"leads" doc:"Name of the offer to which it leads, when there is one"`
	Places   []rule.EventValue `json:"places" doc:"The values of the event, as expressions name them"`
}
