package api

import (
	"time"

	"kanban/internal/core/rule"
)

// NewOffer says to which sections something that can be bought, or a membership, gives
// access.
type NewOffer struct {
	Name         string   `json:"name"`
	ConnectionID string   `json:"connectionId" doc:"The service that tells about purchases"`
	Offer        string   `json:"offer" doc:"As the service calls it"`
	SectionIDs   []string `json:"sectionIds,omitempty"`
	CourseID     string   `json:"courseId,omitempty" doc:"Instead of sections: the one of this course with the fewest learners, in the term that termRule names"`
	TermRule     string   `json:"termRule,omitempty" enum:"current,next" doc:"With a course: of the term that runs, or of the one that begins next"`
	PlatformID   string   `json:"platformId,omitempty" doc:"The connection through which people are enrolled; nobody is when absent"`
	GraceDays    int      `json:"graceDays,omitempty" doc:"How long access outlives its end"`
	AtEnd        string   `json:"atEnd" enum:"unenrol,mark" doc:"When access has ended: take people out, or only show it"`
	OnlyBuyers   bool     `json:"onlyBuyers,omitempty" doc:"Learners in the sections without access are shown as a disagreement"`
}

// Offer is an offer with what it gives.
type Offer struct {
	NewOffer
	ID      string `json:"id"`
	Active  int    `json:"active" doc:"People who have access now, those in grace among them"`
	Ended   int    `json:"ended"`
	Amiss   int    `json:"amiss" doc:"People whose access and enrolment do not go together"`
	Version int    `json:"version"`
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
	ConnectionID string    `json:"connectionId"`
	Connection   string    `json:"connection"`
	Offer        string    `json:"offer"`
	Buyers       int       `json:"buyers"`
	Latest       time.Time `json:"latest"`
}

// MeaningTry are expressions to try on what a service reported.
type MeaningTry struct {
	Values map[string]string `json:"values,omitempty" doc:"By name: person, starts, ends, offer, order, buyerName. Those that are absent stay as they are"`
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
	Places   []rule.Place      `json:"places" doc:"The values of the event, as expressions name them"`
}
